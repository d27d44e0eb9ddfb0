"""What the searches for one slip of the hand have in common: a slip, the lines around a place, and the layout."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

from roundgate.core.text import LINE_END, Splice, line_start

_TRIED = 300
_WORK = 20_000_000
"""So many characters are parsed at most while slips are tried."""
SLOW = 2_000_000
"""The same for a reader that is written in Python."""
FEWEST = 100
"""Where fewer could be tried, the likely one may not be among them, and an unlikely one would be shown."""
_FAR = 40
"""So many lines around the place are looked at."""


class Slip(NamedTuple):
    """One likely slip: its code, where it was made, what to say of it, and the change that takes it back."""

    code: str
    start: int
    end: int
    cause: str
    do: str
    cut: Splice


def tries_for(body: str, work: int = _WORK) -> int:
    """Return how many slips may be tried on a text: each costs a parse of the whole of it. In a large one it is none.

    ``work`` is how many characters may be parsed in all: fewer where the strict reader is a slow one.
    """
    tries = work // max(len(body), 1)
    return min(_TRIED, tries) if tries >= FEWEST else 0


def lines_around(body: str, at: int) -> list[tuple[int, int]]:
    """Return the spans of the lines around a place, the nearest ones first, earlier ones before later ones."""
    spans, start = [], 0
    for end in LINE_END.finditer(body):
        spans.append((start, end.start()))
        start = end.end()
    spans.append((start, len(body)))
    here = next((number for number, span in enumerate(spans) if span[1] >= at), len(spans) - 1)
    order = [here]
    for far in range(1, _FAR):
        order += [here - far, here + far] if far <= 2 else [here - far]
    order += [here + far for far in range(3, _FAR)]
    return [spans[number] for number in order if 0 <= number < len(spans)]


def crooked_lines(body: str, signs: Sequence[tuple[int, bool]]) -> int:
    """Count the closing signs that begin a line in another column than the line of their opening ones.

    ``signs`` are the places of all opening (True) and closing ones.
    """
    stack: list[int] = []
    crooked = 0
    for at, opens in signs:
        start = line_start(body, at)
        column = _column(body, start)
        if opens:
            stack.append(column)
        elif stack:
            opened = stack.pop()
            crooked += not body[start:at].strip(" \t") and column != opened
    return crooked


def _column(body: str, start: int) -> int:
    blanks = re.compile(r"[ \t]*").match(body, start)
    return (blanks.end() if blanks else start) - start
