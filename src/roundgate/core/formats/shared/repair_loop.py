"""Finding one mistake after another by fixing each: the next one is looked for in the fixed text.

So a reader that stops at the first mistake still gives several, none of which only follows from another, and every
repair that is offered has been tried.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from msgspec.structs import replace

from roundgate.core.findings import Problem
from roundgate.core.formats.shared.common_problems import MOST
from roundgate.core.text import LINE_END, Splice, Text, line_start

_LARGE = 1_000_000


class Mended:
    """A text with repairs made in it, and where each of its characters was in the original."""

    def __init__(self, body: str) -> None:
        """Begin with the original."""
        self.body = body
        self._steps: list[list[Splice]] = []

    def mend(self, cuts: Sequence[Splice]) -> bool:
        """Make a repair; return whether it changed anything."""
        ordered = sorted(cuts, key=lambda cut: (cut.start, cut.end))
        new = Text(self.body).spliced(ordered).body
        changed = new != self.body
        self.body = new
        self._steps.append(ordered)
        return changed

    def original(self, index: int) -> int:
        """Return the place in the original of a character of the fixed text."""
        for cuts in reversed(self._steps):
            index = _before(cuts, index)
        return index

    def in_original(self, problem: Problem) -> Problem:
        """Return a problem of the fixed text with the places of the original."""
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
    """Find mistakes by fixing each. The first one that is not understood, or has no repair, is the last."""
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
        # The repair did not help: the same mistake again, and so on forever.
        if any((mistake.code, mistake.start) == (placed.code, placed.start) for mistake in found):
            break
        found.append(placed)
        if not problem.repair or not mended.mend(problem.repair):
            break
    return found[:MOST]


FirstError = Callable[[str], "tuple[int, int] | None"]
"""Looks at a text: None where a strict reader takes it, else where the part that it cannot take begins and ends."""


def only_proven(body: str, problems: Sequence[Problem], first_error: FirstError) -> list[Problem]:
    """Let only those repairs stay safe that are proven: each is needed where it is made, and the file then parses.

    The repairs are made one after another, from the top. One that is not beside the place where a strict reader gives
    up by then may change what the file says, so it is proposed and never made. Where the file still does not parse
    after all of them, none of them counts as understood.
    """
    candidates = sorted(
        (problem for problem in problems if problem.safe and problem.repair and problem.level == "error"),
        key=lambda mistake: min(cut.start for cut in mistake.repair),
    )
    if not candidates:
        return list(problems)
    proven: list[Problem] = []
    done: list[Splice] = []
    text = body
    for candidate in candidates:
        failed = first_error(text)
        if failed is None:
            break
        cuts = [_shifted(cut, done) for cut in candidate.repair]
        # A repair far from where the reader gives up would change a part of the file that it can read.
        if not _is_beside(text, cuts, failed):
            continue
        try:
            text = Text(text).spliced(cuts).body
        except ValueError:  # it overlaps with one that was made before
            continue
        done += candidate.repair
        proven.append(candidate)
    # A file that still cannot be read was understood wrongly somewhere, and nobody knows where.
    if first_error(text) is not None:
        proven = []
    kept = [id(mistake) for mistake in proven]
    return [
        replace(problem, safe=False)
        if problem.safe and problem.level == "error" and id(problem) not in kept
        else problem
        for problem in problems
    ]


def _shifted(cut: Splice, done: Sequence[Splice]) -> Splice:
    """Return a splice of the original in the text in which others have been made before it."""
    shift = sum(len(splice.new) - (splice.end - splice.start) for splice in done if splice.end <= cut.start)
    return Splice(cut.start + shift, cut.end + shift, cut.new)


def _is_beside(text: str, cuts: Sequence[Splice], failed: tuple[int, int]) -> bool:
    """Return whether a repair lies in the part that a reader cannot take, or on the line of what is right before it."""
    low = line_start(text, len(text[: failed[0]].rstrip()))
    ending = LINE_END.search(text, failed[1])
    high = ending.start() if ending else len(text)
    return any(low <= cut.start <= high for cut in cuts)
