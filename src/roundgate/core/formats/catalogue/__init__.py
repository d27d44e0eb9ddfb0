"""The catalogue of what can be wrong with the text of a file, and how a reader's problem is made of it.

Each page stands with a bad and a good example; the tests check both with the format that the page names.
"""

from __future__ import annotations

from collections.abc import Sequence

from roundgate.core.findings import FindingCode, Level, Problem
from roundgate.core.formats.catalogue import brackets, everywhere, indented, keys, markup, scripts
from roundgate.core.text import Splice

CODES: tuple[FindingCode, ...] = tuple(
    code for family in (everywhere, brackets, indented, keys, markup, scripts) for code in family.CODES
)
_LEVELS = {code.name: code.level for code in CODES}


def problem(
    code: str,
    span: tuple[int, int],
    cause: str,
    do: str,
    repair: Sequence[Splice] = (),
    *,
    safe: bool = False,
    level: Level | None = None,
) -> Problem:
    """Make a problem of a code of the catalogue; ``span`` is where the mistake was made."""
    return Problem(code, level or _LEVELS[code], span[0], span[1], cause, do, tuple(repair), safe and bool(repair))
