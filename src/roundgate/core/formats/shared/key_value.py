"""What files of keys have in common: properties, ini, command files, start scripts and lists.

Their values are texts, and what any reader finds in them is pairs of key and value, in order.
"""

from __future__ import annotations

import re

from roundgate.core.formats.protocol import Edit, EditRefused, EntryKind, Path, PlainData
from roundgate.core.text import LINE_END, Text


def as_text(value: PlainData) -> str:
    """Write a plain value as the text that a file of keys holds. Raises EditRefused for lists and maps."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, str | int | float):
        return str(value)
    raise EditRefused("this kind of file holds single values: no lists, no maps and no null")


def single_line(text: str, what: str = "value") -> str:
    """Return the text back. Raises EditRefused where it is more than one line: the file could not hold it."""
    if LINE_END.search(text):
        raise EditRefused(f"a {what} in this kind of file cannot have a line break")
    return text


def closed_before(text: Text, at: int) -> bool:
    """Return whether a new line can begin at an index: it is the file's start, or a line end is before it."""
    return at == 0 or LINE_END.search(text.body, at - 1, at) is not None


def line_span(text: Text, index: int) -> tuple[int, int]:
    """Return where the line that holds an index starts and ends, its line end included."""
    start, end = text.line_around(index)
    closing = LINE_END.match(text.body, end)
    return start, closing.end() if closing else end


def mark_in_use(text: Text, marks: tuple[str, ...]) -> str:
    """Return which of several marks a file begins its comments with; the usual one where it has none."""
    begun = ((re.search(rf"^[ \t]*{re.escape(mark)}", text.body, re.M), mark) for mark in marks)
    return min(((found.start(), mark) for found, mark in begun if found), default=(0, marks[0]))[1]


class KeyFile:
    """What a file of keys is not: a list."""

    def insert(self, path: Path, value: PlainData, kind: EntryKind | None = None) -> Edit:
        """Refuse: a file of keys is not a list. Raises EditRefused."""
        raise EditRefused("this file has keys, not a list of items")

    def move(self, path: Path, to: int) -> Edit:
        """Refuse: a file of keys is not a list. Raises EditRefused."""
        raise EditRefused("this file has keys, not a list of items")
