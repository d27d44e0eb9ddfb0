"""Patterns of a rulebook on lines that a server or a player wrote: searched within a limit of time and length.

A pattern with catastrophic backtracking would otherwise stop the keeper, or a round, for good.
"""

from __future__ import annotations

import re
from contextlib import suppress
from typing import TYPE_CHECKING

from roundgate.core.patterns import needs_no_clock

if TYPE_CHECKING:
    from regex import Match, Pattern

    Found = Match[str] | re.Match[str]

LONGEST_LINE = 4096
"""Characters of a line that are searched; what lies beyond is kept in the log and not looked at."""
_SECONDS = 0.1
_MOST_TIMEOUTS = 3


class PatternError(ValueError):
    """A pattern that is not one."""


def search(pattern: str, text: str) -> Found | None:
    """Search a text. A pattern that is broken has not matched, nor has one that takes too long.

    After a few times this process does not try it again.
    """
    if needs_no_clock(pattern):
        with suppress(re.error):  # what only the other module knows
            return re.search(pattern, text[:LONGEST_LINE])
    if _TIMEOUTS.get(pattern, 0) >= _MOST_TIMEOUTS:
        return None
    import regex  # large to load; most patterns of a rulebook are simple

    try:
        return regex.search(pattern, text[:LONGEST_LINE], timeout=_SECONDS)
    except TimeoutError:
        _TIMEOUTS[pattern] = _TIMEOUTS.get(pattern, 0) + 1
        return None
    except regex.error:
        return None


_TIMEOUTS: dict[str, int] = {}
"""How often each pattern took too long in this process."""


def switched_off() -> list[str]:
    """Return the patterns that took too long in this process and are no longer searched."""
    return [pattern for pattern, times in _TIMEOUTS.items() if times >= _MOST_TIMEOUTS]


class LinePattern:
    """One pattern for the many lines of a log; switched off once it has taken too long a few times."""

    def __init__(self, pattern: str) -> None:
        """Compile. Raises PatternError. The empty pattern matches nothing."""
        self._compiled = _compiled(pattern) if pattern else None
        self.timeouts = 0

    @property
    def is_off(self) -> bool:
        """Return whether the pattern took too long too often and is no longer searched."""
        return self.timeouts >= _MOST_TIMEOUTS

    def search(self, line: bytes) -> Match[bytes] | None:
        """Search a line."""
        if self._compiled is None or self.is_off:
            return None
        try:
            return self._compiled.search(line[:LONGEST_LINE], timeout=_SECONDS)
        except TimeoutError:
            self.timeouts += 1
            return None


def _compiled(pattern: str) -> Pattern[bytes]:
    import regex

    try:
        return regex.compile(pattern.encode())
    except regex.error as error:
        raise PatternError(str(error)) from error
