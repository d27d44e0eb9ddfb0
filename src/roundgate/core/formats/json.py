"""JSON files, strict as RFC 8259 has them; in the dialects ``comments`` and ``last-comma`` also with those.

Values come from the C decoder of the standard library. Spans are found on demand: the same decoder skips over values
that nobody asked for and tells where they end. In a dialect, what strict JSON does not have is blanked out first,
character by character, so that every span still holds.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator, Sequence
from functools import cached_property
from typing import NamedTuple

from roundgate.core.findings import Problem
from roundgate.core.formats import bracketed, trees
from roundgate.core.formats.bracketed import Brackets, Span
from roundgate.core.formats.collecting import without_collecting
from roundgate.core.formats.json_reading import DECODER, Doubles, JsonError, decoded, no_constant, strict_form
from roundgate.core.formats.json_writing import inner_values, tree_of, value_text
from roundgate.core.formats.protocol import USUAL, Dialect, Document, Edit, EditRefused, Entry, Kind, Path, Plain
from roundgate.core.formats.scalars import fitted
from roundgate.core.text import Splice, Text

_BLANK = re.compile(r"[ \t\r\n]*")
_KEY = re.compile(r'[ \t\r\n]*("(?:[^"\\]|\\.)*")[ \t\r\n]*:[ \t\r\n]*')
_NEXT = re.compile(r"[ \t\r\n]*([,\]}])")
_COMMENT = r"//[^\r\n]*|/\*(?:[^*\r\n]|\*(?!/))*\*/"
_KINDS: dict[str, Kind] = {'"': "text", "{": "map", "[": "list", "t": "bool", "f": "bool", "n": "null"}


class Child(NamedTuple):
    """One member of a map or item of a list: its name or number, and the spans of name and value."""

    step: str | int
    key_start: int
    key_end: int
    start: int
    end: int


class JsonDocument:
    """A JSON file, read."""

    def __init__(self, text: Text, dialect: Dialect = USUAL) -> None:
        """Read ``text``; nothing is decoded before it is asked for."""
        self.text = text
        self.dialect = dialect
        self.strict = strict_form(text.body, dialect)
        self._has_doubles = False

    @cached_property
    def _result(self) -> trees.Tree | JsonError:
        return self._decoded(keep=True)

    @cached_property
    def _verdict(self) -> JsonError | None:
        found = self._decoded(keep=False)
        return found if isinstance(found, JsonError) else None

    def _decoded(self, *, keep: bool) -> trees.Tree | JsonError:
        doubles = Doubles()
        hook = doubles.members if keep else doubles.nothing
        decoder = json.JSONDecoder(
            object_pairs_hook=hook, parse_float=str.encode, parse_int=str.encode, parse_constant=no_constant
        )
        try:
            tree = decoded(self.strict, decoder)
        except JsonError as error:
            return error
        self._has_doubles = doubles.found
        return tree

    @property
    def has_doubles(self) -> bool:
        """Whether any map has a name twice; False where the text is no JSON."""
        return self.error is None and self._has_doubles

    @property
    def error(self) -> JsonError | None:
        """Why the text is no JSON, or None where it is."""
        if "_result" not in self.__dict__:
            return self._verdict
        return self._result if isinstance(self._result, JsonError) else None

    def plain(self) -> trees.Tree:
        """Give the tree. Raises EditRefused where the text is no JSON."""
        if isinstance(self._result, JsonError):
            raise EditRefused("the file has mistakes; mend them first (roundgate check)")
        return self._result

    def resolve(self, key: str) -> Path:
        """Read a path as people write it."""
        from roundgate.core.formats.paths import parse_path

        return parse_path(key)

    # --- spans ---

    def children(self, start: int) -> Iterator[Child]:
        """Give the members or items of the map or list that begins at ``start``, in order, duplicates included."""
        body = self.strict
        is_map, at, number = body[start] == "{", start + 1, 0
        while not (closing := _NEXT.match(body, at)) or closing[1] == ",":
            at = closing.end() if closing else at
            key = _KEY.match(body, at) if is_map else None
            if key:
                step: str | int = _text(key[1])
                key_start, key_end, at = key.start(1), key.end(1), key.end()
            else:
                blank = _BLANK.match(body, at)
                at = blank.end() if blank else at
                step, key_start, key_end = number, at, at
            end = DECODER.scan_once(body, at)[1]
            yield Child(step, key_start, key_end, at, end)
            at, number = end, number + 1

    def _root(self) -> Child:
        self.plain()
        blank = _BLANK.match(self.strict)
        start = blank.end() if blank else 0
        return Child("", start, start, start, len(self.strict.rstrip(" \t\r\n")))

    def locate(self, path: Path) -> Child | None:
        """Find the spans of the value that counts at a path; of equal names the last one."""
        with without_collecting():  # what is passed over is decoded and thrown away at once
            return self._located(path)

    def _located(self, path: Path) -> Child | None:
        here = self._root()
        for step in path:
            if self.strict[here.start] not in "{[":
                return None
            found = None
            for child in self.children(here.start):
                if child.step == step and isinstance(step, int) == (self.strict[here.start] == "["):
                    found = child
                    if isinstance(step, int) or not self.has_doubles:
                        break
            if found is None:
                return None
            here = found
        return here

    def _entry(self, path: Path, child: Child) -> Entry:
        raw = self.strict[child.start : child.end]
        kind = _KINDS.get(raw[:1], "number")
        value = _text(raw) if kind == "text" else self.text.body[child.start : child.end]
        return Entry(path, value, *child[1:], kind)

    def entries(self) -> Sequence[Entry]:
        """Give every value that holds no other; an empty list or map is one."""
        if self.error:
            return []
        return list(self._walk((), self._root()))

    def _walk(self, path: Path, here: Child) -> Iterator[Entry]:
        children = list(self.children(here.start)) if self.strict[here.start] in "{[" else []
        if not children and path:
            yield self._entry(path, here)
        for child in children:
            yield from self._walk((*path, child.step), child)

    def find(self, path: Path) -> Entry | None:
        """Give what stands at a path, or None; None too where the file cannot be read."""
        child = None if isinstance(self._result, JsonError) else self.locate(path)
        return self._entry(path, child) if child else None

    def switched_off(self) -> Sequence[Entry]:
        """Give nothing: JSON has no comments, and in dialects a comment may be anything."""
        return ()

    def problems(self) -> Sequence[Problem]:
        """Say what is wrong with the text."""
        from roundgate.core.formats.json_problems import problems_of

        return problems_of(self)

    # --- edits ---

    def _brackets(self, child: Child) -> Brackets:
        spans = [Span(one.key_start, one.end) for one in self.children(child.start)]
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

    def _writer(self, at: int) -> Callable[[Plain], str]:
        """Give what writes a value that shall stand on the line of ``at``, as the file writes its own."""
        body = self.text.body
        ascii_only = self.text.encoding in ("latin-1", "cp1252") or (body.isascii() and "\\u" in body)
        indent = bracketed._indent_at(body, at)
        has_lines = "\n" in body.strip() or "\r" in body.strip()

        def write(value: Plain) -> str:
            if (
                has_lines
                and isinstance(value, list | dict)
                and any(isinstance(one, list | dict) for one in inner_values(value))
            ):
                return value_text(value, ascii_only, indent, bracketed.unit_of(body), self.text.newline)
            return value_text(value, ascii_only, "", "", " ")

        return write

    def set(self, path: Path, value: Plain, kind: Kind | None = None, *, on_copy: bool = False) -> Edit:
        """Replace a value in its place, or add a member in the style of its neighbours."""
        here = self.locate(path)
        if here is None:
            return self._add(path, value, kind)
        present = _KINDS.get(self.strict[here.start], "number")
        if present in ("map", "list") and not isinstance(value, dict | list):
            raise EditRefused(f"a {present} stands there; a single value cannot take its place")
        new = fitted(value, kind, present)
        written = self._writer(here.start)(new)
        return Edit((Splice(here.start, here.end, written),), trees.with_value(self.plain(), path, tree_of(new)))

    def _add(self, path: Path, value: Plain, kind: Kind | None) -> Edit:
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

    def _member(self, where: Brackets, parent: Child, name: str, new: Plain) -> str:
        children = list(self.children(parent.start))
        sibling = children[-1] if children else None
        colon = self.text.body[sibling.key_end : sibling.start] if sibling else (":" if where.tight else ": ")
        colon = colon if re.fullmatch(r"[ \t]*:[ \t]*", colon) else ": "
        write = self._writer(sibling.key_start if sibling else parent.start)
        return write(name) + colon + write(new)

    def insert(self, path: Path, value: Plain, kind: Kind | None = None) -> Edit:
        """Put an item into a list."""
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

    def _like(self, like: Child | None, new: Plain) -> str:
        """Write a record over several lines where its neighbour is written so."""
        if like is None or not isinstance(new, dict | list) or not new:
            return ""
        neighbour = self.text.body[like.start : like.end]
        if "\n" not in neighbour and "\r" not in neighbour:
            return ""
        indent, unit = bracketed._indent_at(self.text.body, like.start), bracketed.unit_of(self.text.body)
        return value_text(new, not self.text.encoding.startswith("utf"), indent, unit, self.text.newline, spread=True)

    def remove(self, path: Path) -> Edit:
        """Take a member or an item out, with its comma and its own comment."""
        parent = self.locate(path[:-1]) if path else None
        here = self.locate(path)
        if parent is None or here is None:
            raise EditRefused("it does not stand in the file")
        where = self._brackets(parent)
        gone = [at for at, child in enumerate(self.children(parent.start)) if child.step == path[-1]]
        if len(gone) > 1:
            raise EditRefused("it stands there more than once; delete the ones that should not count first")
        return Edit(tuple(bracketed.removed(where, gone[0])), trees.without(self.plain(), path))

    def rename(self, path: Path, name: str) -> Edit:
        """Give a member another name."""
        here = self.locate(path)
        if here is None or not isinstance(path[-1], str):
            raise EditRefused("there is no name to change")
        if self.locate((*path[:-1], name)) is not None:
            raise EditRefused(f"{name} stands there already")
        expected = trees.with_name(self.plain(), path, name)
        same = [child for child in self.children(self._parent(path).start) if child.step == path[-1]]
        written = self._writer(here.start)(name)
        return Edit(tuple(Splice(one.key_start, one.key_end, written) for one in same), expected)

    def _parent(self, path: Path) -> Child:
        parent = self.locate(path[:-1])
        if parent is None:
            raise EditRefused("it does not stand in the file")
        return parent

    def move(self, path: Path, to: int) -> Edit:
        """Move an item of a list."""
        parent = self.locate(path[:-1])
        if parent is None or self.strict[parent.start] != "[" or not isinstance(path[-1], int):
            raise EditRefused("there is no list to move it in")
        cuts = bracketed.moved(self._brackets(parent), path[-1], to)
        return Edit(tuple(cuts), trees.with_move(self.plain(), path, to))

    def switch(self, path: Path, *, on: bool) -> Edit:
        """Comment a name out with its value, or set the one that is, where the dialect has comments."""
        from roundgate.core.formats.json_switching import switched

        return switched(self, path, on=on)


def _text(raw: str) -> str:
    return str(json.loads(raw, strict=False))


class JsonFormat:
    """The registry's entry for JSON files."""

    name = "json"

    def read(self, text: Text, dialect: Dialect = USUAL) -> JsonDocument:
        """Read a text. Never raises."""
        return JsonDocument(text, dialect)

    def confirms(self, document: Document, expected: object) -> bool:
        """Let the C decoder read the new text."""
        try:
            return bool(document.plain() == expected)
        except EditRefused:
            return False


FORMAT = JsonFormat()
