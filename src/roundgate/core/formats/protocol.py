"""What every format's reader and editor offers. One file per format implements it; ``formats`` lists them.

A document is the original text plus entries with spans. An edit is a list of splices and the entries that the new
text must give when it is read again; ``formats.apply_edit`` holds every edit to that.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple, Protocol

from msgspec import Struct

from roundgate.core.findings import Problem
from roundgate.core.text import Splice, Text

Path = tuple[str | int, ...]
"""Where a value stands in a file: a key for a properties file, a number from 0 for a list of lines."""

Pairs = list[tuple[str, str]]
"""What a reader gives in the end: keys and values as the server sees them, in order."""


class EditRefused(ValueError):
    """An edit that cannot be made in this file; the message says why. Nothing was changed."""


class Entry(NamedTuple):
    """One value of a file: its path, the value as the server sees it, and where key and value stand."""

    path: Path
    value: str
    key_start: int
    key_end: int
    start: int
    end: int


class Edit(Struct, frozen=True):
    """The splices of an edit, and what any reader must find in the file afterwards."""

    splices: tuple[Splice, ...]
    expected: Pairs


class Document(Protocol):
    """A text, read. Reading never fails: what cannot be understood is a problem, and is kept as it stands."""

    @property
    def text(self) -> Text:
        """The text that was read."""
        ...

    def entries(self) -> Sequence[Entry]:
        """Give every value in the file, in order, duplicates included."""
        ...

    def find(self, path: Path) -> Entry | None:
        """Give the entry that counts for a path, or None."""
        ...

    def switched_off(self) -> Sequence[Entry]:
        """Give the entries that stand commented out."""
        ...

    def problems(self) -> Sequence[Problem]:
        """Say what is wrong or doubtful with the text itself."""
        ...

    def pairs(self) -> Pairs:
        """Give keys and values, in order."""
        ...

    def set(self, path: Path, value: str) -> Edit:
        """Give ``path`` the value: in its place, by switching on a commented-out line, or as a new line."""
        ...

    def remove(self, path: Path) -> Edit:
        """Take out every entry of ``path``. Raises EditRefused where there is none."""
        ...

    def insert(self, at: int, value: str) -> Edit:
        """Put a new list entry before number ``at`` (from 0). Raises EditRefused in a file that is no list."""
        ...

    def move(self, start: int, to: int) -> Edit:
        """Move list entry ``start`` so that it becomes number ``to``. Raises EditRefused as ``insert`` does."""
        ...


class Format(Protocol):
    """A file format: how it is recognised, read, and read once more by independent means."""

    name: str
    endings: tuple[str, ...]

    def read(self, text: Text) -> Document:
        """Read a text. Never raises."""
        ...

    def read_plainly(self, text: Text) -> Pairs:
        """Read keys and values by code that shares nothing with ``read``, to confirm an edit."""
        ...
