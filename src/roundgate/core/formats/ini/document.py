"""ini files: ``[section]`` headings, ``key=value`` lines, and sections of bare items.

A path is ``(section, key)``, or ``(key,)`` before any section. Of a key that stands several times the last one counts
(dialect ``counts``); ``(section, key, 0)`` is the first of them. ``(section, 0)`` is the first bare item of a
section. A value in round brackets, ``(a=1,b=(c=2))``, has its parts below it: ``(section, key, "b", "c")``. Comment
lines begin with ``;`` or ``#`` (dialect ``marks``); in the dialect ``notes`` a comment may follow a value. Quotes
around a value are no part of it, unless the dialect says ``quotes = "kept"``; with ``"needed"`` a value with a comma
or a bracket is written in quotes. The dialect says what a heading looks like (``heading``), and how a value may go on
over several lines (``blocks``, ``goes-on``), and which sections hold items that end as keys do (``items``, ``tail``).
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from roundgate.core.formats.ini.reader import _COLON, _QUOTED, IniReading, Row, Triple
from roundgate.core.formats.ini.sections import has_section, remove_section, rename_section
from roundgate.core.formats.protocol import Edit, EditRefused, Entry, EntryKind, Path, PlainData
from roundgate.core.formats.shared.key_value import as_text, closed_before, line_span, mark_in_use, single_line
from roundgate.core.patterns import lazy
from roundgate.core.text import LINE_END, Splice

_NEEDS_QUOTES = lazy(r"[,()\[\]{};#]")


class IniDocument(IniReading):
    """An ini file, read."""

    format_name = "ini"

    def _row_number(self, at: int) -> int:
        return self.rows.index(self._content[at])

    def _changed(self, at: int, value: str) -> list[Triple]:
        expected = self.plain()
        number = self._row_number(at)
        expected[number] = (*expected[number][:2], value)
        return expected

    def _long_written(self, value: str) -> str:
        """Write a value of several lines. Raises EditRefused."""
        lines = value.split("\n")
        for sign, close in self.blocks:
            if sign == close and not any(line.strip(" \t") == sign for line in lines):
                return self.text.newline.join((sign, *lines, close))
            if sign != close and lines[0] == sign and lines[-1] == close:
                return self.text.newline.join(lines)
        plain = all(line.strip(" \t") and line == line.strip(" \t") for line in lines)
        if self.dialect.goes_on == "indented" and plain and not any(line.startswith(self.marks) for line in lines):
            return (self.text.newline + "    ").join(lines)
        raise EditRefused("a value of several lines cannot be written in this file")

    def _written(self, value: str, *, was_quoted: bool, quote: str = '"') -> str:
        if "\n" in value and not self.is_by_line:
            return self._long_written(value)
        single_line(value)
        if any(value.strip(" \t") == sign for sign, _ in self.blocks) or (
            self.dialect.goes_on == "backslash" and value.endswith("\\")
        ):
            raise EditRefused(f"'{value}' would not be read back from this file")
        wanted = was_quoted or (self.dialect.quotes == "needed" and _NEEDS_QUOTES.search(value) is not None)
        risky = value != value.strip(" \t") or _QUOTED.fullmatch(value) is not None
        noted = self.dialect.notes and any(blank + mark in value for mark in self.marks for blank in " \t")
        starts = self.dialect.notes and value.startswith(self.marks)
        if self.dialect.quotes == "kept":
            if value != value.strip(" \t") or noted or starts:
                raise EditRefused(f"'{value}' would not be read back from this file")
            return value
        if not (wanted or risky or noted or starts):
            return value
        for sign in dict.fromkeys((quote, '"', "'")):
            if sign not in value and not (sign == '"' and value.endswith("\\")):
                return sign + value + sign
        if risky or noted or starts:
            raise EditRefused(f"'{value}' would not be read back from this file")
        return value

    def set(self, path: Path, value: PlainData, kind: EntryKind | None = None, *, on_copy: bool = False) -> Edit:
        """Set in place, else switch on the commented-out line, else add a line to its section. Raises EditRefused."""
        near = self._near(path)
        if near:
            return near.whole(near.document.set(near.path, value, kind), self.text)
        new = as_text(value)
        at = self._number_at(path)
        if at is not None:
            return self._replace(at, new)
        for length in range(len(path) - 1, 0, -1):
            at = self._number_at(path[:length])
            if at is not None and not (isinstance(path[length], int) and length == len(path) - 1):
                return self._set_part(at, path[length:], new)
        if len(path) > 2 or not isinstance(path[-1], str):
            raise EditRefused("there is no such entry")
        off = [entry for entry in self._off if entry.path == path]
        return self._switch_on(off[-1], new) if off else self._add(path, new)

    def _replace(self, at: int, new: str) -> Edit:
        row = self._content[at]
        raw = self.text.body[row.value_start : row.value_end]
        quoted = self.dialect.quotes != "kept" and _QUOTED.fullmatch(raw) is not None
        if not row.key and not new.strip():
            raise EditRefused("an item cannot be empty")
        written = self._written(new, was_quoted=quoted, quote=raw[:1] if quoted else '"')
        if not row.key and self._is_no_item(written):
            raise EditRefused(f"'{new}' would not be read back as an item")
        return Edit((Splice(row.value_start, row.value_end, written),), self._changed(at, new))

    def _is_no_item(self, written: str) -> bool:
        """Return whether a line would be read as something else than a bare item."""
        odd = "=" in written or written.startswith(self.marks) or self.is_heading_line(written)
        return odd or _COLON.match(written) is not None

    def _set_part(self, at: int, inner: Path, new: str) -> Edit:
        from roundgate.core.formats.ini.bracket_values import set_part

        row = self._content[at]
        raw = self.text.body[row.value_start : row.value_end]
        changed = set_part(raw, inner, single_line(new))
        quoted = self.dialect.quotes != "kept" and _QUOTED.fullmatch(changed)
        cut = Splice(row.value_start, row.value_end, changed)
        return Edit((cut,), self._changed(at, changed[1:-1] if quoted else changed))

    def _insertion(self, index: int, triple: Triple) -> list[Triple]:
        before = sum(1 for row in self.rows if row.start < index)
        plain = self.plain()
        return [*plain[:before], triple, *plain[before:]]

    def _switch_on(self, off: Entry, new: str) -> Edit:
        start = self.text.line_around(off.key_start)[0]
        lead = re.compile(r"[ \t]*").match(self.text.body, start)
        mark = lead.end() if lead else start
        section = str(off.path[0]) if len(off.path) == 2 else ""
        raw = self.text.body[off.start : off.end]
        quoted = self.dialect.quotes != "kept" and _QUOTED.fullmatch(raw) is not None
        written = self._written(new, was_quoted=quoted)
        cuts = (Splice(mark, off.key_start, ""), Splice(off.start, off.end, written))
        return Edit(cuts, self._insertion(mark, (section, str(off.path[-1]), new)))

    def _add(self, path: Path, new: str) -> Edit:
        section, key = (str(path[0]), str(path[1])) if len(path) == 2 else ("", str(path[0]))
        single_line(key, "key")
        if not key or key != key.strip() or "=" in key or key.startswith(self.marks) or self.is_heading_line(key):
            raise EditRefused(f"'{key}' cannot be a key in this file")
        if section != section.strip() or re.search(r"[\]\r\n]", section) or (len(path) == 2 and not section):
            raise EditRefused(f"'{section}' cannot be a section's name")
        mine = [row for row in self.rows if row.section == section]
        line = self._line(mine, key, new)
        if mine:
            at = line_span(self.text, mine[-1].value_end)[1]
            return self._new_lines(at, line, [(section, key, new)])
        if not section:
            at = self.rows[0].start if self.rows else len(self.text.body)
            return self._new_lines(at, line, [("", key, new)])
        at = len(self.text.body)
        gap = self.text.newline if self.rows else ""
        heading = f"{gap}{self.heading_line(section)}{self.text.newline}{line}"
        return self._new_lines(at, heading, [(section, "[", ""), (section, key, new)])

    def _new_lines(self, at: int, lines: str, triples: list[Triple]) -> Edit:
        newline = self.text.newline
        closed = closed_before(self.text, at)
        text = lines + newline if closed else newline + lines
        before = sum(1 for row in self.rows if row.start < at)
        plain = self.plain()
        return Edit((Splice(at, at, text),), [*plain[:before], *triples, *plain[before:]])

    def _line(self, mine: Sequence[Row], key: str, new: str) -> str:
        """Write a line as its neighbours are written: indentation, spaces around the sign, quotes."""
        like = [row for row in mine if row.key and not row.is_heading] or [row for row in self._content if row.key]
        lead, sign, quoted = "", "=", False
        if like:
            row = like[-1]
            lead = self.text.body[row.start : row.key_start]
            sign = self.text.body[row.key_end : row.value_start] if row.value_end > row.value_start else "="
            quoted = all(_QUOTED.fullmatch(self.text.body[row.value_start : row.value_end]) for row in like)
        sign = sign if "=" in sign else "="
        return lead + key + sign + self._written(new, was_quoted=quoted and self.dialect.quotes != "kept")

    def remove(self, path: Path) -> Edit:
        """Take out every entry of a path, or the one item, with the comment that is its alone."""
        gone = self._by_path.get(path)
        if gone is None:
            if len(path) == 1 and has_section(self, str(path[0])):
                return remove_section(self, str(path[0]))
            at = self._number_at(path)
            if at is None:
                return self._remove_part(path)
            gone = [at]
        rows = [self._content[at] for at in gone]
        numbers = {self._row_number(at) for at in gone}
        cuts = [Splice(self._own_start(row), line_span(self.text, row.value_end)[1], "") for row in rows]
        return Edit(tuple(cuts), [row for at, row in enumerate(self.plain()) if at not in numbers])

    def _own_start(self, row: Row) -> int:
        """Take the comment right above along, where blank lines around both show that it is this entry's alone."""
        body = self.text.body
        below = LINE_END.match(body, self.text.line_around(row.value_end)[1])
        follows = self.text.line_around(below.end()) if below else (len(body), len(body))
        if body[slice(*follows)].strip() and not body[slice(*follows)].strip().startswith(("[", *self.marks)):
            return row.start
        start = row.start
        while start > 0:
            above = self.text.line_around(start - 1 if body[start - 2 : start] != "\r\n" else start - 2)[0]
            read_back = body[above:start].strip()
            if not read_back.startswith(self.marks) or any(above <= off.key_start < start for off in self._off):
                return start if not read_back and start != row.start else row.start
            start = above
        return row.start

    def _remove_part(self, path: Path) -> Edit:
        from roundgate.core.formats.ini.bracket_values import remove_part

        for length in range(len(path) - 1, 0, -1):
            at = self._number_at(path[:length])
            if at is not None:
                row = self._content[at]
                changed = remove_part(self.text.body[row.value_start : row.value_end], path[length:])
                return Edit((Splice(row.value_start, row.value_end, changed),), self._changed(at, changed))
        raise EditRefused("it is not in the file")

    def rename(self, path: Path, name: str) -> Edit:
        """Give a key, or a section, another name. Raises EditRefused."""
        gone = self._by_path.get(path, [])
        if not gone and len(path) == 1 and has_section(self, str(path[0])):
            return rename_section(self, str(path[0]), name)
        if not gone or not isinstance(path[-1], str):
            raise EditRefused("there is no key to rename")
        if (*path[:-1], name) in self._by_path:
            raise EditRefused(f"{name} already exists")
        odd = not name or name != name.strip() or re.search(r"[=\r\n]", name)
        if odd or name.startswith(self.marks) or self.is_heading_line(name):
            raise EditRefused(f"'{name}' cannot be a key in this file")
        numbers = {self._row_number(at) for at in gone}
        cuts = [Splice(self._content[at].key_start, self._content[at].key_end, name) for at in gone]
        return Edit(
            tuple(cuts),
            [(row[0], name, row[2]) if at in numbers else row for at, row in enumerate(self.plain())],
        )

    def insert(self, path: Path, value: PlainData, kind: EntryKind | None = None) -> Edit:
        """Put a bare item into a section, or one more line for a key that stands several times. Raises EditRefused."""
        new = as_text(value)
        if len(path) < 2 or not isinstance(path[-1], int):
            raise EditRefused("there is no list to put it into")
        if len(path) == 3 or (path[:-1] in self._by_path):
            return self._insert_repeated(path, new)
        section = str(path[0])
        items = [row for row in self._content if row.section == section and not row.key]
        heading = [row for row in self.rows if row.section == section]
        written = self._written(new, was_quoted=False)
        if not new.strip() or self._is_no_item(written):
            raise EditRefused(f"'{new}' would not be read back as an item")
        if not heading:
            gap = self.text.newline if self.rows else ""
            tail = self.dialect.tail if section in self.dialect.items else ""
            lines = f"{gap}{self.heading_line(section)}{self.text.newline}{written}{tail}"
            return self._new_lines(len(self.text.body), lines, [(section, "[", ""), (section, "", new)])
        if path[-1] < len(items):
            at = items[path[-1]].start
        else:
            at = line_span(self.text, (items or heading)[-1].value_end)[1]
        lead = self.text.body[items[0].start : items[0].value_start] if items else ""
        tail = self.dialect.tail if section in self.dialect.items else ""
        return self._new_lines(at, lead + written + tail, [(section, "", new)])

    def _insert_repeated(self, path: Path, new: str) -> Edit:
        several = [self._content[at] for at in self._by_path.get(path[:-1], [])]
        if not several:
            raise EditRefused("there is no such key yet; set it first")
        number, key, section = int(path[-1]), str(path[-2]), several[0].section
        at = several[number].start if number < len(several) else line_span(self.text, several[-1].value_end)[1]
        return self._new_lines(at, self._line(several, key, new), [(section, key, new)])

    def move(self, path: Path, to: int) -> Edit:
        """Move a bare item, or one of the lines of a key that stands several times; the values change places.

        Raises EditRefused.
        """
        if not path or not isinstance(path[-1], int):
            raise EditRefused("there is no list to move it in")
        numbers = self._by_path.get(path[:-1])
        if numbers is None:
            numbers = [
                at
                for at, entry in enumerate(self._entries)
                if len(entry.path) == len(path) == 2 and entry.path[0] == path[0] and isinstance(entry.path[1], int)
            ]
        if not (0 <= path[-1] < len(numbers) and 0 <= to < len(numbers)):
            raise EditRefused(f"the list has items 0 to {len(numbers) - 1}")
        order = list(numbers)
        order.insert(to, order.pop(path[-1]))
        expected, cuts = self.plain(), []
        for slot, source in zip(numbers, order, strict=True):
            here, there = self._content[slot], self._content[source]
            raw = self.text.body[there.value_start : there.value_end]
            if slot != source:
                cuts.append(Splice(here.value_start, here.value_end, raw))
                expected[self._row_number(slot)] = (here.section, here.key, self._value(there))
        return Edit(tuple(cuts), expected)

    def switch(self, path: Path, *, on: bool) -> Edit:
        """Comment an entry out, or set the commented-out one as it stands. Raises EditRefused."""
        if on:
            off = [entry for entry in self._off if entry.path == path]
            if not off or self._number_at(path) is not None:
                raise EditRefused(f"{path[-1]} is not commented out in the file")
            return self._as_it_stood(off[-1])
        gone = self._by_path.get(path)
        if gone is None:
            raise EditRefused(f"{path[-1]} is not in the file")
        if len(gone) > 1:
            raise EditRefused(f"{path[-1]} is there more than once; specify which by its number, from 0: {path[-1]}[0]")
        numbers = {self._row_number(at) for at in gone}
        mark = mark_in_use(self.text, self.marks)
        cuts = [Splice(self._content[at].key_start, self._content[at].key_start, mark) for at in gone]
        return Edit(tuple(cuts), [row for at, row in enumerate(self.plain()) if at not in numbers])

    def _as_it_stood(self, off: Entry) -> Edit:
        body = self.text.body
        start, end = self.text.line_around(off.key_start)
        mark = start + len(body[start:end]) - len(body[start:end].lstrip(" \t"))
        # Read as it would be without its mark: a line of prose may look like a key until then.
        read_back = IniDocument(self.text.with_body(body[off.key_start : end]), self.dialect).plain()
        if len(read_back) != 1:
            raise EditRefused(f"{off.path[-1]} cannot be read where it is commented out")
        section = str(off.path[0]) if len(off.path) == 2 else ""
        return Edit((Splice(mark, off.key_start, ""),), self._insertion(mark, (section, *read_back[0][1:])))
