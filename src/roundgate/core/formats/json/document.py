"""JSON files, strict as RFC 8259 has them; in the dialects ``comments`` and ``last-comma`` also with those.

Values come from the C decoder of the standard library. Spans are found on demand: the same decoder skips over values
that nobody asked for and tells where they end. In a dialect, what strict JSON does not have is blanked out first,
character by character, so that every span still holds.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import cached_property

from roundgate.core.formats.json.spans import Child, JsonReading
from roundgate.core.formats.json.writer import inner_values, tree_of, value_text
from roundgate.core.formats.protocol import Edit, EditRefused, EntryKind, Path, PlainData
from roundgate.core.formats.shared import bracket_edits as bracketed
from roundgate.core.formats.shared import trees
from roundgate.core.formats.shared.bracket_edits import Brackets, Span
from roundgate.core.formats.shared.scalars import fitted
from roundgate.core.patterns import lazy
from roundgate.core.text import Splice

_BLANK = lazy(r"[ \t\r\n]*")
_KEY = lazy(r'[ \t\r\n]*("(?:[^"\\]|\\.)*")[ \t\r\n]*:[ \t\r\n]*')
_NEXT = lazy(r"[ \t\r\n]*([,\]}])")
_COMMENT = r"//[^\r\n]*|/\*(?:[^*\r\n]|\*(?!/))*\*/"
_KINDS: dict[str, EntryKind] = {'"': "text", "{": "map", "[": "list", "t": "bool", "f": "bool", "n": "null"}


class JsonDocument(JsonReading):
    """A JSON file, read, and its edits."""

    format_name = "json"

    # --- edits ---

    def _brackets(self, child: Child) -> Brackets:
        spans = [Span(member.key_start, member.end) for member in self.children(child.start)]
        comment = _COMMENT if self.dialect.comments else ""
        unit, tight = bracketed.unit_of(self.text.body), self._is_tight
        return Brackets(
            self.text.body, child.start + 1, child.end - 1, spans, self.text.newline, comment, ",", unit, tight
        )

    @cached_property
    def _is_tight(self) -> bool:
        if re.search(r'[\d"\]}el],(?=["\d\[{tfn-])', self.text.body):
            return True
        return ", " not in self.text.body and re.search(r'":(?=["\d\[{tfn-])', self.text.body) is not None

    def _writer(self, at: int, *, deeper: bool = False) -> Callable[[PlainData], str]:
        """Return what writes a value that should stand on the line of ``at``, as the file writes its own.

        ``deeper``: on a line of its own below that one, as the first of what is there.
        """
        body = self.text.body
        ascii_only = self.text.encoding in ("latin-1", "cp1252") or (body.isascii() and "\\u" in body)
        indent = bracketed._indent_at(body, at)
        has_lines = "\n" in body.strip() or "\r" in body.strip()
        indent += bracketed.unit_of(body) if deeper and has_lines else ""

        def write(value: PlainData) -> str:
            if (
                has_lines
                and isinstance(value, list | dict)
                and any(isinstance(inner, list | dict) for inner in inner_values(value))
            ):
                return value_text(value, ascii_only, indent, bracketed.unit_of(body), self.text.newline)
            return value_text(value, ascii_only, "", "", " ")

        return write

    def set(self, path: Path, value: PlainData, kind: EntryKind | None = None, *, on_copy: bool = False) -> Edit:
        """Replace a value in its place, or add a member in the style of its neighbours. Raises EditRefused."""
        here = self.locate(path)
        if here is None:
            return self._add(path, value, kind)
        present = _KINDS.get(self.strict[here.start], "number")
        if present in ("map", "list") and not isinstance(value, dict | list):
            raise EditRefused(f"there is a {present} here, and a single value cannot replace it")
        new = fitted(value, kind, present)
        written = self._writer(here.start)(new)
        return Edit((Splice(here.start, here.end, written),), trees.with_value(self.plain(), path, tree_of(new)))

    def _add(self, path: Path, value: PlainData, kind: EntryKind | None) -> Edit:
        depth = len(path) - 1
        while (parent := self.locate(path[:depth])) is None:
            depth -= 1
        name = path[depth]
        if isinstance(name, int) or self.strict[parent.start] != "{":
            raise EditRefused(f"there is no {name} in {'a list' if self.strict[parent.start] == '[' else 'it'}")
        new = trees.nested(path[depth + 1 :], fitted(value, kind, None))
        where = self._brackets(parent)
        member = self._member(where, parent, name, new)
        cuts = bracketed.added(where, len(where.items), member)
        return Edit(tuple(cuts), trees.with_value(self.plain(), path[: depth + 1], tree_of(new)))

    def _member(self, where: Brackets, parent: Child, name: str, new: PlainData) -> str:
        children = list(self.children(parent.start))
        sibling = children[-1] if children else None
        colon = self.text.body[sibling.key_end : sibling.start] if sibling else (":" if where.tight else ": ")
        colon = colon if re.fullmatch(r"[ \t]*:[ \t]*", colon) else ": "
        write = self._writer(sibling.key_start if sibling else parent.start, deeper=sibling is None)
        return write(name) + colon + write(new)

    def insert(self, path: Path, value: PlainData, kind: EntryKind | None = None) -> Edit:
        """Put an item into a list. Raises EditRefused."""
        parent = self.locate(path[:-1])
        if parent is None or self.strict[parent.start] != "[" or not isinstance(path[-1], int):
            raise EditRefused("there is no list to put it into")
        where = self._brackets(parent)
        at = min(path[-1], len(where.items))
        children = list(self.children(parent.start))
        present = _KINDS.get(self.strict[children[0].start], "number") if children else None
        new = fitted(value, kind, None if present in ("map", "list") else present)
        like = children[min(at, len(children) - 1)] if children else None
        written = self._like(like, new) or self._writer(like.start if like else parent.start)(new)
        cuts = bracketed.added(where, at, written)
        return Edit(tuple(cuts), trees.with_item(self.plain(), (*path[:-1], at), tree_of(new)))

    def _like(self, like: Child | None, new: PlainData) -> str:
        """Write a record as its neighbour is: over several lines, or on one with spaces inside its brackets."""
        if like is None or not isinstance(new, dict | list) or not new:
            return ""
        neighbour = self.text.body[like.start : like.end]
        if "\n" not in neighbour and "\r" not in neighbour:
            if neighbour[:2] not in ("{ ", "[ "):
                return ""
            plain = self._writer(like.start)(new)
            return f"{plain[0]} {plain[1:-1]} {plain[-1]}" if "\n" not in plain else ""
        indent, unit = bracketed._indent_at(self.text.body, like.start), bracketed.unit_of(self.text.body)
        return value_text(new, not self.text.encoding.startswith("utf"), indent, unit, self.text.newline, spread=True)

    def remove(self, path: Path) -> Edit:
        """Take a member or an item out, with its comma and its own comment. Raises EditRefused."""
        parent = self.locate(path[:-1]) if path else None
        here = self.locate(path)
        if parent is None or here is None:
            raise EditRefused("it is not in the file")
        where = self._brackets(parent)
        gone = [at for at, child in enumerate(self.children(parent.start)) if child.step == path[-1]]
        if len(gone) > 1:
            raise EditRefused("it is there more than once; delete the ones that should not count first")
        return Edit(tuple(bracketed.removed(where, gone[0])), trees.without(self.plain(), path))

    def rename(self, path: Path, name: str) -> Edit:
        """Give a member another name. Raises EditRefused."""
        here = self.locate(path)
        if here is None or not isinstance(path[-1], str):
            raise EditRefused("there is no name to change")
        if self.locate((*path[:-1], name)) is not None:
            raise EditRefused(f"{name} already exists")
        expected = trees.with_name(self.plain(), path, name)
        same = [child for child in self.children(self._parent(path).start) if child.step == path[-1]]
        written = self._writer(here.start)(name)
        return Edit(tuple(Splice(child.key_start, child.key_end, written) for child in same), expected)

    def _parent(self, path: Path) -> Child:
        parent = self.locate(path[:-1])
        if parent is None:
            raise EditRefused("it is not in the file")
        return parent

    def move(self, path: Path, to: int) -> Edit:
        """Move an item of a list. Raises EditRefused."""
        parent = self.locate(path[:-1])
        if parent is None or self.strict[parent.start] != "[" or not isinstance(path[-1], int):
            raise EditRefused("there is no list to move it in")
        cuts = bracketed.moved(self._brackets(parent), path[-1], to)
        return Edit(tuple(cuts), trees.with_move(self.plain(), path, to))

    def switch(self, path: Path, *, on: bool) -> Edit:
        """Comment a name out with its value, or set the one that is, where the dialect has comments."""
        from roundgate.core.formats.json.switching import switched

        return switched(self, path, on=on)
