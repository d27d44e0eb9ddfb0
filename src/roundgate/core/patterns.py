"""Regular expressions that are compiled when they are first used: many commands need few of them."""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import lru_cache
from typing import Any, cast


class _Lazy:
    def __init__(self, pattern: str, flags: int) -> None:
        self._source = pattern, flags
        self.pattern = pattern

    def __getattr__(self, name: str) -> Any:
        found = getattr(re.compile(*self._source), name)  # the module ``re`` keeps what it has compiled
        setattr(self, name, found)
        return found


def lazy(pattern: str, flags: int = 0) -> re.Pattern[str]:
    """Return a pattern that compiles itself at its first use. Raises re.error then where it is wrong."""
    return cast("re.Pattern[str]", _Lazy(pattern, flags))


_NOTHING = "(?!)"


@lru_cache(maxsize=256)
def compiled(pattern: str) -> re.Pattern[str]:
    """Compile a rulebook's pattern. One that is broken matches nothing: ``rulebook check`` names its mistake.

    A server must not become unmanageable by a typing mistake in its rulebook.
    """
    try:
        return re.compile(pattern)
    except re.error:
        return re.compile(_NOTHING)


_SECONDS = 0.1
_REPEATED_GROUP = re.compile(r"\)(?:[*+]|\{\d*,)")


def fits(pattern: str, text: str) -> bool:
    """Return whether the whole of a text fits a rulebook's pattern. One that takes too long does not fit.

    Only a pattern that repeats a group can take exponential time; others need no clock.
    """
    if not _REPEATED_GROUP.search(pattern):
        return compiled(pattern).fullmatch(text) is not None
    import regex

    try:
        return regex.fullmatch(pattern, text, timeout=_SECONDS) is not None
    except (TimeoutError, regex.error):
        return False


_OF_SOME_LENGTH = re.compile(r"[*+]|(?<!\()\?|\{\d*,\d*\}")
"""What makes a part of a pattern repeat, or be left out; ``(?`` only begins a group."""


def needs_no_clock(pattern: str) -> bool:
    """Return whether a search takes next to no time, whatever the line: only one part has a choice of lengths."""
    return len(_OF_SOME_LENGTH.findall(pattern)) < 2 and not _REPEATED_GROUP.search(pattern)


def may_run_away(pattern: str, example: str = "") -> bool:
    """Return whether a pattern that repeats a group takes too long on a text that nearly fits.

    It is tried with long runs of the characters that it may be about, alone and after ``example``.
    """
    if not _REPEATED_GROUP.search(pattern):
        return False
    import regex

    runs = dict.fromkeys((*"a0A x.-_", *(char for char in pattern if char.isalnum()), "aA", "a0", "a.", "0."))
    tail = "\x00" + "".join(dict.fromkeys(char for char in pattern if char.isalnum()))  # all that it may ask for
    try:
        for run in runs:
            for lead in dict.fromkeys(("", example)):
                regex.search(pattern, f"{lead}{run * 200}{tail}", timeout=_SECONDS)
                regex.fullmatch(pattern, f"{lead}{run * 200}{tail}", timeout=_SECONDS)
    except TimeoutError:
        return True
    except regex.error:
        return False
    return False


_SHORT = 512
"""Bytes of a line up to which two parts that repeat cost little, however the line is made."""
_MOST_TIMEOUTS = 3
"""How often a pattern may take too long before it is no longer searched."""
_MOST_SPENT, _MOST_EACH = 2.0, 0.001
"""Seconds for all searches that are limited in time, and for each of them on average: a long log may take long."""


class LineSearch:
    """One pattern for the many lines of a log, which strangers write.

    A search is limited in time, but where the pattern itself shows that it is quick. One that took too long a few times
    is switched off, and one that took too long for all lines together.
    """

    def __init__(self, pattern: str, clock: Callable[[], float]) -> None:
        """Compile; ``clock`` gives the time that this process has worked, in seconds. Raises re.error."""
        self.pattern = pattern
        self.compiled = re.compile(pattern.encode())
        repeats = len(_OF_SOME_LENGTH.findall(pattern))
        self.quick_up_to = 0 if _REPEATED_GROUP.search(pattern) else _SHORT if repeats <= _FEW_PARTS else 0
        """Bytes of a line up to which ``compiled`` may be searched without a clock."""
        self.timeouts = 0
        self.searched, self.spent = 0, 0.0
        """How many searches within a limit of time there were, and the seconds that they have taken."""
        self._clock = clock
        self._clocked: Any = None

    @property
    def is_off(self) -> bool:
        """Whether the pattern took too long too often and is no longer searched."""
        is_slow = self.spent > _MOST_SPENT and self.spent > self.searched * _MOST_EACH
        return self.timeouts >= _MOST_TIMEOUTS or is_slow

    def search(self, line: bytes) -> Any:
        """Search a line: a match of ``re`` or ``regex``, None where there is none, or where it took too long."""
        if len(line) <= self.quick_up_to:
            return self.compiled.search(line)
        return None if self.is_off else self._within_time(line)

    def _within_time(self, line: bytes) -> Any:
        import regex

        began = self._clock()
        try:
            if self._clocked is None:
                self._clocked = regex.compile(self.pattern.encode())
            return self._clocked.search(line, timeout=_SECONDS)
        except TimeoutError:
            self.timeouts += 1
            return None
        except regex.error:  # what only the other module reads
            return None
        finally:
            self.searched += 1
            self.spent += self._clock() - began


_FEW_PARTS = 3
"""Signs of a choice of lengths, as ``_OF_SOME_LENGTH`` counts them: ``.+?`` and ``\\d+`` make three."""
