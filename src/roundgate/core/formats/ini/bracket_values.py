"""Values in round brackets, ``(a=1,b=(c=2),"x, y")``: their parts, and edits of one part."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from roundgate.core.formats.protocol import EditRefused, Entry, Path
from roundgate.core.formats.shared import bracket_edits as bracketed
from roundgate.core.formats.shared.bracket_edits import Brackets, Span
from roundgate.core.patterns import lazy
from roundgate.core.text import Splice, Text

_NAME = lazy(r"[ \t]*([\w.\[\]+\-]+)[ \t]*=[ \t]*")
_QUOTED = lazy(r'"(?:[^"\\]|\\.)*"')


class Part(NamedTuple):
    """One part of a value in brackets: its name or number, and the spans of name and value."""

    step: str | int
    key_start: int
    key_end: int
    start: int
    end: int


def end_of(body: str, start: int, stop: int) -> int:
    """Return where a part ends that begins at ``start``: at a comma or a closing bracket that is its neighbour's."""
    depth, at = 0, start
    while at < stop:
        quoted = _QUOTED.match(body, at, stop) if body[at] == '"' else None
        if quoted:
            at = quoted.end()
            continue
        if body[at] in "([{":
            depth += 1
        elif body[at] in ")]}":
            depth -= 1
            if depth < 0:
                return at
        elif body[at] == "," and depth == 0:
            return at
        at += 1
    return stop


def parts(body: str, start: int, stop: int) -> Iterator[Part]:
    """Yield the parts between the brackets of a value that begins at ``start`` with an opening one."""
    at, number = start + 1, 0
    while at < stop and body[at] != ")":
        name = _NAME.match(body, at, stop)
        blank = len(body[at:stop]) - len(body[at:stop].lstrip(" \t"))
        value = name.end() if name else at + blank
        end = end_of(body, value, stop)
        if end == value and not name:
            return
        kept = len(body[value:end].rstrip(" \t"))
        key = name.span(1) if name else (value, value)
        yield Part(name[1] if name else number, *key, value, value + kept)
        at, number = (end + 1 if body[end : end + 1] == "," else end), number + 1


def _find(body: str, start: int, stop: int, path: Path) -> list[Part]:
    way: list[Part] = []
    for step in path:
        if body[start : start + 1] != "(":
            return []
        found = [part for part in parts(body, start, stop) if part.step == step]
        if not found:
            return []
        way.append(found[-1])
        start, stop = found[-1].start, found[-1].end
    return way


def part_of(body: str, start: int, stop: int, path: Path, length: int) -> Entry | None:
    """Return a part of the value between two indexes as an entry; the path's first ``length`` steps lead there."""
    way = _find(body, start, stop, path[length:])
    if not way:
        return None
    part = way[-1]
    quoted = 1 if _QUOTED.fullmatch(body[part.start : part.end]) else 0
    value = body[part.start + quoted : part.end - quoted]
    return Entry(path, value, part.key_start, part.key_end, part.start + quoted, part.end - quoted)


def _fit(value: str) -> str:
    if end_of(value, 0, len(value)) < len(value) or value != value.strip() or value.count("(") != value.count(")"):
        if '"' in value:
            raise EditRefused(f"'{value}' would not be read back as one part")
        return f'"{value}"'
    return value


def set_part(raw: str, path: Path, new: str) -> str:
    """Return the value with one part changed, or put in at the end of its brackets. Raises EditRefused."""
    way = _find(raw, 0, len(raw), path)
    if way:
        part = way[-1]
        quoted = _QUOTED.fullmatch(raw[part.start : part.end]) is not None
        written = f'"{new}"' if quoted and '"' not in new else _fit(new)
        return raw[: part.start] + written + raw[part.end :]
    parent = _find(raw, 0, len(raw), path[:-1])
    start, stop = (parent[-1].start, parent[-1].end) if parent else (0, len(raw))
    if (
        (len(path) > 1 and not parent)
        or raw[start : start + 1] != "("
        or isinstance(path[-1], int)
        or raw[stop - 1] != ")"
    ):
        raise EditRefused(f"there is no {path[-1]} in the value")
    where = _brackets(raw, start, stop)
    return Text(raw).spliced(bracketed.added(where, len(where.items), f"{path[-1]}={_fit(new)}")).body


def _brackets(raw: str, start: int, stop: int) -> Brackets:
    items = [Span(part.key_start, part.end) for part in parts(raw, start, stop)]
    return Brackets(raw, start + 1, stop - 1, items, tight=", " not in _QUOTED.sub("", raw))


def remove_part(raw: str, path: Path) -> str:
    """Return the value without one part. Raises EditRefused."""
    way = _find(raw, 0, len(raw), path)
    if not way:
        raise EditRefused("it is not in the file")
    parent = way[-2] if len(way) > 1 else None
    start, stop = (parent.start, parent.end) if parent else (0, len(raw))
    where = _brackets(raw, start, stop)
    number = next(at for at, part in enumerate(parts(raw, start, stop)) if part == way[-1])
    cuts: list[Splice] = bracketed.removed(where, number)
    return Text(raw).spliced(cuts).body
