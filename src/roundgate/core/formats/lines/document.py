"""Lists: one entry to a line, or (dialect ``records``) one entry to a block of lines with blank lines between.

A comment stands on a line of its own and begins with ``#`` (dialect ``marks``: any other). In the dialect ``notes``
what follows a mark after an entry is a note and no part of it. ``fields`` names an entry's parts (``id``, ``role``),
which stand at ``(number, name)``; they are separated by spaces, or by ``separator``."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import cached_property
from itertools import islice
from typing import NamedTuple, overload

from roundgate.core.formats.protocol import USUAL, Dialect, Edit, EditRefused, Entry, EntryKind, Pairs, Path, PlainData
from roundgate.core.formats.shared.key_value import as_text, closed_before, line_span, mark_in_use, single_line
from roundgate.core.formats.shared.window import Window, around, is_large
from roundgate.core.patterns import lazy
from roundgate.core.text import LINE_END, Splice, Text

_TAIL = lazy(r"[ \t]*[=:;,|]\Z")
_LABELLED = lazy(r"[ \t]*(?P<name>[\w.-]+)[ \t]*[:=][ \t]*(?P<value>[^\r\n]*?)[ \t]*$", re.MULTILINE)


def without_tail(entry: str) -> str:
    """Return an entry without the sign that ends it, such as `` =``."""
    return _TAIL.sub("", entry)


class Row(NamedTuple):
    """One entry: where it starts and ends, and where its note does."""

    start: int
    end: int
    whole_end: int


class _PlainRows(Sequence[Row]):
    """The rows of a list whose lines are its entries: made as they are asked for, as there may be very many."""

    def __init__(self, entries: Sequence[Entry]) -> None:
        self._entries = entries

    def __len__(self) -> int:
        return len(self._entries)

    @overload
    def __getitem__(self, at: int) -> Row: ...

    @overload
    def __getitem__(self, at: slice) -> list[Row]: ...

    def __getitem__(self, at: int | slice) -> Row | list[Row]:
        if isinstance(at, slice):
            return [Row(entry.start, entry.end, entry.end) for entry in self._entries[at]]
        entry = self._entries[at]
        return Row(entry.start, entry.end, entry.end)


class LinesDocument:
    """A list of lines, read. An entry's path is its number, from 0; ``(number, name)`` is one of its parts."""

    format_name = "lines"

    is_part = False
    """True for a few lines of a file, read by themselves."""

    def __init__(self, text: Text, dialect: Dialect = USUAL) -> None:
        """Read ``text``."""
        self.text = text
        self.dialect = dialect
        self.marks = tuple(dialect.marks.split()) or ("#",)

    @cached_property
    def rows(self) -> Sequence[Row]:
        """Every entry with its spans, in order."""
        if self._is_plain:
            return _PlainRows(self._entries)
        lines = list(self._lines())
        if not self.dialect.records:
            return [row for row in lines if row is not None]
        blocks: list[Row] = []
        is_open = False
        for row in lines:
            if row is None:
                is_open = False
            elif is_open:
                blocks[-1] = Row(blocks[-1].start, row.end, row.whole_end)
            else:
                blocks.append(row)
                is_open = True
        return blocks

    @property
    def _is_plain(self) -> bool:
        """Return whether it is the usual list, which may be very long: a line is an entry, without a note."""
        return not self.dialect.records and not self.dialect.notes and "\r" not in self.text.body

    def _plain_entries(self) -> list[Entry]:
        marks = "|".join(re.escape(mark) for mark in self.marks)
        item = re.compile(rf"^[ \t]*+(?!{marks})([^ \t\n]++(?:[ \t]++[^ \t\n]++)*+)", re.MULTILINE)
        make = Entry._make  # there may be very many: quicker than a call with seven arguments
        return [
            make(((number,), found[1], start := found.start(1), start, start, found.end(1), "text"))
            for number, found in enumerate(item.finditer(self.text.body))
        ]

    def _lines(self) -> Iterator[Row | None]:
        """Yield the span of what each line says; None for a blank line. A comment line gives nothing at all."""
        at, body = 0, self.text.body
        while at < len(body):
            end = LINE_END.search(body, at)
            stop = end.start() if end else len(body)
            stripped = body[at:stop].strip(" \t")
            if not stripped:
                yield None
            elif not stripped.startswith(self.marks):
                start = at + body[at:stop].index(stripped)
                yield Row(start, start + len(self._without_note(stripped)), start + len(stripped))
            at = end.end() if end else len(body)

    def _without_note(self, stripped: str) -> str:
        if not self.dialect.notes:
            return stripped
        cuts = [found for mark in self.marks for blank in " \t" if (found := stripped.find(blank + mark)) > 0]
        return stripped[: min(cuts)].rstrip(" \t") if cuts else stripped

    @cached_property
    def _entries(self) -> list[Entry]:
        if self._is_plain:
            return self._plain_entries()
        return [
            Entry((number,), self._value(row), row.start, row.start, *row[:2]) for number, row in enumerate(self.rows)
        ]

    def _value(self, row: Row) -> str:
        value = self.text.body[row.start : row.end]
        return LINE_END.sub("\n", value) if self.dialect.records else value

    def entries(self) -> Sequence[Entry]:
        """Return every entry in order."""
        return self._entries

    def find(self, path: Path) -> Entry | None:
        """Return an entry by its number, or one part of it by number and name."""
        is_read = "rows" in self.__dict__ or "_entries" in self.__dict__
        near = None if is_read else self._near(path)
        if near:
            return near.entry(path)
        number = path[0] if path else None
        if not isinstance(number, int) or not 0 <= number < len(self._entries):
            return None
        return self._entries[number] if len(path) == 1 else self._parts(number).get(path[1])

    def _near(self, path: Path) -> Window | None:
        """Return the lines around an entry of a large file."""
        number = path[0] if path else None
        if self.dialect.records or not isinstance(number, int) or number < 0:
            return None
        if self.is_part or not is_large(self.text):
            return None
        marks = "|".join(re.escape(mark) for mark in self.marks)
        items = re.compile(rf"^[ \t]*+(?!{marks})[^ \t\r\n]", re.MULTILINE).finditer(self.text.body)
        here = next(islice(items, number, None), None)
        if here is None:
            return None
        start, end = around(self.text.body, here.start(), here.end())
        part = LinesDocument(self.text.with_body(self.text.body[start:end]), self.dialect)
        inner = sum(1 for row in part.rows if row.start + start < here.end() - 1)
        part.is_part = True
        return Window(start, end, part, (inner, *path[1:]))

    def _parts(self, number: int) -> dict[str | int, Entry]:
        row, body = self.rows[number], self.text.body
        if self.dialect.records:
            named = _LABELLED.finditer(body, row.start, row.end)
            return {
                match["name"]: Entry((number, match["name"]), match["value"], *match.span("name"), *match.span("value"))
                for match in named
            }
        sep = self.dialect.separator.strip(" ")
        pattern = rf"[^{re.escape(sep)}]+" if sep else r"\S+"
        spans = [found.span() for found in re.finditer(pattern, body[row.start : row.end])]
        names = self.dialect.fields
        if len(spans) > len(names) > 0:
            spans[len(names) - 1 :] = [(spans[len(names) - 1][0], spans[-1][1])]
        found: dict[str | int, Entry] = {}
        for name, (start, end) in zip(names, spans, strict=False):
            raw = body[row.start + start : row.start + end]
            start += len(raw) - len(raw.lstrip(" \t"))
            found[name] = self._part(number, name, row.start + start, row.start + start + len(raw.strip(" \t")))
        return found

    def _part(self, number: int, name: str, start: int, end: int) -> Entry:
        return Entry((number, name), self.text.body[start:end], start, start, start, end)

    def resolve(self, key: str) -> Path:
        """Return the path of an entry: its number in square brackets, or its text."""
        from roundgate.core.formats.shared.paths import parse_path

        by_text = next((entry.path for entry in self._entries if entry.value == key), None)
        return by_text or parse_path(key)

    def switched_off(self) -> Sequence[Entry]:
        """Return nothing: a comment in a list may be anything."""
        return ()

    def plain(self) -> Pairs:
        """Return every item, all under one empty key, for a list has only an order."""
        return [("", entry.value) for entry in self._entries]

    def set(self, path: Path, value: PlainData, kind: EntryKind | None = None, *, on_copy: bool = False) -> Edit:
        """Replace an entry, or a part of one. Raises EditRefused."""
        near = self._near(path)
        if near:
            return near.whole(near.document.set(near.path, value, kind), self.text)
        here = self.find(path)
        if here is None:
            raise EditRefused(f"the list has no entry {path[0]}" if len(path) == 1 else f"the entry has no {path[-1]}")
        new = self._fit(as_text(value)) if len(path) == 1 else self._fit_part(as_text(value), path)
        expected = self.plain()
        number = int(path[0])
        row = self.rows[number]
        inner = self.text.body[row.start : here.start] + new + self.text.body[here.end : row.end]
        expected[number] = ("", LINE_END.sub("\n", inner))
        return Edit((Splice(here.start, here.end, new),), expected)

    def _fit_part(self, value: str, path: Path) -> str:
        parts = self.dialect.fields
        last = bool(parts) and path[1] == parts[-1]
        sep = self.dialect.separator.strip(" ")
        breaks = bool(sep and sep in value) if sep else not last and (" " in value or "\t" in value)
        if not self.dialect.records and (breaks or not value.strip()):
            raise EditRefused(f"'{value}' cannot be a part of an entry: it contains the separator")
        return single_line(value)

    def _fit(self, value: str) -> str:
        """Return an entry as the file will hold it. Raises EditRefused where it would not be one entry when read."""
        lines = value.split("\n") if self.dialect.records else [value]
        for line in lines:
            self._fit_line(line)
        return self.text.newline.join(lines)

    def _fit_line(self, line: str) -> None:
        stripped = line.strip(" \t")
        if (
            not stripped
            or LINE_END.search(line)
            or stripped.startswith(self.marks)
            or self._without_note(stripped) != stripped
        ):
            raise EditRefused(f"{line!r} cannot be an entry: it must be one line that is neither empty nor a comment")
        if line != stripped and not self.dialect.records:
            raise EditRefused(f"{line!r} cannot be an entry: spaces at its ends would not be read")

    def remove(self, path: Path) -> Edit:
        """Take out one entry and its line, its note with it. Raises EditRefused."""
        here = self.find(path)
        if here is None or len(path) != 1:
            raise EditRefused(f"the list has no entry {path[0]}")
        number = int(path[0])
        expected = self.plain()
        del expected[number]
        start, end = self._whole_lines(number)
        if self.dialect.records:
            start, end = self._with_blank(start, end)
        return Edit((Splice(start, end, ""),), expected)

    def _with_blank(self, start: int, end: int) -> tuple[int, int]:
        """Take the blank line that parted a record from the next along, or from the one before."""
        blank = re.compile(r"(?:[ \t]*(?:\r\n|\r|\n))+").match(self.text.body, end)
        return start, blank.end() if blank else end

    def insert(self, path: Path, value: PlainData, kind: EntryKind | None = None) -> Edit:
        """Put a new entry before the one at ``path``, or at the end. Raises EditRefused."""
        new = self._fit(as_text(value) + self._common_tail(as_text(value)))
        number = path[-1] if path else len(self.rows)
        if not isinstance(number, int) or len(path) > 1:
            raise EditRefused("an entry of a list is put in by its number")
        expected = self.plain()
        expected.insert(number, ("", LINE_END.sub("\n", new)))
        gap = self.text.newline if self.dialect.records else ""
        if number < len(self.rows):
            start = self._whole_lines(number)[0]
            return Edit((Splice(start, start, new + self.text.newline + gap),), expected)
        return Edit((self._appended(new, gap),), expected)

    def _common_tail(self, value: str) -> str:
        """Return the sign that ends every entry, such as `` =``, where a new one lacks it."""
        if self.dialect.records or self.dialect.fields or not self.rows:
            return ""
        tails = {_TAIL.search(self.text.body, row.start, row.end) for row in self.rows[:50]}
        stripped = {match[0] for match in tails if match is not None}
        tail = stripped.pop() if len(stripped) == 1 and None not in tails else ""
        if len(self.rows) == 1 and "=" not in tail:
            return ""  # one entry that ends in a comma or a colon shows no habit
        return "" if value.endswith(tail.strip() or "\n") else tail

    def _appended(self, new: str, gap: str) -> Splice:
        newline = self.text.newline
        at = self._whole_lines(len(self.rows) - 1)[1] if self.rows else len(self.text.body)
        before = gap if self.rows else ""
        if closed_before(self.text, at):
            follows = gap if gap and self.text.body[at:].strip() else ""
            return Splice(at, at, before + new + newline + follows)
        return Splice(at, at, newline + before + new)

    def move(self, path: Path, to: int) -> Edit:
        """Move an entry to number ``to``: the entries change places with their notes, the lines stay.

        Raises EditRefused.
        """
        start = path[-1] if path else -1
        if not isinstance(start, int) or not (0 <= start < len(self.rows) and 0 <= to < len(self.rows)):
            raise EditRefused(f"the list has entries 0 to {len(self.rows) - 1}")
        texts = [self.text.body[row.start : row.whole_end] for row in self.rows]
        ordered = list(texts)
        ordered.insert(to, ordered.pop(start))
        cuts = [
            Splice(row.start, row.whole_end, new)
            for row, old, new in zip(self.rows, texts, ordered, strict=True)
            if old != new
        ]
        expected = self.plain()
        expected.insert(to, expected.pop(start))
        return Edit(tuple(cuts), expected)

    def rename(self, path: Path, name: str) -> Edit:
        """Refuse: an entry of a list has no name. Raises EditRefused."""
        raise EditRefused("an entry of a list has no name, only a place")

    def switch(self, path: Path, *, on: bool) -> Edit:
        """Comment an entry out. A comment in a list may be anything, so it is not switched on again.

        Raises EditRefused.
        """
        here = self.find(path)
        if on or here is None or len(path) != 1:
            raise EditRefused("an entry of a list can be commented out, by its number; switch it on by adding it again")
        expected = self.plain()
        del expected[int(path[0])]
        starts = [here.start] + [end.end() for end in LINE_END.finditer(self.text.body, here.start, here.end)]
        mark = mark_in_use(self.text, self.marks)
        return Edit(tuple(Splice(at, at, mark) for at in starts), expected)

    def _whole_lines(self, number: int) -> tuple[int, int]:
        row = self.rows[number]
        return line_span(self.text, row.start)[0], line_span(self.text, row.end)[1]
