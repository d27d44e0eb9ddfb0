"""Reading Lua data files: what stands where, and what it says. ``lua`` edits them."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import Any

from roundgate.core.formats.lua.grammar import (
    Item,
    Statement,
    fields,
    kind_of,
    outermost,
    parse,
    statements,
    text_of,
    tokens,
)
from roundgate.core.formats.protocol import USUAL, Dialect, EditRefused, Entry, Path
from roundgate.core.patterns import lazy
from roundgate.core.text import Text

_OFF = lazy(
    r"^[ \t]*(?P<mark>--[ \t]?)(?P<key>[A-Za-z_]\w*|\[[ \t]*(?:\"[^\"\r\n]*\"|'[^'\r\n]*')[ \t]*\])[ \t]*="
    r"[ \t]*(?P<value>[^\r\n{}]+?|\{[^\r\n]*?)(?P<comma>[,;]?)[ \t]*$",
    re.M,
)


def _name(key: str) -> str:
    return text_of(key[1:-1].strip()) if key.startswith("[") else key


class LuaReading:
    """A Lua data file, read: what stands where."""

    def __init__(self, text: Text, dialect: Dialect = USUAL) -> None:
        """Read ``text``; the grammar is only asked when something is."""
        self.text = text
        self.dialect = dialect

    @cached_property
    def root(self) -> Any:
        """The grammar's root node."""
        return parse(self.text.body)

    @property
    def has_error(self) -> bool:
        """Whether the grammar finds a mistake."""
        return bool(self.root.has_error)

    @cached_property
    def statements(self) -> list[Statement]:
        """The assignments and calls at the outermost level. Raises EditRefused where the text has mistakes."""
        if self.has_error:
            raise EditRefused("the file has mistakes; fix them first (roundgate check)")
        return list(statements(self.text.body, self.root.named_children))

    def plain(self) -> list[str]:
        """Return every word of the text."""
        return tokens(self.text.body)

    def resolve(self, key: str) -> Path:
        """Read a path as people write it."""
        from roundgate.core.formats.shared.paths import parse_path

        return parse_path(key)

    # --- what stands there ---

    def _raw(self, node: Any) -> str:
        return self.text.body[node.start_byte : node.end_byte]

    def _entry(self, path: Path, item: Item) -> Entry:
        kind = kind_of(item.node, self.text.body)
        raw = self._raw(item.node)
        value = text_of(raw) if kind == "text" else raw
        return Entry(path, value, item.key_start, item.key_end, item.node.start_byte, item.node.end_byte, kind)

    def _items(self, statement: Statement) -> list[Item]:
        """Return what a statement holds: its value, or its arguments after the first text, numbered from 1."""
        if statement.value is not None:
            return [Item("", statement.start, statement.end, *statement.key, statement.value)]
        first = 1 if len(statement.path) > 1 and isinstance(statement.path[-1], str) else 0
        return [
            Item(first + at, node.start_byte, node.end_byte, node.start_byte, node.start_byte, node)
            for at, node in enumerate(statement.arguments)
        ]

    def entries(self) -> Sequence[Entry]:
        """Return every value that holds no other; an empty table is one."""
        if self.has_error:
            return []
        found: list[Entry] = []
        for statement in self.statements:
            for item in self._items(statement):
                path = statement.path if item.step == "" else (*statement.path, item.step)
                found += self._walk(path, item)
        return found

    def _walk(self, path: Path, item: Item) -> Iterator[Entry]:
        inner = list(fields(self.text.body, item.node)) if item.node.type == "table_constructor" else []
        if not inner and path:  # what is the whole file has no name by which it could be set
            yield self._entry(path, item)
        for child in inner:
            yield from self._walk((*path, child.step), child)

    def _locate(self, path: Path) -> list[Item] | None:
        """Return the way to a path: the statement's value, then the fields; of equal names the last."""
        for statement in reversed(self.statements):
            if path[: len(statement.path)] != statement.path:
                continue
            rest = path[len(statement.path) :]
            for item in self._items(statement):
                if item.step == "":
                    way = self._inside([item], rest)
                elif rest[:1] == (item.step,):
                    way = self._inside([item], rest[1:])
                else:
                    way = None
                if way is not None:
                    return way
        return None

    def _inside(self, way: list[Item], rest: Path) -> list[Item] | None:
        for step in rest:
            node = way[-1].node
            if node.type != "table_constructor":
                return None
            found = [
                field for field in fields(self.text.body, node) if field.step == step and type(field.step) is type(step)
            ]
            if not found:
                return None
            way = [*way, found[-1]]
        return way

    def find(self, path: Path) -> Entry | None:
        """Return what stands at a path, or None; None too where the file cannot be read."""
        way = None if self.has_error or not path else self._locate(path)
        return self._entry(path, way[-1]) if way else None

    def find_in(self, span: tuple[int, int], path: Path) -> Entry | None:
        """Return what stands at a path in the one statement of a span, without a look at all the others."""
        node = outermost(self.root, *span)
        if node is None or self.has_error:
            return None
        part = type(self)(self.text, self.dialect)
        part.root = self.root
        part.statements = list(statements(self.text.body, [node]))
        return part.find(path)

    def switched_off(self) -> Sequence[Entry]:
        """Return ``-- name = value`` lines inside tables: what stands commented out."""
        if self.has_error:
            return []
        found = []
        for off in _OFF.finditer(self.text.body.replace("\r", " ")):
            table = self._table_around(off.start("key"))
            if table is not None:
                found.append(
                    Entry((*table, _name(off["key"])), off["value"].strip("\"'"), *off.span("key"), *off.span("value"))
                )
        return found

    def _table_around(self, index: int) -> Path | None:
        for statement in self.statements:
            if statement.start <= index < statement.end:
                for item in self._items(statement):
                    if item.node.start_byte < index < item.node.end_byte and item.node.type == "table_constructor":
                        path = statement.path if item.step == "" else (*statement.path, item.step)
                        return self._deepest(path, item, index)
        return None

    def _deepest(self, path: Path, item: Item, index: int) -> Path:
        for field in fields(self.text.body, item.node):
            if field.node.type == "table_constructor" and field.node.start_byte < index < field.node.end_byte:
                return self._deepest((*path, field.step), field, index)
        return path
