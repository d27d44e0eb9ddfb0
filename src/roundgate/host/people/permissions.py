"""The site's own catalogue of permissions: what mods add to those that a rulebook knows."""

from __future__ import annotations

import re
from collections.abc import Collection
from functools import lru_cache
from pathlib import Path

from msgspec import Struct, ValidationError
from msgspec.structs import replace
from msgspec.toml import decode

from roundgate.core.formats import FORMATS, apply_edit
from roundgate.core.formats.protocol import EditRefused
from roundgate.core.rulebook.model import Rulebook
from roundgate.core.text import decode as decode_text
from roundgate.host.errors import Trouble
from roundgate.host.files import read_bytes, write_durably
from roundgate.host.site import CATALOGUE, Site

_NAME = re.compile(r"(?<![\w.\-/:@])[A-Za-z_][\w-]*(?:\.[\w-]+)*\.(?:[\w-]+|\*)(?![\w/@]|:[\w/]|\.\w)")
"""A name with dots in it, which is not part of a path or an address."""
_HEADER = b"""# Permissions that mods add, by rulebook. 'roundgate ranks catalogue --from FILE' adds to it.

[permissions]
"""
_ENDINGS = ("json", "yml", "yaml", "toml", "txt", "ini", "cfg", "lua", "xml", "properties", "jar", "com", "org", "net")


class _File(Struct, frozen=True, forbid_unknown_fields=True):
    permissions: dict[str, tuple[str, ...]] = {}


def names_in(text: str) -> list[str]:
    """Return the permissions that stand in any list or table: names of parts with dots between, each once."""
    found = (name for name in _NAME.findall(text) if name.rpartition(".")[2].lower() not in _ENDINGS)
    return list(dict.fromkeys(name for name in found if not name.replace(".", "").isdigit()))


def load_catalogue(site: Site) -> dict[str, tuple[str, ...]]:
    """Return the site's own permissions, by rulebook. Raises Trouble where the file cannot be read."""
    path = site.folder / CATALOGUE
    try:
        found = path.stat()
    except OSError:
        return {}
    return _read(str(path), (found.st_ino, found.st_mtime_ns, found.st_size))


@lru_cache(maxsize=2)
def _read(path: str, _version: tuple[int, int, int]) -> dict[str, tuple[str, ...]]:
    raw = read_bytes(path)
    try:
        return decode(raw or b"", type=_File).permissions
    except (ValidationError, ValueError) as error:
        raise Trouble(f"{Path(path).name} cannot be read: {error}.", f"Correct {path}.") from error


def add_permissions(site: Site, rulebook: str, names: Collection[str]) -> list[str]:
    """Add permissions to the site's own of a rulebook; return those that were not there. Raises Trouble."""
    known = load_catalogue(site)
    mine = known.get(rulebook, ())
    new = [name for name in names if name not in mine]
    if not new:
        return []
    path = site.folder / CATALOGUE
    kind = FORMATS["toml"]
    document = kind.read(decode_text(read_bytes(str(path)) or _HEADER))
    try:
        if mine:
            for number, name in enumerate(new, start=len(mine)):
                document = apply_edit(kind, document, document.insert(("permissions", rulebook, number), name))
        else:
            document = apply_edit(kind, document, document.set(("permissions", rulebook), new))
    except EditRefused as error:
        raise Trouble(f"{CATALOGUE}: {error}.", f"Correct {path}.") from error
    write_durably(str(path), document.text.encode(), 0o644)
    return new


def with_catalogue(book: Rulebook, site: Site) -> Rulebook:
    """Return a rulebook that knows the site's own permissions too, where it lists any itself."""
    if not book.ranks:
        return book
    more = load_catalogue(site).get(book.name, ())
    if not more:
        return book
    ranks = {
        name: replace(spec, permissions={**dict.fromkeys(more, ""), **spec.permissions}) if spec.permissions else spec
        for name, spec in book.ranks.items()
    }
    return replace(book, ranks=ranks)
