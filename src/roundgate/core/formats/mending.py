"""Finding one mistake after another by mending each: the next one is looked for in the mended text.

So a reader that stops at the first mistake still gives several, none of which only follows from another, and every
repair that is offered has been tried.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from msgspec.structs import replace

from roundgate.core.findings import Problem
from roundgate.core.formats.anywhere import MOST
from roundgate.core.text import LINE_END, Splice, Text

_LARGE = 1_000_000


class Mended:
    """A text with repairs made in it, and where each of its characters was in the original."""

    def __init__(self, body: str) -> None:
        """Begin with the original."""
        self.body = body
        self._steps: list[list[Splice]] = []

    def mend(self, cuts: Sequence[Splice]) -> bool:
        """Make a repair; tell whether it changed anything."""
        ordered = sorted(cuts, key=lambda cut: (cut.start, cut.end))
        new = Text(self.body).spliced(ordered).body
        changed = new != self.body
        self.body = new
        self._steps.append(ordered)
        return changed

    def original(self, index: int) -> int:
        """Give the place in the original of a character of the mended text."""
        for cuts in reversed(self._steps):
            index = _before(cuts, index)
        return index

    def in_original(self, problem: Problem) -> Problem:
        """Give a problem of the mended text with the places of the original."""
        start = self.original(problem.start)
        repair = tuple(Splice(self.original(cut.start), self.original(cut.end), cut.new) for cut in problem.repair)
        gave_up = self.original(problem.gave_up) if problem.gave_up >= 0 else -1
        end = max(start, self.original(problem.end))
        return replace(problem, start=start, end=end, repair=repair, gave_up=gave_up)


def _before(cuts: Sequence[Splice], index: int) -> int:
    shift = 0
    for cut in cuts:
        begun = cut.start + shift
        if index < begun:
            break
        if index < begun + len(cut.new):
            return cut.start
        shift += len(cut.new) - (cut.end - cut.start)
    return index - shift


Diagnose = Callable[[str], "tuple[Problem | None, int] | None"]
"""Looks at a text: None where it is well, else the first mistake (None where it is not understood) and the place where
the reader gave up."""


def one_after_another(body: str, diagnose: Diagnose, not_understood: Callable[[str, int], Problem]) -> list[Problem]:
    """Find mistakes by mending each. The first one that is not understood, or has no repair, is the last."""
    mended = Mended(body)
    found: list[Problem] = []
    for _ in range(MOST + 1 if len(body) < _LARGE else 1):
        result = diagnose(mended.body)
        if result is None:
            break
        problem, gave_up = result
        if problem is None:
            if not found:
                found.append(not_understood(mended.body, gave_up))
            break
        low, high = sorted((problem.start, min(gave_up, len(mended.body))))
        if LINE_END.search(mended.body, low, high):
            problem = replace(problem, gave_up=gave_up)
        placed = mended.in_original(problem)
        if any((one.code, one.start) == (placed.code, placed.start) for one in found):
            break
        found.append(placed)
        if not problem.repair or not mended.mend(problem.repair):
            break
    return found[:MOST]
