"""What every format's reader and editor offers. One file per format implements it; ``formats`` lists them.

A document is the original text plus entries with spans. An edit is a list of splices and what an independent reader
must find in the new text; ``formats.apply_edit`` holds every edit to that.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal, NamedTuple, Protocol

from msgspec import Struct

from roundgate.core.findings import Problem
from roundgate.core.text import Splice, Text

Path = tuple[str | int, ...]
"""Where a value stands in a file: names, and numbers from 0 for the places of a list."""

PlainData = Any
"""A value free of any file: text, int, float, bool, None, and lists and dicts of them."""

Pairs = list[tuple[str, str]]
"""What a reader of a file of keys gives in the end: keys and values as the server sees them, in order."""

EntryKind = Literal["text", "number", "bool", "null", "list", "map", "code"]
"""What a value is in its file. ``code`` is anything that only the server can work out; it is kept as text."""


class EditRefused(ValueError):
    """An edit that cannot be made in this file; the message says why. Nothing was changed."""


class Dialect(Struct, frozen=True, forbid_unknown_fields=True, rename="kebab"):
    """How one game's server reads a format that leaves room; each format's docstring says which fields it heeds."""

    counts: Literal["first", "last"] = "last"
    """Which of several equal keys counts."""
    comments: bool = False
    """JSON: comments are read over."""
    last_comma: bool = False
    """JSON: a comma after the last item is read over."""
    notes: bool = False
    """ini: a comment may follow a value on its line. lines: a note may follow an entry."""
    marks: str = ""
    """What begins a comment, where it is not the format's usual; several are separated by spaces."""
    quotes: Literal["", "kept", "needed", "none", "escaped"] = ""
    """ini: quotes are part of the value (kept); or a value with a comma or a bracket needs them (needed). directives:
    quotes are letters (none); or a backslash before a quote or a backslash makes it a letter (escaped)."""
    case: bool = True
    """directives: the case of a key counts."""
    fields: tuple[str, ...] = ()
    """lines: the names of an entry's parts, in order."""
    separator: str = ""
    """lines: what separates the parts of an entry; empty: spaces. launch: what separates the items of a flag's list."""
    records: bool = False
    """lines: an entry is several lines, with blank lines between entries."""
    pairs: tuple[str, ...] = ()
    """directives: commands whose first argument is a part of the key: ``tune gravity`` for ``tune gravity 0.5``."""
    closing: tuple[str, ...] = ()
    """directives: commands that must stay behind all others, such as ``start``; what is new goes before them."""
    verb: str = ""
    """directives: the word before the key of a new command, such as ``set``; empty: as its neighbours have it."""
    blocks: tuple[str, ...] = ()
    """ini: the signs around values of several lines, with a space between: ``{ }``. The first one ends its line, and
    the second one has a line to itself."""
    goes_on: Literal["", "indented", "backslash"] = ""
    """ini: which line goes on with the value before it: one that begins with spaces, or one after a backslash."""
    items: tuple[str, ...] = ()
    """ini: sections whose lines are items of a list and no keys, though they end as keys do: ``10.1.2.3 =``."""
    tail: str = ""
    """ini: what a line of such a section has after the item, such as `` =``."""
    heading: str = ""
    """ini: how the heading of a section is written, where it is not ``[{name}]``: ``{name}:``, ``== {name} ==``."""
    repeated: tuple[str, ...] = ()
    """launch, directives, ini: what makes a list by being repeated: ``--mod tides --mod wind``. Those that the rulebook
    has lists or records of need not be named."""
    indent: bool = True
    """ini, directives: false where a space before a key is an error, as the server does not read such a line."""


USUAL = Dialect()
"""The dialect of a file of which nothing is said."""


class Entry(NamedTuple):
    """One value of a file: its path, the value as the server sees it, where key and value stand, and what it is."""

    path: Path
    value: str
    key_start: int
    key_end: int
    start: int
    end: int
    kind: EntryKind = "text"


class Edit(Struct, frozen=True):
    """The splices of an edit, and what any reader must find in the file afterwards."""

    splices: tuple[Splice, ...]
    expected: Any


class Document(Protocol):
    """A text, read. Reading never fails: what cannot be understood is a problem, and is kept as it stands."""

    format_name: str
    """The name of its format in the registry."""

    @property
    def text(self) -> Text:
        """The text that was read."""
        ...

    @property
    def dialect(self) -> Dialect:
        """How it was read."""
        ...

    def entries(self) -> Sequence[Entry]:
        """Return every value in the file that is not a list or map with content, in order, duplicates included.

        None of them is the whole file: each has a path.
        """
        ...

    def find(self, path: Path) -> Entry | None:
        """Return the entry that counts for a path, a list or a map too, or None."""
        ...

    def resolve(self, key: str) -> Path:
        """Return the path that a person means by a key's text."""
        ...

    def switched_off(self) -> Sequence[Entry]:
        """Return the entries that stand commented out."""
        ...

    def plain(self) -> Any:
        """Return what the file says, in the form that ``Edit.expected`` has for this format."""
        ...

    def set(self, path: Path, value: PlainData, kind: EntryKind | None = None, *, on_copy: bool = False) -> Edit:
        """Give ``path`` the value: in its place, by switching on a commented-out line, or in its neighbours' style.

        A text without a ``kind`` keeps the kind of the value that is there, where it can. ``on_copy`` lets a value
        that the file shares between several places be changed in this place alone.
        """
        ...

    def remove(self, path: Path) -> Edit:
        """Take out ``path`` with its own comment and separator. Raises EditRefused where there is none."""
        ...

    def rename(self, path: Path, name: str) -> Edit:
        """Give the last key of ``path`` another name. Raises EditRefused where that name is taken."""
        ...

    def insert(self, path: Path, value: PlainData, kind: EntryKind | None = None) -> Edit:
        """Put a new item before the one at ``path``, which ends in a number, or at the list's end."""
        ...

    def move(self, path: Path, to: int) -> Edit:
        """Move the item at ``path``, which ends in a number, so that it becomes number ``to`` of its list."""
        ...

    def switch(self, path: Path, *, on: bool) -> Edit:
        """Switch an entry off by commenting it out, or on again. Raises EditRefused where the format cannot."""
        ...


class Format(Protocol):
    """A file format: how it is recognised, read, and read once more by independent means."""

    name: str

    def read(self, text: Text, dialect: Dialect = USUAL) -> Document:
        """Read a text. Never raises."""
        ...

    def problems(self, document: Document) -> Sequence[Problem]:
        """Find what is wrong or doubtful with the text itself, in the order of the file."""
        ...

    def confirms(self, document: Document, expected: Any) -> bool:
        """Return whether means that share nothing with the edit find just what is expected in the new document."""
        ...
