"""Entries that stand commented out over one line or several: which lines they are, and what is left without the marks.

A format gives the sign that begins its comments; what the lines say is for its own reader to tell.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

from roundgate.core.formats.shared.key_value import line_span
from roundgate.core.text import LINE_END, Splice, Text, line_start

_MOST_LINES = 500
"""No entry that somebody commented out is longer, and each line is tried."""


class Uncommented(NamedTuple):
    """Lines without their comment marks: the cuts that take those away, what is left, and where the last line ends."""

    cuts: tuple[Splice, ...]
    left: str
    end: int


def uncommented(text: Text, at: int, mark: str) -> Iterator[Uncommented]:
    """Yield the line that holds an index without its mark, then that line and the next, as long as comments follow.

    The first line's indentation is taken off all of them in ``left``, so that what it holds can be read by itself.
    """
    body = text.body
    line = re.compile(rf"(?P<lead>[ \t]*)(?P<mark>{re.escape(mark)}[ \t]?)(?P<left>[^\r\n]*)")
    cuts: list[Splice] = []
    left = ""
    at = line_start(body, at)
    for _ in range(_MOST_LINES):
        found = line.match(body, at)
        if found is None:
            return
        cuts.append(Splice(*(found.span("mark") if found["left"] else found.span()), ""))
        left += found["left"] + text.newline
        yield Uncommented(tuple(cuts), left, found.end())
        at = line_span(text, found.end())[1]
        if at == found.end():
            return


def commented(text: Text, start: int, end: int, mark: str) -> tuple[Splice, ...]:
    """Return the cuts that put a mark before each line of a span, in the column where the span starts."""
    body = text.body
    first = line_start(body, start)
    lead = body[first:start]
    cuts = []
    ends = (match.end() for match in LINE_END.finditer(body, start, end))
    for at in (first, *(at for at in ends if at < end)):
        stop = text.line_around(at)[1]
        if not body[at:stop].strip():
            cuts.append(Splice(at, stop, f"{lead}{mark}"))
            continue
        blanks = len(body[at:stop]) - len(body[at:stop].lstrip(" \t"))
        put = at + min(blanks, len(lead))
        cuts.append(Splice(put, put, f"{mark} "))
    return tuple(cuts)
