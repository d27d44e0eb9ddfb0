"""The checks, family by family, and the two ways to run them: on what is on disk, and on what a slate makes of it."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from functools import partial

from msgspec.structs import replace

from roundgate.core.checks import curves, lists, loot, mods, people, places, ranks, records, rules, syntax, values
from roundgate.core.checks.context import CheckContext
from roundgate.core.files import ServerFiles, Unreadable
from roundgate.core.findings import Finding, FindingCode, in_order
from roundgate.core.formats import catalogue
from roundgate.core.ranks.reading import paths_of, tables_of
from roundgate.core.slate import Outcome

CheckFiles = Callable[[ServerFiles], list[Finding]]
"""Gives the findings of files, whatever waits for them."""

CODES: dict[str, FindingCode] = {
    code.name: code
    for family in (catalogue, syntax, values, lists, places, mods, records, people, ranks, loot, curves, rules)
    for code in family.CODES
}
"""Every finding code, with the page that ``explain`` shows."""


def check_disk(
    server: str, files: ServerFiles, unreadable: Mapping[str, Unreadable], written: Collection[str] | None = None
) -> list[Finding]:
    """Check a server's files as they are; ``written`` names those whose syntax is looked at, all where it is None."""
    context = CheckContext(server, files, unreadable)
    in_form = [*syntax.check_files(context), *syntax.check_syntax(context, written)]
    spoiled = {
        (finding.place.file, finding.place.line)
        for finding in in_form
        if finding.code in ("key-with-space", "merge-marker")
    }
    found = [
        *in_form,
        *values.check_values(context),
        *values.check_keys(context, spoiled),
        *lists.check_lists(context),
        *places.check_places(context),
        *mods.check_mods(context),
        *records.check_records(context, written),
        *(records.check_rosters(context) if written is None else ()),
        *(ranks.check_ranks(context) if written is None or _touches_ranks(context, written) else ()),
        *loot.check_loot(context, written),
        *curves.check_curves(context, written),
        *rules.check_rules(context, written),
    ]
    return in_order(_with_cause_named(found))


def _touches_ranks(context: CheckContext, written: Collection[str]) -> bool:
    """Return whether files are among those ``written`` that hold ranks."""
    return any(set(paths_of(context.files, name)) & set(written) for name in tables_of(context.book))


def _with_cause_named(found: list[Finding]) -> list[Finding]:
    """Of a value that is wrong because of the comment after it say only that, and as an error."""
    comments = {(finding.place.file, finding.place.line) for finding in found if finding.code == "comment-in-value"}
    if not comments:
        return found
    wrong = {
        (finding.place.file, finding.place.line) for finding in found if finding.code.startswith("value-")
    } & comments
    kept = [
        finding
        for finding in found
        if not finding.code.startswith("value-") or (finding.place.file, finding.place.line) not in wrong
    ]
    return [
        replace(finding, level="error")
        if finding.code == "comment-in-value" and (finding.place.file, finding.place.line) in wrong
        else finding
        for finding in kept
    ]


def check_outcome(
    server: str, outcome: Outcome, unreadable: Mapping[str, Unreadable], check: CheckFiles | None = None
) -> list[Finding]:
    """Check a server's files as the slate would leave them; what is new by the slate is marked as waiting.

    ``check`` gives the findings of files where the caller knows them already.
    """
    check = check or partial(check_disk, server, unreadable=unreadable)
    old = {identity_of(finding) for finding in check(outcome.before)}
    found = check_after(server, outcome, unreadable, check)
    return in_order([finding if identity_of(finding) in old else replace(finding, waiting=True) for finding in found])


def check_after(
    server: str, outcome: Outcome, unreadable: Mapping[str, Unreadable], check: CheckFiles
) -> list[Finding]:
    """Check a server's files as the slate would leave them, whatever is wrong with them already."""
    context = CheckContext(server, outcome.after, unreadable)
    return [
        *check(outcome.after),
        *rules.check_worlds(context, outcome),
        *outcome.refused,
    ]


def identity_of(finding: Finding) -> tuple[str, str, str]:
    """Two findings are the same when they say the same; lines move when a file is edited."""
    return finding.code, finding.place.file, finding.cause
