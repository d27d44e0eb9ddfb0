"""Findings in SARIF 2.1.0, the exchange format for what checkers find (OASIS standard)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from roundgate import __version__
from roundgate.core.checks import CODES

if TYPE_CHECKING:
    from roundgate.core.findings import Finding, Fix

_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"


def sarif_of(findings: Sequence[Finding]) -> dict[str, Any]:
    """Return one run's log: the rules that were broken, and a result for each finding."""
    used = sorted({finding.code for finding in findings})
    return {
        "$schema": _SCHEMA,
        "version": "2.1.0",
        "runs": [
            {
                "tool": {
                    "driver": {"name": "Round Gate", "version": __version__, "rules": [_rule(name) for name in used]}
                },
                "columnKind": "unicodeCodePoints",
                "results": [_result(finding, used) for finding in findings],
            }
        ],
    }


def _rule(name: str) -> dict[str, Any]:
    code = CODES[name]
    return {
        "id": name,
        "shortDescription": {"text": code.title},
        "fullDescription": {"text": code.page},
        "defaultConfiguration": {"level": code.level},
    }


def _result(finding: Finding, used: list[str]) -> dict[str, Any]:
    message = finding.cause + (f" {finding.do}" if finding.do else "")
    result: dict[str, Any] = {
        "ruleId": finding.code,
        "ruleIndex": used.index(finding.code),
        "level": finding.level,
        "message": {"text": message},
        "locations": [_location(finding)],
    }
    if finding.gave_up[0]:
        line, column = finding.gave_up
        region = {"startLine": line, "startColumn": column}
        place = {"artifactLocation": _artifact(finding), "region": region}
        result["relatedLocations"] = [{"physicalLocation": place, "message": {"text": "a reader gives up here"}}]
    if finding.fixes:
        changes = [_replacement(fix) for fix in finding.fixes]
        change = {"artifactLocation": _artifact(finding), "replacements": changes}
        result["fixes"] = [{"description": {"text": finding.do}, "artifactChanges": [change]}]
    if finding.server:
        result["properties"] = {"server": finding.server, "onSlate": finding.waiting, "setting": finding.setting}
    return result


def _artifact(finding: Finding) -> dict[str, str]:
    return {"uri": quote(finding.place.file)}


def _location(finding: Finding) -> dict[str, Any]:
    place: dict[str, Any] = {"artifactLocation": _artifact(finding)}
    if finding.place.line:
        column = finding.place.column
        place["region"] = {
            "startLine": finding.place.line,
            "startColumn": column,
            "endColumn": column + max(1, finding.place.length),
        }
    return {"physicalLocation": place}


def _replacement(fix: Fix) -> dict[str, Any]:
    region = {
        "startLine": fix.line,
        "startColumn": fix.column,
        "endLine": fix.end_line,
        "endColumn": fix.end_column,
    }
    return {"deletedRegion": region, "insertedContent": {"text": fix.new}}
