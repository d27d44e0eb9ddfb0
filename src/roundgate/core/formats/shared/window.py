"""Edits of a large file of lines, made on the few lines around the value: the rest need not be read for them.

Lines of such a file say what they say whatever stands far above or below them, but for a section's heading. So a
value is looked for by its key's letters, the lines around it are read as a document of their own, and the edit is made
there, and confirmed there by the independent reader. All outside is compared letter by letter.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NamedTuple, Protocol

from msgspec import Struct

from roundgate.core.formats.protocol import Dialect, Document, Edit, Entry, Format, Path
from roundgate.core.text import LARGE, Splice, Text, span_kept

AROUND = 20
"""So many lines above and below a value are read with it."""

_MOST_PLACES = 2_000
"""A key whose letters stand in more lines than this is looked for by reading the file."""


class Within(Struct, frozen=True):
    """What is expected of a large file: outside a span it is as it was, and the lines inside say what they should."""

    before: str
    start: int
    end: int
    dialect: Dialect
    section: str
    inner: Any


class Window(NamedTuple):
    """The lines around a value: their span in the file, a document of them, and the value's path in that."""

    start: int
    end: int
    document: Any
    path: Path
    section: str = ""

    def entry(self, path: Path) -> Entry | None:
        """Return the value as an entry of the whole file."""
        found: Entry | None = self.document.find(self.path)
        if found is None:
            return None
        key = found.key_start + self.start, found.key_end + self.start
        return Entry(path, found.value, *key, found.start + self.start, found.end + self.start, found.kind)

    def whole(self, edit: Edit, text: Text) -> Edit:
        """Return an edit of these lines as one of the whole file."""
        cuts = (Splice(splice.start + self.start, splice.end + self.start, splice.new) for splice in edit.splices)
        dialect = self.document.dialect
        return Edit(tuple(cuts), Within(text.body, self.start, self.end, dialect, self.section, edit.expected))


def is_large(text: Text) -> bool:
    """Whether a file is so large that it pays to look at a few of its lines alone; odd line ends make it small."""
    body = text.body
    return len(body) >= LARGE and body.count("\r") == body.count("\r\n")


def lines_with(body: str, letters: str, start: int = 0, end: int | None = None) -> Iterator[tuple[int, int]] | None:
    """Return the span of each line that holds some letters, or None where these are too many to look at each."""
    last = len(body) if end is None else end
    if not letters or "\n" in letters or body.count(letters, start, last) > _MOST_PLACES:
        return None
    return _lines_with(body, letters, start, last)


def _lines_with(body: str, letters: str, start: int, end: int) -> Iterator[tuple[int, int]]:
    at = body.find(letters, start, end)
    while at >= 0:
        first, last = body.rfind("\n", 0, at) + 1, body.find("\n", at)
        last = len(body) if last < 0 else last
        yield first, last
        at = body.find(letters, last, end)


def around(body: str, start: int, end: int) -> tuple[int, int]:
    """Return the span of some lines above and below a span, all of them whole."""
    first, last = body.rfind("\n", 0, start) + 1, body.find("\n", end) + 1 or len(body)
    for _ in range(AROUND):
        first = body.rfind("\n", 0, max(first - 1, 0)) + 1
        last = body.find("\n", last) + 1 or len(body)
    return first, last


def confirmed(kind: Format, document: Document, expected: Within) -> bool:
    """Return whether a large file is as it was outside a span, and the lines inside say what they should.

    The first and the last line inside must be as they were too, so that what is outside is read as before.
    """
    old = expected.before
    span = span_kept(old, document.text.body, expected.start, expected.end)
    if span is None:
        return False
    inside, there = document.text.body[slice(*span)], old[expected.start : expected.end]
    is_whole = (expected.start == 0, expected.end == len(old))
    if not (is_whole[0] or _first(inside) == _first(there)) or not (is_whole[1] or _last(inside) == _last(there)):
        return False
    part = document.text.with_body(inside)
    reader: _InSection = kind  # type: ignore[assignment]
    read = reader.read_in(part, expected.dialect, expected.section) if expected.section else None
    return kind.confirms(read or kind.read(part, expected.dialect), expected.inner)


class _InSection(Protocol):
    """A format whose lines belong to the section whose heading stands above them."""

    def read_in(self, text: Text, dialect: Dialect, section: str) -> Document:
        """Read lines of a section without its heading."""
        ...


def _first(lines: str) -> str:
    return lines[: lines.find("\n") + 1]


def _last(lines: str) -> str:
    return lines[lines.rfind("\n", 0, len(lines) - 1) + 1 :]


def runs_on_into(body: str, index: int) -> bool:
    """Return whether the line before an index ends in a backslash that joins the next one to it."""
    end = index
    while end > 0 and body[end - 1] in "\r\n":
        end -= 1
        if body[end] == "\n" and end != index - 1:
            return False  # an empty line
    begun = end
    while begun > 0 and body[begun - 1] == "\\":
        begun -= 1
    return (end - begun) % 2 == 1
