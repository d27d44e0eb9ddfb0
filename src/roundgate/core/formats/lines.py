"""Lists: one entry to a line, with ``#`` comments on lines of their own and blank lines between."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import cached_property

from roundgate.core.findings import Problem
from roundgate.core.formats.protocol import Edit, EditRefused, Entry, Pairs, Path
from roundgate.core.text import LINE_END, Splice, Text

_ITEM = re.compile(r"^[ \t]*+(?![#\r\n]|\Z)(?P<item>[^\r\n]*?)[ \t]*+(?=\r\n|\r|\n|\Z)", re.MULTILINE)
_BREAK = re.compile(r"\r\n|\r|\n|\Z")


class LinesDocument:
    """A list of lines, read. An entry's path is its number, from 0."""

    def __init__(self, text: Text) -> None:
        """Read ``text``."""
        self.text = text

    @cached_property
    def _entries(self) -> list[Entry]:
        entries: list[Entry] = []
        at, body = 0, self.text.body
        while at < len(body):
            end = LINE_END.search(body, at)
            stop = end.start() if end else len(body)
            line = body[at:stop]
            item = line.strip(" \t")
            if item and not item.startswith("#"):
                start = at + line.index(item)
                entries.append(Entry((len(entries),), item, start, start, start, start + len(item)))
            at = end.end() if end else len(body)
        return entries

    def entries(self) -> Sequence[Entry]:
        """Give every entry in order."""
        return self._entries

    def find(self, path: Path) -> Entry | None:
        """Give entry number ``path[0]``."""
        number = path[0]
        known = isinstance(number, int) and 0 <= number < len(self._entries)
        return self._entries[int(number)] if known else None

    def switched_off(self) -> Sequence[Entry]:
        """Give nothing: a comment in a list may be anything."""
        return ()

    def problems(self) -> Sequence[Problem]:
        """Find nothing: what an entry may be is the rulebook's to say."""
        return ()

    def pairs(self) -> Pairs:
        """Give every item, all under one empty key, for a list has only an order."""
        return [("", entry.value) for entry in self._entries]

    def set(self, path: Path, value: str) -> Edit:
        """Replace entry number ``path[0]``."""
        here = self.find(path)
        if here is None:
            raise EditRefused(f"the list has no entry {path[0]}")
        _one_line(value)
        expected = self.pairs()
        expected[int(path[0])] = ("", value)
        return Edit((Splice(here.start, here.end, value),), expected)

    def remove(self, path: Path) -> Edit:
        """Take out one entry and its line."""
        here = self.find(path)
        if here is None:
            raise EditRefused(f"the list has no entry {path[0]}")
        number = int(path[0])
        expected = self.pairs()
        del expected[number]
        return Edit((Splice(*self._whole_line(here), ""),), expected)

    def insert(self, at: int, value: str) -> Edit:
        """Put a new entry before number ``at``, or at the end."""
        _one_line(value)
        expected = self.pairs()
        expected.insert(at, ("", value))
        if at < len(self._entries):
            start = self._whole_line(self._entries[at])[0]
            return Edit((Splice(start, start, value + self.text.newline),), expected)
        return Edit((self._appended(value),), expected)

    def _appended(self, value: str) -> Splice:
        body, newline = self.text.body, self.text.newline
        at = self._whole_line(self._entries[-1])[1] if self._entries else len(body)
        closed = at == 0 or bool(LINE_END.search(body, at - 1, at))
        return Splice(at, at, value + newline if closed else newline + value)

    def move(self, start: int, to: int) -> Edit:
        """Move entry ``start`` so that it becomes number ``to``: the values change places, the lines stay."""
        items = [entry.value for entry in self._entries]
        if not (0 <= start < len(items) and 0 <= to < len(items)):
            raise EditRefused(f"the list has entries 0 to {len(items) - 1}")
        items.insert(to, items.pop(start))
        cuts = [
            Splice(entry.start, entry.end, item)
            for entry, item in zip(self._entries, items, strict=True)
            if entry.value != item
        ]
        return Edit(tuple(cuts), [("", item) for item in items])

    def _whole_line(self, entry: Entry) -> tuple[int, int]:
        start, end = self.text.line_around(entry.start)
        closing = _BREAK.match(self.text.body, end)
        return start, closing.end() if closing else end


def _one_line(value: str) -> None:
    if not value.strip() or LINE_END.search(value) or value != value.strip(" \t") or value.startswith("#"):
        raise EditRefused(f"{value!r} cannot be an entry: it must be one line that is neither empty nor a comment")


class LinesFormat:
    """The registry's entry for lists of lines."""

    name = "lines"
    endings: tuple[str, ...] = (".txt",)

    def read(self, text: Text) -> LinesDocument:
        """Read a text. Never raises."""
        return LinesDocument(text)

    def read_plainly(self, text: Text) -> Pairs:
        """Read by one pattern over the whole text."""
        body = text.body.replace("\r\n", "\n").replace("\r", "\n")
        return [("", match["item"]) for match in _ITEM.finditer(body)]


LINES = LinesFormat()
