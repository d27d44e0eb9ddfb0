"""Where keys, values and headings of a TOML text stand. It is only asked of a text that the standard library's reader
takes.

So it need not check anything: it skips over what it passes and keeps spans.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

from roundgate.core.formats.protocol import EntryKind, Path
from roundgate.core.patterns import lazy

_SKIP = lazy(r"(?:[ \t\r\n]|#[^\n]*)*")
_LINE_SKIP = lazy(r"[ \t]*(?:#[^\n]*)?(?:\r?\n|\Z)")
_BLANK = lazy(r"[ \t]*")
_KEY_PART = lazy(r'[ \t]*([A-Za-z0-9_-]+|"(?:[^"\\\n]|\\.)*"|\'[^\'\n]*\')[ \t]*')
_STRING = lazy(
    r'"""(?:[^"\\]|\\.|"(?!""))*"{3,5}|' + r"'''(?:[^']|'(?!''))*'{3,5}|" + r'"(?:[^"\\\n]|\\.)*"|' + r"'[^'\n]*'", re.S
)
_BARE = lazy(r"\d{4}-\d\d-\d\d(?: \d\d:[^\s,\]}#]*)?[^\s,\]}#]*|[^\s,\]}#]+")
_JUMP = lazy(r"[^\[\]{}\"'#]*")


class Value(NamedTuple):
    """A value: its span and kind."""

    start: int
    end: int
    kind: EntryKind


class Statement(NamedTuple):
    """A heading or a ``key = value``: the table's path, the key's parts with their spans, and the value's span."""

    table: Path
    keys: tuple[str, ...]
    spans: tuple[tuple[int, int], ...]
    start: int
    value: Value | None
    end: int
    is_array: bool = False

    @property
    def path(self) -> Path:
        """The whole path."""
        return (*self.table, *self.keys)


class Child(NamedTuple):
    """One item of an array, or one member of an inline table; a dotted name gives several steps."""

    steps: Path
    key_start: int
    key_end: int
    value: Value


def name_of(raw: str) -> str:
    """Return the name that a part of a key stands for."""
    if raw[0] == "'":
        return raw[1:-1]
    if raw[0] == '"':
        import tomllib

        return str(tomllib.loads(f"x = {raw}")["x"])
    return raw


def value_at(body: str, at: int) -> Value:
    """Return the value that begins at an index."""
    sign = body[at]
    if sign in "\"'":
        found = _STRING.match(body, at)
        return Value(at, found.end() if found else at + 1, "text")
    if sign in "[{":
        return Value(at, _closing(body, at), "list" if sign == "[" else "map")
    bare = _BARE.match(body, at)
    end = bare.end() if bare else at + 1
    word = body[at:end]
    if word in ("true", "false"):
        return Value(at, end, "bool")
    is_date = re.match(r"\d{4}-\d|\d\d:\d", word)
    return Value(at, end, "code" if is_date else "number")


def _closing(body: str, at: int) -> int:
    depth = 0
    while at < len(body):
        sign = body[at]
        if sign in "[{":
            depth += 1
        elif sign in "]}":
            depth -= 1
            if depth == 0:
                return at + 1
        elif sign in "\"'":
            string = _STRING.match(body, at)
            at = string.end() - 1 if string else at
        elif sign == "#":
            line = body.find("\n", at)
            at = line if line >= 0 else len(body) - 1
        jump = _JUMP.match(body, at + 1)
        at = jump.end() if jump else at + 1
    return len(body)


def children(body: str, value: Value) -> Iterator[Child]:
    """Yield the items of an array or the members of an inline table, in order."""
    at, number = value.start + 1, 0
    while True:
        skip = _SKIP.match(body, at)
        at = skip.end() if skip else at
        if at >= value.end - 1:
            return
        if body[at] == ",":
            at += 1
            continue
        steps: Path = (number,)
        key = (at, at)
        if value.kind == "map":
            names, spans, at = key_at(body, at)
            steps, key = names, (spans[0][0], spans[-1][1])
            skip = _SKIP.match(body, at + 1)
            at = skip.end() if skip else at + 1
        inner = value_at(body, at)
        yield Child(steps, *key, inner)
        at, number = inner.end, number + 1


def key_at(body: str, at: int) -> tuple[tuple[str, ...], tuple[tuple[int, int], ...], int]:
    """Read a key, dotted or not: its names, their spans, and the index of what follows."""
    names: list[str] = []
    spans: list[tuple[int, int]] = []
    while part := _KEY_PART.match(body, at):
        names.append(name_of(part[1]))
        spans.append(part.span(1))
        at = part.end()
        if body[at : at + 1] != ".":
            break
        at += 1
    return tuple(names), tuple(spans), at


def statements(body: str) -> Iterator[Statement]:
    """Yield every heading and every ``key = value`` of a text, in order."""
    at = 0
    table: Path = ()
    counts: dict[Path, int] = {}
    while True:
        skip = _SKIP.match(body, at)
        at = skip.end() if skip else at
        if at >= len(body):
            return
        start = at
        if body[at] == "[":
            is_array = body.startswith("[[", at)
            names, spans, at = key_at(body, at + (2 if is_array else 1))
            table = _resolved(names, counts, is_array=is_array)
            at += 2 if is_array else 1
            yield Statement(table, (), spans, start, None, at, is_array)
        else:
            names, spans, at = key_at(body, at)
            blank = _BLANK.match(body, at + 1)
            at = blank.end() if blank else at + 1
            value = value_at(body, at)
            at = value.end
            yield Statement(table, names, spans, start, value, at)


def _resolved(names: tuple[str, ...], counts: dict[Path, int], *, is_array: bool) -> Path:
    """Return the path of a heading: after the name of each array of tables the number of its newest one."""
    path: Path = ()
    for number, name in enumerate(names):
        path = (*path, name)
        if is_array and number == len(names) - 1:
            counts[path] = counts.get(path, -1) + 1
        if path in counts:
            path = (*path, counts[path])
    return path
