"""Two operations on a whole file.

Safe repairs, made anew on whatever is on disk, and an edit by hand as hunks of lines.
"""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from roundgate.core.differences import groups
from roundgate.core.findings import Problem
from roundgate.core.formats.protocol import Document, EditRefused, Format
from roundgate.core.text import Splice, Text

_ROUNDS = 50


class Mend(Struct, frozen=True, tag="mend"):
    """Make every safe repair of these finding codes in a file."""

    file: str
    codes: tuple[str, ...]


class Hunk(Struct, frozen=True):
    """Lines that give way to others, line ends included; a few lines around them tell the place."""

    before: tuple[str, ...]
    after: tuple[str, ...]


class EditText(Struct, frozen=True, tag="edit"):
    """Change a file's text as somebody did in an editor."""

    file: str
    hunks: tuple[Hunk, ...]


def safe_repairs(document: Document, codes: Sequence[str] = ()) -> list[Problem]:
    """Give the problems that can be mended safely, those of some codes only where any are given."""
    return [one for one in document.problems() if one.safe and one.repair and (not codes or one.code in codes)]


def mended(kind: Format, document: Document, codes: Sequence[str] = ()) -> Document:
    """Make the safe repairs, again and again while there are any.

    After each time the text is read anew. Raises EditRefused where there are more errors than before.
    """
    problems = document.problems()
    for _ in range(_ROUNDS):
        repairs = [one for one in problems if one.safe and one.repair and (not codes or one.code in codes)]
        if not repairs:
            return document
        text = document.text.spliced(_apart(repairs))
        text.encode()
        after = kind.read(text, document.dialect)
        left = after.problems()
        if _errors(left) > _errors(problems) or text == document.text:
            raise EditRefused("the repair would not make the file better, so nothing was changed")
        document, problems = after, left
    return document


def _errors(problems: Sequence[Problem]) -> int:
    return sum(1 for one in problems if one.level == "error")


def _apart(problems: Sequence[Problem]) -> list[Splice]:
    """Take the repairs that do not touch one another; the rest is made the next time."""
    taken: list[Splice] = []
    end = -1
    for problem in sorted(problems, key=lambda one: min(cut.start for cut in one.repair)):
        if min(cut.start for cut in problem.repair) > end:
            taken += problem.repair
            end = max(cut.end for cut in problem.repair)
    return taken


def hunks_between(before: str, after: str, context: int = 2) -> tuple[Hunk, ...]:
    """Give the differences of two texts, each with a few lines around it."""
    old, new = before.splitlines(keepends=True), after.splitlines(keepends=True)
    return tuple(
        Hunk(tuple(old[group[0][1] : group[-1][2]]), tuple(new[group[0][3] : group[-1][4]]))
        for group in groups(old, new, context)
    )


def edited(text: Text, hunks: Sequence[Hunk]) -> Text:
    """Make an edit by hand on a text that may have changed since. Raises EditRefused where its place has."""
    lines = text.body.splitlines(keepends=True)
    for hunk in hunks:
        at = _only_place(lines, hunk.before)
        if at is None and _only_place(lines, hunk.after) is not None:
            continue
        if at is None:
            raise EditRefused("the lines that were edited have changed on disk since; edit the file again")
        lines[at : at + len(hunk.before)] = hunk.after
    return text.with_body("".join(lines))


def _only_place(lines: list[str], wanted: Sequence[str]) -> int | None:
    if not wanted:
        return 0 if not lines else None
    found = [at for at in range(len(lines) - len(wanted) + 1) if lines[at : at + len(wanted)] == list(wanted)]
    return found[0] if len(found) == 1 else None
