"""Safe repairs of a file: those that cannot change what it means to say."""

from __future__ import annotations

from collections.abc import Sequence

from roundgate.core.findings import Problem
from roundgate.core.formats import problems_of
from roundgate.core.formats.protocol import Document, EditRefused, Format
from roundgate.core.text import Splice

_ROUNDS = 50


def safe_repairs(document: Document, codes: Sequence[str] = ()) -> list[Problem]:
    """Return the problems that can be fixed safely, those of some codes only where any are given."""
    return [
        mistake
        for mistake in problems_of(document)
        if mistake.safe and mistake.repair and (not codes or mistake.code in codes)
    ]


def with_repairs(kind: Format, document: Document, codes: Sequence[str] = ()) -> Document:
    """Make the safe repairs, again and again while there are any.

    After each time the text is read again. Raises EditRefused where there are more errors than before.
    """
    problems = kind.problems(document)
    for _ in range(_ROUNDS):
        repairs = [
            problem for problem in problems if problem.safe and problem.repair and (not codes or problem.code in codes)
        ]
        if not repairs:
            return document
        text = document.text.spliced(_apart(repairs))
        text.encode()
        after = kind.read(text, document.dialect)
        left = kind.problems(after)
        if _errors(left) > _errors(problems) or text == document.text:
            raise EditRefused("the repair would not make the file better, so nothing was changed")
        document, problems = after, left
    return document


def _errors(problems: Sequence[Problem]) -> int:
    return sum(1 for problem in problems if problem.level == "error")


def _apart(problems: Sequence[Problem]) -> list[Splice]:
    """Take the repairs that do not touch one another; the rest is made the next time."""
    taken: list[Splice] = []
    end = -1
    for problem in sorted(problems, key=lambda mistake: min(cut.start for cut in mistake.repair)):
        if min(cut.start for cut in problem.repair) > end:
            taken += problem.repair
            end = max(cut.end for cut in problem.repair)
    return taken
