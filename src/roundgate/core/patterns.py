"""Regular expressions that are compiled when they are first used: many commands need few of them."""

from __future__ import annotations

import re
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
