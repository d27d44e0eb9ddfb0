"""Lua data files: tables, and calls that take a table, such as ``role("MARSHAL", { pay = 3 })``.

A path begins with the name that is assigned, with ``return``, or with a call's name and first text: ``("role",
"MARSHAL", "pay")``. Calls without a text, and items of a table without a name, have a number. What is not a plain value
(a condition, a function) is kept as text, of the kind ``code``. The grammar of tree-sitter reads the file and gives
the spans; an edit is confirmed by a tokenizer of our own: every token must be as before, but for those asked
for, and the grammar must find no mistake."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

from roundgate.core.formats.lua.grammar import Item, Statement, fields, kind_of, outermost, parse, tokens
from roundgate.core.formats.lua.reader import LuaReading
from roundgate.core.formats.lua.writer import KEYWORDS, NAME, Code, LuaWriting, is_lua_number, key_text, plain_scalar
from roundgate.core.formats.protocol import Edit, EditRefused, Entry, EntryKind, Path, PlainData
from roundgate.core.formats.shared import bracket_edits as bracketed
from roundgate.core.formats.shared.bracket_edits import Brackets, Span
from roundgate.core.formats.shared.commented_out import commented, uncommented
from roundgate.core.formats.shared.key_value import closed_before, line_span
from roundgate.core.formats.shared.scalars import Number, fitted
from roundgate.core.formats.shared.trees import nested
from roundgate.core.patterns import lazy
from roundgate.core.text import LINE_END, Splice

_COMMENT = r"--(?!\[=*\[)[^\r\n]*|--\[\[(?:(?!\]\])[^\r\n])*\]\]"
_HAS_COMMA = lazy(rf"(?:\s|{_COMMENT})*+[,;]")


class Promise(NamedTuple):
    """What an edit promises: the text outside a span as it was, the tokens inside, and the value that was set there."""

    before: str
    start: int
    end: int
    tokens: list[str]
    path: Path | None = None
    value: str | None = None


def _code(source: str) -> Code:
    """Return an expression as code. Raises EditRefused where it is none."""
    if parse(f"x = {source}\n").has_error:
        raise EditRefused(f"this is not valid Lua: {source}")
    return Code(source)


class LuaDocument(LuaWriting):
    """A Lua data file, read."""

    format_name = "lua"

    def _promise(self, cuts: Sequence[Splice], path: Path | None = None, value: str | None = None) -> Edit:
        """Return an edit with its promise: the tokens outside its splices as they are, and those that it puts in."""
        promised: list[str] = []
        body = self.text.body
        ordered = sorted(cuts, key=lambda cut: (cut.start, cut.end))
        start, end = self._statement_around(ordered[0].start, ordered[-1].end) if ordered else (0, len(body))
        at = start
        for cut in ordered:
            promised += [*tokens(body[at : cut.start]), *tokens(cut.new)]
            at = cut.end
        return Edit(tuple(cuts), Promise(body, start, end, [*promised, *tokens(body[at:end])], path, value))

    def _statement_around(self, start: int, end: int) -> tuple[int, int]:
        """Return span of the outermost statement that a span is inside of; of the whole text where there is none."""
        node = outermost(self.root, start, end)
        inside = node is not None and node.start_byte < start and end < node.end_byte
        return (node.start_byte, node.end_byte) if inside else (0, len(self.text.body))

    def set(self, path: Path, value: PlainData, kind: EntryKind | None = None, *, on_copy: bool = False) -> Edit:
        """Replace a value in its place, or put a name into its table in the style of its neighbours.

        Raises EditRefused.
        """
        way = self._locate(path)
        if way is None:
            return self._add(path, value, kind)
        node = way[-1].node
        present = kind_of(node, self.text.body)
        if present in ("map", "list") and not isinstance(value, dict | list):
            raise EditRefused(f"there is a {present} here, and a single value cannot replace it")
        if present == "code" and kind is None:
            raise EditRefused(
                "what is there is worked out by the server when it starts; --kind bool, number or text replaces it"
            )
        if kind == "code":
            new: PlainData = _code(str(value))
        elif isinstance(value, str) and kind is None and present == "number" and is_lua_number(value):
            new = Number(value)
        else:
            new = fitted("" if value == "nil" and present == "null" else value, kind, present)
        written = self.written(new, self._raw(node)[:2])
        promised = plain_scalar(new)
        return self._promise([Splice(node.start_byte, node.end_byte, written)], path, promised)

    def _add(self, path: Path, value: PlainData, kind: EntryKind | None) -> Edit:
        off = [entry for entry in self.switched_off() if entry.path == path]
        new = _code(str(value)) if kind == "code" else fitted(value, kind, None)
        if off and not isinstance(new, dict | list) and not off[-1].value.startswith("{"):
            return self._switched_on(off[-1], self.written(new), path, plain_scalar(new))
        for length in range(len(path) - 1, 0, -1):
            way = self._locate(path[:length])
            if way is not None:
                return self._add_field(way[-1], path[length:], new)
        return self._add_statement(path, new)

    def _add_field(self, home: Item, rest: Path, new: PlainData) -> Edit:
        if home.node.type != "table_constructor" or isinstance(rest[0], int):
            raise EditRefused(f"there is no {rest[0]} in what is there")
        where, inner = self._brackets(home), list(fields(self.text.body, home.node))
        like = inner[-1] if inner else None
        sign = self.text.body[like.key_end : like.node.start_byte] if like and isinstance(like.step, str) else " = "
        sign = sign if re.fullmatch(r"[ \t]*=[ \t]*", sign) else " = "
        written = self._like(like, nested(rest[1:], new) if len(rest) > 1 else new)
        member = key_text(str(rest[0]), self.quote_sign) + sign + written
        return self._promise(bracketed.added(where, len(where.items), member))

    def _like(self, like: Item | None, new: PlainData) -> str:
        """Write a record over several lines where its neighbour is written so."""
        if like is None or not isinstance(new, dict | list):
            return self.written(new)
        spread = LINE_END.search(self._raw(like.node)) is not None
        return self.written(new, "", bracketed._indent_at(self.text.body, like.whole_start), spread=spread)

    def _brackets(self, home: Item) -> Brackets:
        spans = [Span(field.whole_start, field.whole_end) for field in fields(self.text.body, home.node)]
        tight = re.search(r",(?=\S)", self._raw(home.node)) is not None and ", " not in self._raw(home.node)
        start, end = home.node.start_byte, home.node.end_byte
        return Brackets(self.text.body, start + 1, end - 1, spans, self.text.newline, _COMMENT, ",;", self.unit, tight)

    def _add_statement(self, path: Path, new: PlainData) -> Edit:
        """Put in a call beside others of its name, or an assignment at the end."""
        mates = [
            statement for statement in self.statements if statement.path[0] == path[0] and len(statement.path) == 2
        ]
        if len(path) == 2 and mates and isinstance(path[1], str) and isinstance(new, dict):
            last = mates[-1]
            called = self.text.body[last.start : last.start + len(str(path[0]))]
            spread = last.value is not None and LINE_END.search(self._raw(last.value)) is not None
            gap = self.text.body[last.key[1] : last.value.start_byte] if last.value is not None else ", "
            head = self.text.body[last.start + len(called) : last.key[0]]
            tail = self.text.body[last.value.end_byte : last.end] if last.value is not None else ")"
            quote = self.text.body[last.key[0] : last.key[0] + 1]
            record = self.written(new, quote, "", spread=spread)
            line = f"{called}{head}{self.quoted(path[1], quote)}{gap}{record}{tail}"
            return self._line_at(line_span(self.text, last.end)[1], line, blank=self._parted(mates))
        if len(path) == 1 and isinstance(path[0], str) and NAME.fullmatch(path[0]) and path[0] not in KEYWORDS:
            if any(statement.path == ("return",) for statement in self.statements):
                raise EditRefused("the file ends in a return; nothing can come after it")
            return self._line_at(len(self.text.body), f"{path[0]} = {self.written(new)}", blank=False)
        raise EditRefused("there is nothing in the file to put it into")

    def _parted(self, mates: Sequence[Statement]) -> bool:
        if len(mates) < 2:
            return False
        between = self.text.body[mates[-2].end : mates[-1].start]
        return len(LINE_END.findall(between)) > 1

    def _line_at(self, at: int, line: str, *, blank: bool) -> Edit:
        newline = self.text.newline
        lead = newline if blank else ""
        if closed_before(self.text, at):
            return self._promise([Splice(at, at, lead + line + newline)])
        return self._promise([Splice(at, at, newline + lead + line)])

    def insert(self, path: Path, value: PlainData, kind: EntryKind | None = None) -> Edit:
        """Put an item into a table that is a list. Raises EditRefused."""
        way = self._locate(path[:-1]) if path else None
        if way is None or way[-1].node.type != "table_constructor" or not isinstance(path[-1], int):
            raise EditRefused("there is no list to put it into")
        inner = list(fields(self.text.body, way[-1].node))
        numbered = [at for at, item in enumerate(inner) if isinstance(item.step, int)]
        at = numbered[path[-1]] if path[-1] < len(numbered) else len(inner)
        like = inner[min(at, len(inner) - 1)] if inner else None
        present = kind_of(like.node, self.text.body) if like else None
        new = fitted(value, kind, present if present in ("text", "number", "bool") else None)
        written = (
            self._like(like, new)
            if isinstance(new, dict | list)
            else self.written(new, self._raw(like.node)[:1] if like and present == "text" else "")
        )
        return self._promise(bracketed.added(self._brackets(way[-1]), at, written))

    def remove(self, path: Path) -> Edit:
        """Take out a field or an item with its comma and comment, or a whole statement with its lines.

        Raises EditRefused.
        """
        statement = next((statement for statement in reversed(self.statements) if statement.path == path), None)
        if statement is not None:
            start, _ = self.text.line_around(statement.start)
            stop = line_span(self.text, statement.end)[1]
            rest = self.text.body[statement.end : stop].strip()
            if self.text.body[start : statement.start].strip() or (
                rest and not re.fullmatch(rf";?[ \t]*(?:{_COMMENT})?", rest)
            ):
                return self._promise([Splice(statement.start, statement.end, "")])
            return self._promise([Splice(start, stop, "")])
        way = self._locate(path)
        if way is None or len(way) < 2:
            raise EditRefused("it is not in the file")
        inner = list(fields(self.text.body, way[-2].node))
        same = [at for at, item in enumerate(inner) if item.step == path[-1]]
        if len(same) > 1:
            raise EditRefused("it is there more than once; delete the ones that should not count first")
        return self._removed(way[-2], same[0])

    def _removed(self, home: Item, at: int) -> Edit:
        return self._promise(bracketed.removed(self._brackets(home), at))

    def rename(self, path: Path, name: str) -> Edit:
        """Give a field another name, or a call another first text. Raises EditRefused."""
        call = next((statement for statement in self.statements if statement.path == path and len(path) == 2), None)
        taken = (*path[:-1], name)
        if self._locate(taken) is not None or any(statement.path == taken for statement in self.statements):
            raise EditRefused(f"{name} already exists")
        if call is not None:
            quote = self.text.body[call.key[0] : call.key[0] + 1]
            return self._promise([Splice(*call.key, self.quoted(name, quote))])
        way = self._locate(path)
        if way is None or len(way) < 2 or not isinstance(path[-1], str) or path[-1].startswith("["):
            raise EditRefused("there is no name to change")
        item = way[-1]
        bracket = self.text.body[item.whole_start] == "["
        sign = self.text.body.index("=", item.key_end)
        end = len(self.text.body[:sign].rstrip()) if bracket else item.key_end
        return self._promise(
            [Splice(item.whole_start if bracket else item.key_start, end, key_text(name, self.quote_sign))]
        )

    def move(self, path: Path, to: int) -> Edit:
        """Move an item of a list, or a call among those of its name. Raises EditRefused."""
        calls = [
            statement for statement in self.statements if statement.path[:1] == path[:1] and len(statement.path) == 2
        ]
        here = next((at for at, statement in enumerate(calls) if statement.path == path), None)
        if here is not None:
            return self._swapped([(statement.start, statement.end) for statement in calls], here, to)
        way = self._locate(path)
        if way is None or len(way) < 2 or not isinstance(path[-1], int):
            raise EditRefused("there is no such item")
        inner = list(fields(self.text.body, way[-2].node))
        numbered = [at for at, item in enumerate(inner) if isinstance(item.step, int)]
        if to >= len(numbered) or len(numbered) != len(inner):
            raise EditRefused(f"the list has items 0 to {len(numbered) - 1}, or names among them")
        return self._promise(bracketed.moved(self._brackets(way[-2]), path[-1], to))

    def _swapped(self, spans: list[tuple[int, int]], at: int, to: int) -> Edit:
        if not 0 <= to < len(spans):
            raise EditRefused(f"there are calls 0 to {len(spans) - 1}")
        order = list(range(len(spans)))
        order.insert(to, order.pop(at))
        return self._promise(
            [
                Splice(*spans[slot], self.text.body[slice(*spans[source])])
                for slot, source in enumerate(order)
                if slot != source
            ]
        )

    def switch(self, path: Path, *, on: bool) -> Edit:
        """Comment out a field that has its lines to itself, or set the commented-out one as it stands.

        Raises EditRefused.
        """
        if on:
            off = [entry for entry in self.switched_off() if entry.path == path]
            if not off or self._locate(path) is not None:
                raise EditRefused(f"{path[-1]} is not commented out in the file")
            return self._block_on(off[-1], path)
        way = self._locate(path)
        if way is None or len(way) < 2:
            raise EditRefused("only a field of a table can be commented out")
        item = way[-1]
        start, _ = self.text.line_around(item.whole_start)
        stop = line_span(self.text, item.whole_end)[1]
        if self.text.body[start : item.whole_start].strip() or not re.match(
            rf"[ \t]*[,;]?[ \t]*(?:{_COMMENT})?[ \t]*(?:[\r\n]|\Z)", self.text.body[item.whole_end : stop]
        ):
            raise EditRefused("only a field that has its lines to itself can be commented out")
        gone = Splice(start, stop, "")
        return Edit(commented(self.text, item.whole_start, item.whole_end, "--"), self._promise([gone]).expected)

    def _block_on(self, off: Entry, path: Path) -> Edit:
        """Set a field as it stands commented out, over as many lines as it takes to read it."""
        for lines in uncommented(self.text, off.key_start, "--"):
            if not parse(f"x = {{\n{lines.left}}}").has_error:
                break
        else:
            raise EditRefused(f"{path[-1]} is commented out, but only in part")
        start = lines.cuts[0].start
        marks = sum(cut.end - cut.start for cut in lines.cuts)
        written = self.text.spliced(lines.cuts).body[start : lines.end - marks]
        table = "x = {\n"
        field = LuaReading(self.text.with_body(f"{table}{written}\n}}"))._locate(("x", path[-1]))
        if field is None:
            raise EditRefused(f"{path[-1]} is commented out together with other things")
        end = field[-1].whole_end - len(table)
        comma = "" if _HAS_COMMA.match(written, end) else ","
        return self._in_place(start, lines.end, written[:end] + comma + written[end:], path, None)

    def _switched_on(self, off: Entry, written: str, path: Path, promised: str | None) -> Edit:
        """Set a field of one line that stands commented out to another value."""
        body = self.text.body
        mark, line_end = body.rfind("--", 0, off.key_start), self.text.line_around(off.start)[1]
        rest = body[off.end : line_end]
        comma = "" if rest.lstrip()[:1] in (",", ";") and rest.strip() else ","
        line = f"{body[off.key_start : off.start]}{written}{comma}{rest}"
        return self._in_place(mark, line_end, line, path, promised)

    def _in_place(self, start: int, end: int, field: str, path: Path, promised: str | None) -> Edit:
        """Put a field in place of a comment, and a comma after the one before it where there is none."""
        cuts = [Splice(start, end, field)]
        parent = self._locate(path[:-1])
        before = [item for item in fields(self.text.body, parent[-1].node) if item.whole_end < start] if parent else []
        if before and not _HAS_COMMA.match(self.text.body, before[-1].whole_end):
            cuts.insert(0, Splice(before[-1].whole_end, before[-1].whole_end, ","))
        return self._promise(cuts, path, promised)
