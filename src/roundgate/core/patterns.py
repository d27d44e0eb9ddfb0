"""Regular expressions that are compiled when they are first used: many commands need few of them."""

from __future__ import annotations

import re
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
    """Give a pattern that compiles itself at its first use. Raises re.error then where it is wrong."""
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
    """Tell whether the whole of a text fits a rulebook's pattern. One that takes too long does not fit.

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
    """Tell whether a search takes next to no time, whatever the line: only one part has a choice of lengths."""
    return len(_OF_SOME_LENGTH.findall(pattern)) < 2 and not _REPEATED_GROUP.search(pattern)


def may_run_away(pattern: str, example: str = "") -> bool:
    """Tell whether a pattern that repeats a group takes too long on a text that nearly fits.

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
