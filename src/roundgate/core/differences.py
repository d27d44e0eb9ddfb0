"""The difference of two texts by lines, in unified form: quick where two large texts differ in a few places.

The standard library finds the differences, in a window around each place where the texts part; what is the same before
and after is passed over at once.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from operator import getitem
from typing import Any

Opcode = tuple[str, int, int, int, int]
"""As ``difflib`` has it: what is done, the lines of the old text it is done to, and the lines of the new one."""

_ANCHOR = 3
"""So many equal lines in a row show that two texts go on together."""
_WINDOWS = (64, 512, 4096)


def lines_of(body: str) -> list[str]:
    """Return a text's lines without their ends, whatever those are."""
    return body.replace("\r\n", "\n").replace("\r", "\n").split("\n")


def groups(old: Sequence[str], new: Sequence[str], context: int) -> Iterator[list[Opcode]]:
    """Yield the differences of two texts, near ones together, each with some lines around it."""
    from difflib import SequenceMatcher  # only where something differs: the program starts without it

    matcher: Any = SequenceMatcher(None, "", "")
    matcher.opcodes = list(opcodes(old, new))  # it groups what it has found already
    yield from matcher.get_grouped_opcodes(context)


def unified(
    old: Sequence[str],
    new: Sequence[str],
    names: tuple[str, str],
    *,
    context: int = 2,
    shown: Callable[[Sequence[str], int], str] = getitem,
) -> list[str]:
    """Return the difference in unified form, or nothing. ``shown`` tells how one of several lines is shown."""
    found: list[str] = []
    for group in groups(old, new, context):
        first, last = group[0], group[-1]
        found.append(f"@@ -{_range(first[1], last[2])} +{_range(first[3], last[4])} @@")
        for what, old_start, old_end, new_start, new_end in group:
            if what == "equal":
                found += [f" {shown(old, at)}" for at in range(old_start, old_end)]
                continue
            found += [f"-{shown(old, at)}" for at in range(old_start, old_end)]
            found += [f"+{shown(new, at)}" for at in range(new_start, new_end)]
    return [f"--- {names[0]}", f"+++ {names[1]}", *found] if found else []


def _range(start: int, end: int) -> str:
    if end - start == 1:
        return str(start + 1)
    return f"{start + 1 if end > start else start},{end - start}"


def opcodes(old: Sequence[str], new: Sequence[str]) -> Iterator[Opcode]:
    """Yield what makes the old lines the new ones, in order."""
    a, b = list(old), list(new)
    at, to = 0, 0
    while at < len(a) or to < len(b):
        same = _same(a, at, b, to)
        if same:
            yield "equal", at, at + same, to, to + same
            at, to = at + same, to + same
            continue
        for what, old_start, old_end, new_start, new_end in _parting(a, at, b, to):
            yield what, at + old_start, at + old_end, to + new_start, to + new_end
        at, to = at + old_end, to + new_end


def _same(a: list[str], at: int, b: list[str], to: int) -> int:
    """Return how many lines are the same from two places on."""
    most = min(len(a) - at, len(b) - to)
    step, count = 1, 0
    while count < most and step:
        if count + step <= most and a[at + count : at + count + step] == b[to + count : to + count + step]:
            count += step
            step *= 2
        else:
            step //= 2
    return count


def _parting(a: list[str], at: int, b: list[str], to: int) -> list[Opcode]:
    """Return what differs from two places on, up to where the texts go on together for a few lines."""
    from difflib import SequenceMatcher

    found: list[Opcode] = []
    for size in _WINDOWS:
        old, new = a[at : at + size], b[to : to + size]
        found = list(SequenceMatcher(None, old, new, autojunk=False).get_opcodes())
        if at + size >= len(a) and to + size >= len(b):
            return found
        for number, path in enumerate(found):
            if path[0] == "equal" and path[2] - path[1] >= _ANCHOR and number:
                return found[:number]
    return found
