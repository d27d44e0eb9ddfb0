"""What a check says: findings as frozen values, and the page that a person can read on each code.

A finding never knows how it is shown. Lines and columns count from 1.
"""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

Level = Literal["error", "warning", "note"]
_ORDER: dict[str, int] = {"error": 0, "warning": 1, "note": 2}


class Code(Struct, frozen=True):
    """The page on one finding code: what it means, with a bad and a good example."""

    name: str
    level: Level
    title: str
    page: str
    bad: str = ""
    good: str = ""


class Place(Struct, frozen=True):
    """Where a finding points: a file, and within it a line, a column and how many characters."""

    file: str
    line: int = 0
    column: int = 0
    length: int = 1
    source: str = ""
    """The line itself, with secrets blanked out; empty where there is none to show."""


class Finding(Struct, frozen=True):
    """One thing that a check says: level, code, place, cause, and what to do."""

    code: str
    level: Level
    place: Place
    cause: str
    do: str = ""
    server: str = ""
    setting: str = ""
    waiting: bool = False
    """True where the finding is about what waits on the slate, not about what is on disk."""


class Problem(Struct, frozen=True):
    """What a format's reader noticed in a text: the code, the span of characters, the cause and what to do."""

    code: str
    level: Level
    start: int
    end: int
    cause: str
    do: str = ""


def in_order(findings: list[Finding]) -> list[Finding]:
    """Sort findings as a person wants them: errors first, then by server, file and line."""
    return sorted(findings, key=lambda one: (_ORDER[one.level], one.server, one.place.file, one.place.line))


def has_errors(findings: list[Finding]) -> bool:
    """Tell whether any finding is an error."""
    return any(one.level == "error" for one in findings)
