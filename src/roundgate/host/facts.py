"""What holds of a server beside its files, looked at when a rule or a setting asks for it."""

from __future__ import annotations

import os
from collections.abc import Callable
from contextlib import suppress
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

from roundgate.core.facts import Facts
from roundgate.core.rulebook.expansion import placeholder
from roundgate.core.rulebook.model import Version
from roundgate.host.errors import Trouble
from roundgate.host.places import Folder
from roundgate.host.site_file.tables import ServerEntry

if TYPE_CHECKING:
    from roundgate.host.rented.mirror import Mirror

_BEGINNING = 100_000
"""Bytes of a log in which a server's version is looked for: it is written at the start."""
_MOST_LINES = 1000


def facts_of(
    name: str, home: Folder, entry: ServerEntry, version: Callable[[], Version | None], mirror: Mirror | None = None
) -> Facts:
    """Return the facts of a server; ``version`` tells where its rulebook says that its version is.

    ``mirror`` is what brings the files of a rented one here. Of its machine nothing is known.
    """
    folder = Path(home.root)
    known: dict[str, Any] = {}

    def value(fact: str) -> Any:
        if fact not in known:
            known[fact] = _value(fact)
        return known[fact]

    def _value(fact: str) -> Any:
        if fact == "server.version":
            where = version()
            return entry.version or (version_in(home, where) if where else "") or None
        plain = {
            "server.name": name,
            "server.folder": str(folder),
            "server.tags": list(entry.tags),
            "server.edition": entry.edition or None,
        }
        return plain[fact] if fact in plain else _of_machine(fact) if mirror is None else None

    def has(path: str) -> bool | None:
        return mirror.has(path) if mirror is not None else (folder / path).exists()

    def lines(path: str) -> list[str]:
        if mirror is not None:
            mirror.refresh([path])
        # A list of names that is not there, or is not text, names nothing: the settings that go by it are then
        # unrestricted.
        with suppress(OSError, UnicodeDecodeError, Trouble), home.open(path) as file:
            return [line.decode("utf-8").strip() for line, _ in zip(file, range(_MOST_LINES), strict=False)]
        return []

    return Facts(value, has, lines)


@lru_cache(maxsize=8)
def _of_machine(name: str) -> int | None:
    """Ask the kernel, not psutil, which takes longer to load than most commands have."""
    with suppress(OSError, ValueError):
        if name == "machine.cores":
            return os.cpu_count()
        return os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")
    return None


def version_in(home: Folder, where: Version) -> str:
    """Read a server's version where its rulebook says; empty where it cannot be read."""
    from roundgate.host.patterns import search

    # Before the first run there is no log yet that would tell the version.
    with suppress(OSError, Trouble), home.open(where.file) as file:
        for line in file.read(_BEGINNING).decode("utf-8", "replace").splitlines():
            found = search(where.match, line)
            if found:
                return str(found["version"])
    return ""


def found_files(home: Folder, path: str) -> list[tuple[str, str]]:
    """Return what the name in a path's braces stands for, and the path, of the files that there are, in order."""
    place = placeholder(path)
    if place is None:
        return []
    number, pattern = place
    parts = path.split("/")
    found = []
    for name in home.names("/".join(parts[:number]) or "."):
        match = pattern.fullmatch(name)
        whole = "/".join((*parts[:number], name, *parts[number + 1 :]))
        if match and home.holds(whole):
            found.append((match[1], whole))
    return found
