"""What a check says: findings as frozen values, and the page that a person can read on each code.

A finding never knows how it is shown. Lines and columns count from 1.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

from msgspec import Struct

from roundgate.core.next_step import Advice, Command, NextStep, step_of
from roundgate.core.text import Splice

Level = Literal["error", "warning", "note"]
_ORDER: dict[str, int] = {"error": 0, "warning": 1, "note": 2}


STANDARD_INPUT = "(standard input)"
"""What is checked as it comes in has this name, and cannot be repaired in place."""


class FindingCode(Struct, frozen=True):
    """The page on one finding code: what it means, with a bad and a good example."""

    name: str
    level: Level
    title: str
    page: str
    bad: str = ""
    good: str = ""
    format: str = ""
    """The format in which the examples are written, where they are whole files that a test can check."""


class Place(Struct, frozen=True):
    """Where a finding points: a file, and within it a line, a column and how many characters."""

    file: str
    line: int = 0
    column: int = 0
    length: int = 1
    source: str = ""
    """The line itself, with secrets blanked out; empty where there is none to show."""


class Fix(Struct, frozen=True):
    """A repair as a person or an editor can make it: replace the characters between two places by ``new``."""

    line: int
    column: int
    end_line: int
    end_column: int
    new: str


class Finding(Struct, frozen=True):
    """One thing that a check says: level, code, place, cause, and what to do."""

    code: str
    level: Level
    place: Place
    cause: str
    do: Advice = ""
    server: str = ""
    setting: str = ""
    waiting: bool = False
    """True where the finding is about what waits on the slate, not about what is on disk."""
    gave_up: tuple[int, int] = (0, 0)
    """Line and column at which a reader would give up, where that is not where the mistake was made."""
    fixes: tuple[Fix, ...] = ()
    safe: bool = False
    """True where ``fixes`` cannot change what is meant."""


class Problem(Struct, frozen=True):
    """What a format's reader noticed in a text: the code, the span of characters, the cause and what to do."""

    code: str
    level: Level
    start: int
    end: int
    cause: str
    do: Advice = ""
    repair: tuple[Splice, ...] = ()
    safe: bool = False
    """True where the repair cannot change what is meant: it may be made without asking again."""
    gave_up: int = -1
    """Where a reader gives up, where that is another line than ``start``; else -1."""


def finding_step(finding: Finding) -> NextStep:
    """Return what a finding proposes; where a repair is safe, the command that makes it."""
    step = step_of(finding.do)
    if not finding.safe or step.command or finding.place.file == STANDARD_INPUT:
        return step
    return NextStep(Command("check", "", (finding.server or finding.place.file,), ("--fix",)).typed, step.hint)


def in_order(findings: list[Finding]) -> list[Finding]:
    """Sort findings as a person wants them: errors first, then by server, file and line."""
    return sorted(
        findings,
        key=lambda finding: (
            _ORDER[finding.level],
            finding.server,
            finding.place.file,
            finding.place.line,
            finding.place.column,
        ),
    )


def has_errors(findings: Iterable[Finding]) -> bool:
    """Return whether any finding is an error."""
    return any(finding.level == "error" for finding in findings)
