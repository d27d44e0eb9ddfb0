"""Where rulebooks lie: the site's ``rulebooks/``, the person's config folder, then the package."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

from roundgate.core.nearest import nearest
from roundgate.core.next_step import did_you_mean, typed_command
from roundgate.core.rulebook.raw_books import BookReader, RawBook, layered
from roundgate.core.rulebook.toml import RulebookProblem
from roundgate.host.cache import ParsedFiles
from roundgate.host.errors import Trouble
from roundgate.host.site import STATE_FOLDER

if TYPE_CHECKING:
    from roundgate.core.rulebook.model import Rulebook

_BUNDLED = Path(__file__).parent.parent / "rulebooks"


class BrokenRulebook(Trouble):
    """A rulebook cannot be used; ``problem`` says where it is wrong."""

    def __init__(self, problem: RulebookProblem) -> None:
        """Report the first mistake with its line and column."""
        first = problem.findings[0]
        place = first.place
        at = f"{place.file}:{place.line}:{place.column}"
        super().__init__(f"The rulebook is broken at {at}: {first.cause}", first.do)
        self.excerpt = f"  {place.source}\n  {' ' * (place.column - 1)}^" if place.source else ""
        self.problem = problem


def _folders(site: Path | None, parsed: ParsedFiles) -> list[Path]:
    return [*([site / "rulebooks"] if site else []), parsed.person_folder(), _BUNDLED]


_PARSED: dict[Path | None, ParsedFiles] = {}


def _parsed(site: Path | None) -> ParsedFiles:
    known = _PARSED.get(site)
    if known is None or known.path is None:  # its state folder may be there by now
        known = _PARSED[site] = ParsedFiles(site / STATE_FOLDER if site else None)
    return known


def rulebook_names(site: Path | None) -> list[str]:
    """List the rulebooks there are, the nearest first."""
    folders = _folders(site, _parsed(site))
    names = [path.stem for folder in folders if folder.is_dir() for path in sorted(folder.glob("*.toml"))]
    return list(dict.fromkeys(names))


def load_rulebook(name: str, site: Path | None, *, checked: bool = False) -> Rulebook:
    """Load a rulebook by its name; the empty name gives the one that knows nothing.

    Raises BrokenRulebook with the place of the mistake, or Trouble where there is no such rulebook.
    """
    if not name:
        from roundgate.core.rulebook.model import NO_RULEBOOK

        return NO_RULEBOOK
    parsed = _parsed(site)
    folders = _folders(site, parsed)
    known = _LOADED.get((name, site, checked))
    if known is not None and all(_mark(folders, layer) == mark for layer, mark in known[0].items()):
        return known[1]
    marks: dict[str, _Mark] = {}
    by_name = _reader(folders, parsed)

    def read(layer: str) -> RawBook:
        marks[layer] = _mark(folders, layer)
        return by_name(layer)

    book = _load(name, read, site, checked=checked)
    _LOADED[name, site, checked] = (marks, book)
    return book


def mistake_in(name: str, site: Path | None) -> BrokenRulebook | None:
    """Check a rulebook whole, as ``rulebook check`` does; None where it is right. Those of this package are.

    A rulebook is read without its full check, which would cost every command its time; what is wrong in it shows later,
    as a value that cannot be read or a pattern that cannot be compiled. Raises Trouble.
    """
    try:
        load_rulebook(name, site)
        layers = _LOADED[name, site, False][0] if name else {}
        if any(mark is None or mark[0] != str(_BUNDLED) for mark in layers.values()):
            load_rulebook(name, site, checked=True)
    except BrokenRulebook as error:
        return error
    return None


_Mark = tuple[str, int, int] | None
"""Which file a rulebook is in, its time and its size."""
_LOADED: dict[tuple[str, Path | None, bool], tuple[dict[str, _Mark], Rulebook]] = {}
"""The rulebooks that this process has loaded: a site may have hundreds of servers of one game."""


def _mark(folders: list[Path], name: str) -> _Mark:
    for folder in folders:
        with suppress(OSError):
            found = (folder / f"{name}.toml").stat()
            return str(folder), found.st_mtime_ns, found.st_size
    return None


def layers_beneath(name: str, site: Path | None) -> list[RawBook]:
    """Return a rulebook and its layers as their files have them, the lowest first. Raises as ``load_rulebook``."""
    load_rulebook(name, site)
    parsed = _parsed(site)
    return layered(name, _reader(_folders(site, parsed), parsed))


def check_rulebook(word: str, site: Path | None) -> Rulebook:
    """Load a rulebook by its name or its file, and check all that it refers to. Raises as ``load_rulebook``."""
    path, parsed = Path(word), _parsed(site)
    if path.suffix != ".toml":
        return load_rulebook(word, site, checked=True)
    by_name = _reader([path.parent, *_folders(site, parsed)], parsed)
    return _load(word, lambda name: _raw(path, parsed) if name == word else by_name(name), site, checked=True)


def _load(name: str, reader: BookReader, site: Path | None, *, checked: bool) -> Rulebook:
    from roundgate.core.rulebook.reading import read_rulebook  # completion needs the raw tables alone

    try:
        return read_rulebook(name, reader, checked=checked)
    except RulebookProblem as error:
        raise BrokenRulebook(error) from error
    except KeyError as error:
        near = nearest(str(error.args[0]), rulebook_names(site))
        hint = did_you_mean(name, near) if near else typed_command("rulebook list")
        raise Trouble(f"There is no rulebook '{error.args[0]}'.", hint) from error


def _reader(folders: list[Path], parsed: ParsedFiles) -> BookReader:
    def read(name: str) -> RawBook:
        path = next((path for folder in folders if (path := folder / f"{name}.toml").is_file()), None)
        if path is None:
            raise KeyError(name)
        return _raw(path, parsed)

    return read


def _raw(path: Path, parsed: ParsedFiles) -> RawBook:
    try:
        return RawBook(str(path), parsed.toml(path), lambda: path.read_text("utf-8"))
    except (OSError, UnicodeDecodeError) as error:
        raise Trouble(f"The rulebook {path} cannot be read: {error}.", "Fix the file or its permissions.") from error


def raw_layers(name: str, site: Path) -> list[dict[str, Any]]:
    """Return a rulebook and its layers as parsed, without making a model of it; nothing where it is broken."""
    parsed = _parsed(site)
    reader = _reader(_folders(site, parsed), parsed)
    try:
        return [layer.raw for layer in layered(name, reader)] if name else []
    except (KeyError, RulebookProblem, Trouble):
        return []
