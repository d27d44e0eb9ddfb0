"""TOML files as they were parsed the last time, so that a command need not parse a long rulebook again.

One private file in the site's state folder. An entry counts only while the file has the same size, inode and time of
change; a cache that cannot be read or written is as good as none.
"""

from __future__ import annotations

import contextlib
import os
from pathlib import Path
from typing import Any

import msgspec
from msgspec import Struct, field, msgpack

from roundgate.core.rulebook.toml import parse_toml

_NAME = "parsed.cache"
_LARGEST = 64
"""Entries; beyond that the cache starts over."""


class _Entry(Struct, frozen=True, array_like=True):
    mark: tuple[int, int, int]
    raw: dict[str, Any]


class _Held(Struct, array_like=True):
    homes: tuple[str, str] = ("", "")
    person: str = ""
    files: dict[str, _Entry] = field(default_factory=dict)


_PARSED: dict[str, _Entry] = {}
"""What this process has parsed: the sites that it opens share the rulebooks of the package."""


class ParsedFiles:
    """The cache of one site; without a state folder it just parses."""

    def __init__(self, state: Path | None) -> None:
        """Read the cache in a state folder, if there is one."""
        self.path = state / _NAME if state is not None and state.is_dir() else None
        self.held = _Held()
        if self.path is not None:
            # A cache that cannot be read, or that another version wrote, is an empty one.
            with contextlib.suppress(OSError, msgspec.MsgspecError):
                self.held = msgpack.decode(self.path.read_bytes(), type=_Held)

    def toml(self, path: Path) -> dict[str, Any]:
        """Return a TOML file, parsed. Raises OSError, UnicodeDecodeError, or RulebookProblem with the place."""
        found = path.stat()
        # Taken before the file is read: a change in between makes the entry look old, which is safe.
        mark = (found.st_mtime_ns, found.st_size, found.st_ino)
        for known in (self.held.files, _PARSED):
            entry = known.get(str(path))
            if entry is not None and entry.mark == mark:
                return entry.raw
        raw = parse_toml(str(path), path.read_text("utf-8"))
        if len(self.held.files) >= _LARGEST:
            self.held.files.clear()
        self.held.files[str(path)] = _PARSED[str(path)] = _Entry(mark, raw)
        self._keep()
        return raw

    def person_folder(self) -> Path:
        """Return the person's own folder for rulebooks."""
        homes = (os.environ.get("HOME", ""), os.environ.get("XDG_CONFIG_HOME", ""))
        if not self.held.person or self.held.homes != homes:
            from platformdirs import user_config_path  # slow to import, and its answer seldom changes

            self.held.homes, self.held.person = homes, str(user_config_path("roundgate") / "rulebooks")
            self._keep()
        return Path(self.held.person)

    def _keep(self) -> None:
        if self.path is None:
            return
        from roundgate.host.files import write_durably

        # The next command reads again what could not be kept; TOML has dates and numbers that the cache's form lacks.
        with contextlib.suppress(OSError, TypeError, OverflowError):
            write_durably(str(self.path), msgpack.encode(self.held))
