"""Edits of what stands between brackets with commas: JSON, Lua tables, TOML arrays, YAML's flow style.

All work on spans in the original text; comments and spaces between the items stay where they are, and an item's own
trailing comment goes with it.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

from roundgate.core.formats.protocol import EditRefused
from roundgate.core.patterns import lazy
from roundgate.core.text import Splice, line_start


class Span(NamedTuple):
    """Where one item stands, from its name to the end of its value."""

    start: int
    end: int


class Brackets(NamedTuple):
    """A bracketed part of a text: the index after the opening bracket, that of the closing one, and the items."""

    body: str
    inner: int
    close: int
    items: Sequence[Span]
    newline: str = "\n"
    comment: str = ""
    """A pattern of a comment, where the language has any; it must not run past its line's end."""
    commas: str = ","
    unit: str = "  "
    """The indentation of one more level."""
    tight: bool = False
    """Write no space after commas."""


_BLANKS = lazy(r"[ \t]*")
_LINE_ENDS = lazy(r"[ \t]*(?:[\r\n]|\Z)")
_GAP = lazy(r"[\s]*")


def _indent_at(body: str, index: int) -> str:
    start = line_start(body, index)
    found = _BLANKS.match(body, start)
    return found.group() if found else ""


def _is_first_on_line(body: str, index: int) -> bool:
    start = line_start(body, index)
    return not body[start:index].strip(" \t")


def _comma_after(where: Brackets, at: int) -> int:
    """Return where the comma after an item is, or -1."""
    stop = where.items[at + 1].start if at + 1 < len(where.items) else where.close
    index = where.items[at].end
    skip = re.compile(rf"(?:\s|{where.comment})*") if where.comment else _GAP
    found = skip.match(where.body, index, stop)
    index = found.end() if found else index
    return index if index < stop and where.body[index] in where.commas else -1


def _tail(where: Brackets, at: int) -> Span:
    """Return the span of an item's own trailing comment: what stands on its line after it and its comma."""
    comma = _comma_after(where, at)
    item_end = where.items[at].end
    index = comma + 1 if comma >= 0 and not re.search(r"[\r\n]", where.body[item_end:comma]) else item_end
    if not where.comment:
        return Span(index, index)
    stop = where.items[at + 1].start if at + 1 < len(where.items) else where.close
    found = re.compile(rf"[ \t]*(?:{where.comment})(?=[ \t]*(?:[\r\n]|\Z))").match(where.body, index)
    return Span(index, found.end()) if found and found.end() <= stop else Span(index, index)


def added(where: Brackets, at: int, new: str) -> list[Splice]:
    """Put ``new`` in before item ``at``, in the style of its neighbours."""
    count = len(where.items)
    if not count:
        return _first(where, new)
    if at < count:
        return _before(where, at, new)
    return _behind_last(where, new)


def _before(where: Brackets, at: int, new: str) -> list[Splice]:
    start = where.items[at].start
    if _is_first_on_line(where.body, start):
        gap = where.newline + _indent_at(where.body, start)
    else:
        gap = "" if where.tight else " "
    return [Splice(start, start, new + where.commas[0] + gap)]


def _behind_last(where: Brackets, new: str) -> list[Splice]:
    last = len(where.items) - 1
    item, comma, tail = where.items[last], _comma_after(where, last), _tail(where, last)
    if not _is_first_on_line(where.body, item.start) and last > 0:
        gap = "" if where.tight else " "
    elif _is_first_on_line(where.body, item.start):
        gap = where.newline + _indent_at(where.body, item.start)
    else:
        gap = "" if where.tight else " "
    sign = where.body[comma] if comma >= 0 else where.commas[0]
    if comma >= 0:
        # Behind the comment of the last item, which would else become the new item's.
        index = max(tail.end, comma + 1)
        return [Splice(index, index, gap + new + sign)]
    if tail.end > tail.start:
        gap = gap if "\n" in gap or "\r" in gap else where.newline
        # The comma goes before the comment: behind it, the comma would be a part of the comment.
        return [Splice(item.end, item.end, sign), Splice(tail.end, tail.end, gap + new)]
    return [Splice(item.end, item.end, sign + gap + new)]


def _first(where: Brackets, new: str) -> list[Splice]:
    """Put the only item between empty brackets; comments between them stay."""
    between = where.body[where.inner : where.close]
    if not between.strip() and not re.search(r"[\r\n]", between):
        return [Splice(where.inner, where.close, new if not between else f" {new} ")]
    indent = _indent_at(where.body, where.inner)
    if _is_first_on_line(where.body, where.close):
        start = line_start(where.body, where.close)
        return [Splice(start, start, indent + where.unit + new + where.newline)]
    if re.search(r"[\r\n]", between):
        return [Splice(where.close, where.close, where.newline + indent + where.unit + new + where.newline + indent)]
    return [Splice(where.close, where.close, new)]


def removed(where: Brackets, at: int) -> list[Splice]:
    """Take an item out with its comma, and its line where it has one of its own."""
    item, comma, tail = where.items[at], _comma_after(where, at), _tail(where, at)
    is_last = at == len(where.items) - 1
    cuts: list[Splice] = []
    end = max(item.end, tail.end, comma + 1 if comma >= 0 and tail.start > comma else 0)
    if comma >= 0 and comma >= end:
        cuts.append(Splice(comma, comma + 1, ""))
    # JSON allows no comma before the closing bracket.
    if is_last and comma < 0 and at > 0:
        before = _comma_after(where, at - 1)
        if before >= 0:
            cuts.append(Splice(before, before + 1, ""))
    start = item.start
    if _is_first_on_line(where.body, start):
        line_end = re.compile(r"[ \t]*(\r\n|\r|\n)").match(where.body, end)
        if line_end:
            start = line_start(where.body, start)
            return [*cuts, Splice(start, line_end.end(), "")]
    return [*cuts, _inline_cut(where, at, start, end, is_last=is_last)]


def _inline_cut(where: Brackets, at: int, start: int, end: int, *, is_last: bool) -> Splice:
    """Cut an item out of a line: with the spaces after it, or before it where it is the last."""
    if is_last:
        floor = where.items[at - 1].end if at else where.inner
        before = where.body[floor:start]
        kept = len(before.rstrip(" \t")) if not re.search(r"[\r\n]", before) else len(before)
        if at and floor + kept > floor:
            comma = _comma_after(where, at - 1)
            kept = max(kept, comma + 1 - floor if comma >= 0 else 0)
        blanks = where.body[floor + kept : start]
        start = floor + kept if at else start - len(blanks)
        trailing = _BLANKS.match(where.body, end)
        if not at and trailing and trailing.end() == where.close:
            end = trailing.end()
        return Splice(start, end, "")
    blanks_after = _BLANKS.match(where.body, end)
    return Splice(start, blanks_after.end() if blanks_after else end, "")


def moved(where: Brackets, at: int, to: int) -> list[Splice]:
    """Move an item: the items change places with their trailing comments; commas and lines stay. Raises EditRefused."""
    count = len(where.items)
    if not (0 <= at < count and 0 <= to < count):
        raise EditRefused(f"the list has items 0 to {count - 1}")
    order = list(range(count))
    order.insert(to, order.pop(at))
    tails = [_tail(where, number) for number in range(count)]
    if any(not _LINE_ENDS.match(where.body, tail.end) for tail in tails):
        tails = [Span(tail.start, tail.start) for tail in tails]  # a comment in mid-line would hide what follows
    cuts = []
    for slot, source in enumerate(order):
        if slot == source:
            continue
        here, there = where.items[slot], where.items[source]
        cuts.append(Splice(here.start, here.end, where.body[there.start : there.end]))
        if where.body[slice(*tails[slot])] != where.body[slice(*tails[source])]:
            cuts.append(Splice(tails[slot].start, tails[slot].end, where.body[slice(*tails[source])]))
    return cuts


def unit_of(body: str) -> str:
    """Return the indentation of one level: that of the first indented line, two spaces where there is none."""
    found = re.search(r"^([ \t]+)(?=\S)", body, re.MULTILINE)
    return found.group(1) if found else "  "
