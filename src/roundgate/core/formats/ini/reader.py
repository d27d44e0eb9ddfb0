"""Reading ini files: what stands where, and what it says. ``ini`` edits them."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import NamedTuple

from roundgate.core.formats.protocol import USUAL, Dialect, Entry, Path
from roundgate.core.formats.shared.window import Window, around, is_large, lines_with
from roundgate.core.patterns import lazy
from roundgate.core.text import LINE_END, Text

Triple = tuple[str, str, str]
"""What a line says: section, key (empty for a bare item, ``[`` for a heading) and value."""


_HEADING = lazy(r"[ \t]*\[(?P<name>[^\]\r\n]*)\][ \t]*(?P<rest>[;#][^\r\n]*)?")


_HEADING_LINE = lazy(r"^[ \t]*\[(?P<name>[^\]\r\n]*)\][ \t]*(?:[;#][^\r\n]*)?(?=\r?$)", re.MULTILINE)


_COLON = lazy(r"[ \t]*[A-Za-z_][\w.\- ]*:(?=[ \t]|\Z)")


_QUOTED = lazy(r'"(?:[^"\\]|\\.)*"|\'[^\']*\'')


class Row(NamedTuple):
    """One line that says something: its section, key and value, and where they stand."""

    section: str
    key: str
    start: int
    key_start: int
    key_end: int
    value_start: int
    value_end: int
    is_heading: bool = False


class IniReading:
    """An ini file, read: what stands where."""

    is_part = False
    """True for a few lines of a file, read by themselves."""

    def __init__(self, text: Text, dialect: Dialect = USUAL, section: str = "") -> None:
        """Read ``text``, whose first lines belong to ``section`` where its heading is not among them."""
        self.text = text
        self.dialect = dialect
        self.section = section
        self.marks = tuple(dialect.marks.split()) or (";", "#")
        self.blocks = [(sign, close) for sign, _, close in (block.partition(" ") for block in dialect.blocks)]
        """The signs that open a value of several lines, and those that close it."""

    @property
    def is_by_line(self) -> bool:
        """Whether every line can be read by itself, and headings are the usual ones."""
        return not (self.blocks or self.dialect.goes_on or self.dialect.heading or self.dialect.items)

    @cached_property
    def _heading(self) -> re.Pattern[str]:
        if not self.dialect.heading:
            return _HEADING
        form = re.escape(self.dialect.heading).replace(r"\{name\}", r"(?P<name>[^\r\n=]*?)")
        return re.compile(rf"[ \t]*{form}[ \t]*")

    def is_heading_line(self, line: str) -> bool:
        """Return whether a line would be read as a heading."""
        return self._heading.fullmatch(line) is not None or (not self.dialect.heading and line.startswith("["))

    def heading_line(self, section: str) -> str:
        """Write the heading of a section."""
        return (self.dialect.heading or "[{name}]").replace("{name}", section)

    @cached_property
    def rows(self) -> list[Row]:
        """Every heading, entry and bare item, in order."""
        return list(self._read())

    @cached_property
    def has_blank_keys(self) -> bool:
        """Whether keys with spaces in them are usual in this file."""
        keys = [self.text.body[row.key_start : row.key_end] for row in self.rows if row.key and not row.is_heading]
        count = sum(" " in key or "\t" in key for key in keys)
        return count > 1 and count * 5 > len(keys)

    def _read(self) -> Iterator[Row]:
        at, body, section = 0, self.text.body, self.section
        while at < len(body):
            end = LINE_END.search(body, at)
            stop = end.start() if end else len(body)
            line = body[at:stop]
            stripped = line.strip(" \t\ufeff")
            if stripped and not stripped.startswith(self.marks):
                heading = self._heading.fullmatch(line)
                if heading:
                    section = heading["name"].strip()
                    yield Row(section, "[", at, at + heading.start("name"), at + heading.end("name"), stop, stop, True)
                else:
                    row = self._row(section, at, line)
                    if not self.is_by_line and row.key and "=" in body[row.key_end : row.value_start]:
                        row = row._replace(value_end=self._last_end(row, stop))
                        end = LINE_END.search(body, row.value_end)
                    yield row
            at = end.end() if end else len(body)

    def _last_end(self, row: Row, stop: int) -> int:
        """Return the end of a value that goes on over the lines after ``stop``, the end of its first one."""
        body, raw = self.text.body, self.text.body[row.value_start : row.value_end]
        for sign, close in self.blocks:
            if raw == sign:
                return self._block_end(sign, close, stop) or row.value_end
        last, at = row.value_end, stop
        while self.dialect.goes_on:
            following = LINE_END.match(body, at)
            if following is None or (self.dialect.goes_on == "backslash" and not body[:last].endswith("\\")):
                break
            start, at = self.text.line_around(following.end())
            line = body[start:at]
            blank = not line.strip(" \t") or line.strip(" \t").startswith(self.marks)
            if self.dialect.goes_on == "indented" and (blank or not line.startswith((" ", "\t"))):
                break
            last = start + len(line.rstrip(" \t"))
        return last

    def _block_end(self, sign: str, close: str, stop: int) -> int | None:
        body, at, depth = self.text.body, stop, 1
        while (following := LINE_END.match(body, at)) is not None:
            start, at = self.text.line_around(following.end())
            stripped = body[start:at].strip(" \t")
            depth += (stripped.endswith(sign) and sign != close) - (stripped == close)
            if not depth:
                return start + len(body[start:at].rstrip(" \t"))
        return None

    def _row(self, section: str, at: int, line: str) -> Row:
        lead = len(line) - len(line.lstrip(" \t"))
        if section in self.dialect.items:
            end = lead + len(self._without_note(line[lead:]).removesuffix(self.dialect.tail.strip()).rstrip(" \t"))
            return Row(section, "", at, at + lead, at + lead, at + lead, at + end)
        sign = line.find("=")
        if sign < 0:
            colon = _COLON.match(line)
            sign = colon.end() - 1 if colon else -1
        if sign < 0:
            end = lead + len(self._without_note(line[lead:]))
            return Row(section, "", at, at + lead, at + lead, at + lead, at + end)
        key = line[lead:sign].rstrip(" \t")
        if not key:
            end = lead + len(self._without_note(line[lead:]))
            return Row(section, "", at, at + lead, at + lead, at + lead, at + end)
        start = sign + 1 + len(line[sign + 1 :]) - len(line[sign + 1 :].lstrip(" \t"))
        value = self._without_note(line[start:])
        return Row(section, key, at, at + lead, at + lead + len(key), at + start, at + start + len(value))

    def _without_note(self, value: str) -> str:
        """Cut what follows a value on its line: spaces, and in the dialect ``notes`` a comment."""
        if not self.dialect.notes:
            return value.rstrip(" \t")
        quoted = _QUOTED.match(value)
        floor = quoted.end() if quoted else 0
        cuts = [found for mark in self.marks for blank in " \t" if (found := value.find(blank + mark, floor)) >= 0]
        if not value[:1].strip() or value.startswith(self.marks):
            return ""
        return (value[: min(cuts)] if cuts else value).rstrip(" \t")

    # --- what stands there ---

    def _is_long(self, row: Row) -> bool:
        return not self.is_by_line and LINE_END.search(self.text.body, row.value_start, row.value_end) is not None

    def _long_span(self, row: Row) -> tuple[int, int]:
        """Return the span of a value of several lines, without the signs around it where both are the same."""
        raw = self.text.body[row.value_start : row.value_end]
        same = next((sign for sign, close in self.blocks if sign == close and raw.startswith(sign)), None)
        if same is None:
            return row.value_start, row.value_end
        first = LINE_END.match(self.text.body, row.value_start + len(same))
        start = first.end() if first else row.value_start + len(same)
        stop = self.text.line_around(row.value_end)[0]
        ending = 2 if self.text.body[stop - 2 : stop] == "\r\n" else 1
        return start, max(start, stop - ending)

    def _long_value(self, row: Row) -> str:
        lines = LINE_END.split(self.text.body[slice(*self._long_span(row))])
        if self.dialect.goes_on == "indented":
            return "\n".join(line.strip(" \t") for line in lines)
        if self.dialect.goes_on == "backslash":
            return "".join(line.strip(" \t").removesuffix("\\") for line in lines[:-1]) + lines[-1].strip(" \t")
        return "\n".join(lines)

    def _value(self, row: Row) -> str:
        if self._is_long(row):
            return self._long_value(row)
        raw = self.text.body[row.value_start : row.value_end]
        quoted = self.dialect.quotes != "kept" and _QUOTED.fullmatch(raw)
        return raw[1:-1] if quoted else raw

    def _entry(self, path: Path, row: Row) -> Entry:
        if self._is_long(row):
            return Entry(path, self._long_value(row), row.key_start, row.key_end, *self._long_span(row))
        raw = self.text.body[row.value_start : row.value_end]
        quotes = 1 if self.dialect.quotes != "kept" and _QUOTED.fullmatch(raw) else 0
        return Entry(
            path, self._value(row), row.key_start, row.key_end, row.value_start + quotes, row.value_end - quotes
        )

    @cached_property
    def _entries(self) -> list[Entry]:
        numbers: dict[str, int] = {}
        found = []
        for row in self.rows:
            if row.is_heading:
                continue
            if row.key:
                path: Path = (row.section, row.key) if row.section else (row.key,)
            else:
                path = (row.section, numbers.get(row.section, 0))
                numbers[row.section] = numbers.get(row.section, 0) + 1
            found.append(self._entry(path, row))
        return found

    def entries(self) -> Sequence[Entry]:
        """Return every entry and bare item, in order, doubles included."""
        return self._entries

    @cached_property
    def _by_path(self) -> dict[Path, list[int]]:
        found: dict[Path, list[int]] = {}
        for at, entry in enumerate(self._entries):
            found.setdefault(entry.path, []).append(at)
        return found

    @cached_property
    def _content(self) -> list[Row]:
        return [row for row in self.rows if not row.is_heading]

    def _number_at(self, path: Path) -> int | None:
        """Return the number of the entry that counts for a path."""
        found = self._by_path.get(path)
        if found:
            return found[0 if self.dialect.counts == "first" else -1]
        if len(path) > 1 and isinstance(path[-1], int) and isinstance(path[-2], str):
            several = self._by_path.get(path[:-1], [])
            if path[-1] < len(several):
                return several[path[-1]]
        return None

    def find(self, path: Path) -> Entry | None:
        """Return what counts for a path: an entry, a bare item, or a part of a value in brackets."""
        near = self._near(path) if "_by_path" not in self.__dict__ else None
        if near:
            return near.entry(path)
        at = self._number_at(path)
        if at is not None:
            return self._entries[at]._replace(path=path)
        from roundgate.core.formats.ini.bracket_values import part_of

        for length in range(len(path) - 1, 0, -1):
            at = self._number_at(path[:length])
            if at is not None:
                row = self._content[at]
                return part_of(self.text.body, row.value_start, row.value_end, path, length)
        return None

    def _near(self, path: Path) -> Window | None:
        """Return the lines around a key of a large file; None where it is none of a section, or is not there."""
        if len(path) not in (1, 2) or not all(isinstance(part, str) for part in path):
            return None
        if self.is_part or not self.is_by_line or not is_large(self.text):
            return None
        body, section, key = self.text.body, str(path[0]) if len(path) == 2 else "", str(path[-1])
        hits: list[tuple[int, int, int]] = []
        for begin, stop in self._blocks(section):
            for start, end in lines_with(body, key, begin, stop) or ():
                rows = type(self)(self.text.with_body(body[start:end]), self.dialect, section).rows
                if rows and rows[0].key == key and not rows[0].is_heading:
                    hits.append((begin, start, end))
        if not hits:
            return None
        begin, start, end = hits[0 if self.dialect.counts == "first" else -1]
        start, end = around(body, start, end)
        start = max(start, begin)
        inside = section if start > begin else ""
        part = type(self)(self.text.with_body(body[start:end]), self.dialect, inside)
        part.is_part = True
        return Window(start, end, part, path, inside)

    def _blocks(self, section: str) -> Iterator[tuple[int, int]]:
        """Yield the spans of the parts of a file that belong to a section, headings included."""
        body = self.text.body
        if not section:
            first = _HEADING_LINE.search(body)
            yield 0, first.start() if first else len(body)
            return
        for start, end in lines_with(body, section) or ():
            heading = _HEADING_LINE.match(body, start)
            if heading and heading["name"].strip() == section:
                following = _HEADING_LINE.search(body, end)
                yield start, following.start() if following else len(body)

    def resolve(self, key: str) -> Path:
        """Return the path that a person means: ``section.key``, a key that only one section has, or a path."""
        from roundgate.core.formats.shared.paths import parse_path

        for dot in [at for at, char in enumerate(key) if char == "."]:
            if self._near((key[:dot], key[dot + 1 :])) or (key[:dot], key[dot + 1 :]) in self._by_path:
                return key[:dot], key[dot + 1 :]
        alone = [path for path in self._by_path if path[-1] == key]
        return alone[0] if len(alone) == 1 else parse_path(key)

    @cached_property
    def _off(self) -> list[Entry]:
        marks = "|".join(re.escape(mark) for mark in self.marks)
        pattern = re.compile(
            rf"^[ \t]*(?P<mark>(?:{marks})[ \t]?)(?P<key>[\w.+\-\[\]]+)[ \t]*=[ \t]*(?P<value>[^\r\n]*?)[ \t]*$", re.M
        )
        headings = [row for row in self.rows if row.is_heading]
        found = []
        for off in pattern.finditer(LINE_END.sub(lambda match: "\n" * len(match[0]), self.text.body)):
            above = [row for row in headings if row.start < off.start()]
            path: Path = (above[-1].section, off["key"]) if above and above[-1].section else (off["key"],)
            value, start = self._without_note(off["value"]), off.start("value")
            found.append(Entry(path, value, *off.span("key"), start, start + len(value)))
        return found

    def switched_off(self) -> Sequence[Entry]:
        """Return ``;key=value`` lines: settings that stand commented out."""
        return self._off

    def plain(self) -> list[Triple]:
        """Return section, key and value of every line that says something."""
        return [(row.section, row.key, "" if row.is_heading else self._value(row)) for row in self.rows]
