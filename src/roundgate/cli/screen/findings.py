"""Findings as a person reads them: level, code, place and server, the line with a caret, the cause, what to do."""

from __future__ import annotations

import unicodedata
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from roundgate.cli.screen.output import echo, plain, styled
from roundgate.core.findings import finding_step

if TYPE_CHECKING:
    from roundgate.core.findings import Finding

_COLOURS = {"error": "red", "warning": "yellow", "note": "cyan"}


def echo_findings(findings: Sequence[Finding]) -> None:
    """Print findings, one block each."""
    for finding in findings:
        _say_one(finding)
        echo()


def _say_one(finding: Finding) -> None:
    place = finding.place
    where = f"{place.file}:{place.line}:{place.column}" if place.line else place.file
    slate = "  on the slate" if finding.waiting else ""
    echo(f"{styled(finding.level, _COLOURS[finding.level])}  {finding.code}  {where}  {finding.server}{slate}".rstrip())
    indent = "  "
    if place.source:
        shown, column = _window(place.source, place.column)
        echo(f"  {plain(shown)}")
        width = max(1, min(place.length, len(shown) - column + 1))
        indent = "  " + " " * _columns(plain(shown[: column - 1]))
        carets = "^" * max(1, _columns(plain(shown[column - 1 : column - 1 + width])))
        echo(f"{indent}{styled(carets, _COLOURS[finding.level])} {finding.cause}")
    else:
        echo(f"{indent}{finding.cause}")
    if finding.gave_up[0]:
        row, column = finding.gave_up
        echo(f"  The mistake is here; a reader only gives up at {row}:{column}.")
    for line in finding_step(finding).lines():
        echo(f"  {line}")


def _window(source: str, column: int, most: int = 100) -> tuple[str, int]:
    """Cut a long line to the part around the column."""
    if len(source) <= most:
        return source.replace("\t", " "), column
    start = max(0, column - 1 - most // 3)
    return source[start : start + most].replace("\t", " "), column - start


def _columns(text: str) -> int:
    """Count the columns that a text takes on a terminal."""
    wide = sum(1 for char in text if unicodedata.east_asian_width(char) in "WF")
    return len(text) + wide - sum(1 for char in text if unicodedata.combining(char))


def describe_counts(counts: Mapping[str, int]) -> str:
    """Describe how many findings there are of each level."""
    parts = []
    for level in ("error", "warning", "note"):
        number = counts.get(level, 0)
        if number:
            parts.append(f"{number} {level}{'s' if number > 1 else ''}")
    return ", ".join(parts) or "nothing wrong"
