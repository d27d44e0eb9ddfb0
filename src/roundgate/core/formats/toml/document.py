"""TOML 1.0 files: tables, dotted keys, arrays of tables, inline tables, and every kind of string.

Values come from the standard library's reader, which also confirms every edit. Spans come from a scan of our own,
made when an edit or a finding needs one. A table of an array of tables has a number in its path: ``("levels", 0,
"points")``."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

from roundgate.core.formats.protocol import Edit, EditRefused, EntryKind, Path, PlainData
from roundgate.core.formats.shared import bracket_edits as bracketed
from roundgate.core.formats.shared.bracket_edits import Brackets, Span
from roundgate.core.formats.shared.commented_out import Uncommented, commented, uncommented
from roundgate.core.formats.shared.key_value import closed_before, line_span
from roundgate.core.formats.shared.scalars import fitted
from roundgate.core.formats.toml.reader import TomlReading
from roundgate.core.formats.toml.spans import Child, Statement, Value, children
from roundgate.core.formats.toml.writer import (
    has,
    key_text,
    like,
    meaning,
    part,
    value_text,
    with_item,
    with_move,
    with_value,
    without,
)
from roundgate.core.text import Splice

_COMMENT = r"#[^\r\n]*"


STRICT = 300_000


class Off(NamedTuple):
    """A key that stands commented out: its lines, its value, and the span of that where it has one line."""

    lines: Uncommented
    plain: PlainData
    value: tuple[int, int]


class TomlDocument(TomlReading):
    """A TOML file, read."""

    format_name = "toml"

    def set(self, path: Path, value: PlainData, kind: EntryKind | None = None, *, on_copy: bool = False) -> Edit:
        """Replace a value in its place, else switch on the commented-out line, else add one to its table.

        Raises EditRefused.
        """
        way = self._way(path)
        if not way:
            return self._add(path, value, kind)
        here = way[-1].value
        if here.kind in ("list", "map") and not isinstance(value, dict | list):
            raise EditRefused(f"there is a {here.kind} here, and a single value cannot replace it")
        raw = self.text.body[here.start : here.end]
        written = like(raw, here.kind, value, kind)
        return Edit((Splice(here.start, here.end, written),), with_value(self.plain(), path, meaning(written)))

    def _add(self, path: Path, value: PlainData, kind: EntryKind | None) -> Edit:
        if not path or not isinstance(path[-1], str):
            raise EditRefused("there is no such place in the file")
        written = value_text(fitted(value, kind, None))
        expected = with_value(self.plain(), path, meaning(written))
        off = self._off(path)
        if off and len(off.lines.cuts) == 1:
            return Edit((*off.lines.cuts, Splice(*off.value, written)), expected)
        inline = self._inline_home(path)
        if inline is not None:
            child, rest = inline
            where = self._brackets(child.value)
            member = f"{key_text(rest)} = {written}"
            return Edit(tuple(bracketed.added(where, len(where.items), member)), expected)
        return Edit((self._new_line(path, written),), expected)

    def _inline_home(self, path: Path) -> tuple[Child, Path] | None:
        """Find the inline table into which a path leads, and the steps that remain."""
        for length in range(len(path) - 1, 0, -1):
            way = self._way(path[:length])
            if way and way[-1].value.kind == "map":
                return way[-1], path[length:]
            if way:
                raise EditRefused(f"{path[length]} has no table to be in")
        return None

    def _new_line(self, path: Path, written: str) -> Splice:
        """Put ``key = value`` after its table's last one, or a new table at the end of the file."""
        for length in range(len(path) - 1, -1, -1):
            table = path[:length]
            mine = [
                statement for statement in self.statements if statement.table == table and statement.value is not None
            ]
            dotted = [
                statement
                for statement in mine
                if len(statement.keys) > 1 and path[: len(statement.path) - 1] == statement.path[:-1]
            ]
            if table and not mine and self._heading(table) is None:
                continue
            # A dotted key in a table that has none would surprise its reader: [a.b] is what such files have.
            if length < len(path) - 1 and not dotted:
                continue
            # Behind the first heading every key belongs to a table, so one of the top must be put above it.
            if not table and not mine:
                return self._before_headings(path, written)
            last = (dotted or mine)[-1] if dotted or mine else self._heading(table)
            assert last is not None
            return self._below(last, f"{key_text(path[length:])}{self._sign(mine)}{written}")
        return self._new_table(path, written)

    def _sign(self, mine: Sequence[Statement]) -> str:
        if not mine or mine[-1].value is None:
            return " = "
        sign = self.text.body[mine[-1].spans[-1][1] : mine[-1].value.start]
        return sign if re.fullmatch(r"[ \t]*=[ \t]*", sign) else " = "

    def _below(self, last: Statement, line: str) -> Splice:
        lead = self.text.body[self.text.line_around(last.start)[0] : last.start]
        at = line_span(self.text, last.end)[1]
        lead = lead if not lead.strip() else ""
        if closed_before(self.text, at):
            return Splice(at, at, lead + line + self.text.newline)
        return Splice(at, at, self.text.newline + lead + line)

    def _before_headings(self, path: Path, written: str) -> Splice:
        line, newline = f"{key_text(path)} = {written}", self.text.newline
        if self.statements:
            at = self._own_start(self.statements[0])
            return Splice(at, at, line + newline + newline)
        at = len(self.text.body)
        return Splice(at, at, line + newline if closed_before(self.text, at) else newline + line)

    def _new_table(self, path: Path, written: str) -> Splice:
        if any(isinstance(step, int) for step in path[:-1]):
            number = max(at for at, step in enumerate(path[:-1]) if isinstance(step, int))
            if self._heading(path[: number + 1]) is None:
                raise EditRefused("there is no such table in the file")
            raise EditRefused("a table inside one of several is added by hand")
        newline, at = self.text.newline, len(self.text.body)
        under = [
            statement
            for statement in self.statements
            if statement.value is None and statement.table[: len(path) - 1] == path[:-1]
        ]
        head = f"[{key_text(path[:-1])}]{newline}{key_text(path[-1:])} = {written}{newline}"
        if under:
            start = self._own_start(under[0])
            return Splice(start, start, head + newline)
        gap = (newline if self.text.body.strip() else "") + ("" if closed_before(self.text, at) else newline)
        return Splice(at, at, gap + head)

    def _brackets(self, value: Value) -> Brackets:
        spans = [Span(child.key_start, child.value.end) for child in children(self.text.body, value)]
        unit = bracketed.unit_of(self.text.body)
        # An inline table may hold neither line ends nor comments before TOML 1.1.
        inline = value.kind == "map"
        comment = "" if inline else _COMMENT
        return Brackets(self.text.body, value.start + 1, value.end - 1, spans, self.text.newline, comment, ",", unit)

    def _own_start(self, statement: Statement) -> int:
        """Return where a statement starts with the comment lines right above it."""
        start = self.text.line_around(statement.start)[0]
        while start > 0:
            above = self.text.line_around(start - (2 if self.text.body[start - 2 : start] == "\r\n" else 1))[0]
            if not self.text.body[above:start].lstrip().startswith("#"):
                break
            start = above
        return start

    def _block(self, table: Path) -> tuple[int, int, int]:
        """Return where a table begins with its comment, where its heading begins, and where all below it ends."""
        heads = [statement for statement in self.statements if statement.value is None]
        first = next((at for at, statement in enumerate(heads) if statement.table == table), None)
        if first is None:
            raise EditRefused("it has no heading in the file")
        following = next((head for head in heads[first + 1 :] if head.table[: len(table)] != table), None)
        if (
            any(head.table[: len(table)] == table for head in heads[heads.index(following) :] if following)
            if following
            else False
        ):
            raise EditRefused("its parts are in several places of the file; edit it by hand")
        end = self._own_start(following) if following else len(self.text.body)
        return self._own_start(heads[first]), heads[first].start, end

    def _array_of(self, path: Path) -> tuple[list[tuple[int, int, int]], Path] | None:
        """Return the blocks of the array of tables that a path ends in."""
        if not path or not isinstance(path[-1], int):
            return None
        home, length = path[:-1], len(path)
        heads = [statement for statement in self.statements if statement.value is None]
        found: dict[int, list[int]] = {}
        for at, head in enumerate(heads):
            if (
                len(head.table) >= length
                and head.table[: length - 1] == home
                and isinstance(head.table[length - 1], int)
            ):
                found.setdefault(int(head.table[length - 1]), []).append(at)
        blocks: list[tuple[int, int, int]] = []
        # Tables of an array are numbered by the order of their headings, and each has its sub-tables behind it.
        while len(blocks) in found and self._heading((*home, len(blocks))) is not None:
            mine = found[len(blocks)]
            # Another table's heading stands among them.
            if mine[-1] - mine[0] >= len(mine):
                raise EditRefused("its parts are in several places of the file; edit it by hand")
            first, after = heads[mine[0]], mine[-1] + 1
            end = self._own_start(heads[after]) if after < len(heads) else len(self.text.body)
            blocks.append((self._own_start(first), first.start, end))
        return (blocks, home) if blocks else None

    def remove(self, path: Path) -> Edit:
        """Take out a key, an item, or a table with all that is in it."""
        expected = without(self.plain(), path)
        way = self._way(path)
        if not way:
            start, _, end = self._block(path)
            return Edit((Splice(start, end, ""),), expected)
        if len(way) > 1:
            where = self._brackets(way[-2].value)
            number = [child.value.start for child in children(self.text.body, way[-2].value)].index(way[-1].value.start)
            return Edit(tuple(bracketed.removed(where, number)), expected)
        statement = next(statement for statement in self.statements if statement.value == way[0].value)
        start = (
            self._own_start(statement) if self._owns_comment(statement) else self.text.line_around(statement.start)[0]
        )
        self._refuse_last(statement)
        return Edit((Splice(start, line_span(self.text, statement.end)[1], ""),), expected)

    def _refuse_last(self, statement: Statement) -> None:
        # With the last dotted key its table would be gone from the tree, which is more than was asked for.
        if len(statement.keys) > 1 and sum(other.path[:-1] == statement.path[:-1] for other in self.statements) == 1:
            raise EditRefused("it is the last of its table; remove the table, or edit the file by hand")

    def _owns_comment(self, statement: Statement) -> bool:
        """Return whether the comment above is a statement's alone: blank lines stand around both."""
        body = self.text.body
        start, end = self._own_start(statement), line_span(self.text, statement.end)[1]
        above = not body[:start].strip() or re.search(r"(?:\r?\n)[ \t]*\r?\n\Z", body[:start]) is not None
        below = re.match(r"[ \t]*(?:\r?\n|\Z)", body[end:]) is not None
        return bool(above and below and body[:start].strip())

    def rename(self, path: Path, name: str) -> Edit:
        """Give a key another name. Raises EditRefused."""
        way = self._way(path)
        if not way or not isinstance(path[-1], str):
            raise EditRefused("there is no key to rename; a table is renamed by hand")
        if self.find((*path[:-1], name)) is not None or has(self.plain(), (*path[:-1], name)):
            raise EditRefused(f"{name} already exists")
        body = self.text.body
        key = body[way[-1].key_start : way[-1].key_end]
        # Of a dotted key only the last part is renamed; a dot inside quotes is none.
        last = list(re.finditer(r'[A-Za-z0-9_-]+|"(?:[^"\\\n]|\\.)*"|\'[^\'\n]*\'', key))[-1]
        cut = Splice(way[-1].key_start + last.start(), way[-1].key_start + last.end(), key_text((name,)))
        moved = with_value(without(self.plain(), path), (*path[:-1], name), part(self.plain(), path))
        return Edit((cut,), moved)

    def insert(self, path: Path, value: PlainData, kind: EntryKind | None = None) -> Edit:
        """Put an item into an array, or a whole table into an array of tables. Raises EditRefused."""
        array = self._array_of((*path[:-1], 0)) if path and isinstance(path[-1], int) else None
        if array is not None:
            return self._insert_table(array[0], path, value)
        way = self._way(path[:-1])
        if not way or way[-1].value.kind != "list":
            raise EditRefused("there is no list to put it into")
        where = self._brackets(way[-1].value)
        at = min(int(path[-1]), len(where.items))
        items = list(children(self.text.body, way[-1].value))
        raw = self.text.body[items[0].value.start : items[0].value.end] if items else ""
        present = items[0].value.kind if items and items[0].value.kind in ("text", "number", "bool") else None
        written = like(raw, present, value, kind) if present else value_text(fitted(value, kind, None))
        expected = with_item(self.plain(), (*path[:-1], at), meaning(written))
        return Edit(tuple(bracketed.added(where, at, written)), expected)

    def _insert_table(self, blocks: list[tuple[int, int, int]], path: Path, value: PlainData) -> Edit:
        if not isinstance(value, dict):
            raise EditRefused("an item of this list is a table: give names and values")
        newline, at = self.text.newline, min(int(path[-1]), len(blocks))
        names = [step for step in path[:-1] if isinstance(step, str)]
        lines = [f"[[{key_text(tuple(names))}]]"]
        lines += [
            f"{key_text((name,))}{self._style(path)}{value_text(fitted(item, None, None))}"
            for name, item in value.items()
        ]
        tree = {name: meaning(value_text(fitted(item, None, None))) for name, item in value.items()}
        body, record = self.text.body, newline.join(lines) + newline
        if at < len(blocks):
            cut = Splice(blocks[at][0], blocks[at][0], record + newline)
        else:
            end = blocks[-1][0] + len(body[blocks[-1][0] : blocks[-1][2]].rstrip())
            end = line_span(self.text, end)[1]
            cut = Splice(end, end, ("" if closed_before(self.text, end) else newline) + newline + record)
        return Edit((cut,), with_item(self.plain(), (*path[:-1], at), tree))

    def _style(self, path: Path) -> str:
        mine = [
            statement
            for statement in self.statements
            if statement.value and statement.table[: len(path) - 1] == path[:-1]
        ]
        return self._sign(mine)

    def move(self, path: Path, to: int) -> Edit:
        """Move an item of an array, or a table of an array of tables. Raises EditRefused."""
        if not path:
            raise EditRefused("there is no list to move it in")
        array = self._array_of(path)
        expected = with_move(self.plain(), path, to)
        if array is None:
            way = self._way(path[:-1])
            if not way or way[-1].value.kind != "list":
                raise EditRefused("there is no list to move it in")
            return Edit(tuple(bracketed.moved(self._brackets(way[-1].value), int(path[-1]), to)), expected)
        body = self.text.body
        texts = [body[start:end].rstrip() for start, _, end in array[0]]
        order = list(range(len(texts)))
        order.insert(to, order.pop(int(path[-1])))
        cuts = [
            Splice(array[0][slot][0], array[0][slot][0] + len(texts[slot]), texts[source])
            for slot, source in enumerate(order)
            if slot != source
        ]
        return Edit(tuple(cuts), expected)

    def switch(self, path: Path, *, on: bool) -> Edit:
        """Comment a key out, or set the commented-out one as it stands. Raises EditRefused."""
        if on:
            off = self._off(path)
            if off is None or self._way(path):
                raise EditRefused(f"{path[-1]} is not commented out in the file")
            return Edit(off.lines.cuts, with_value(self.plain(), path, off.plain))
        statement = next(
            (statement for statement in self.statements if statement.value and statement.path == path), None
        )
        if statement is None:
            raise EditRefused("only a key with its value can be commented out")
        self._refuse_last(statement)
        return Edit(commented(self.text, statement.start, statement.end, "#"), without(self.plain(), path))

    def _off(self, path: Path) -> Off | None:
        """Find the last key of a path that stands commented out and can be read: the fewest lines that can."""
        for entry in reversed([off for off in self.switched_off() if off.path == path]):
            for lines in uncommented(self.text, entry.key_start, "#"):
                block = TomlDocument(self.text.with_body(lines.left))
                if not block.error and len(block.statements) == 1 and (value := block.statements[0].value):
                    span = (entry.key_start + value.start, entry.key_start + value.end)
                    return Off(lines, part(block.plain(), block.statements[0].path), span)
        return None
