"""Changes that are proposed for a slate: what they would make of the files, and the findings that they bring."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct
from msgspec.structs import replace

from roundgate.core.checks import identity_of
from roundgate.core.findings import Finding, has_errors, in_order
from roundgate.core.operations.base import Operation
from roundgate.core.operations.registry import merged
from roundgate.core.slate import Outcome
from roundgate.host.workspace import Holder


class Proposal(Struct, frozen=True):
    """Operations that are not on the slate yet, checked together with what waits there."""

    operations: tuple[Operation, ...]
    findings: tuple[Finding, ...]
    """What they bring that is not wrong already."""
    outcome: Outcome
    """What the whole slate makes of the files, with them on it."""

    @property
    def has_errors(self) -> bool:
        """Return whether they bring an error."""
        return has_errors(self.findings)

    @property
    def names(self) -> set[str]:
        """The settings, lists and keys that they are about."""
        return {operation.shown_name for operation in self.operations}


def propose(holder: Holder, operations: Sequence[Operation]) -> Proposal:
    """Check what the slate would be with the operations on it. Nothing is kept."""
    before = holder.outcome(holder.operations)
    after = list(holder.operations)
    for operation in operations:
        after = merged(after, operation)
    outcome = holder.outcome(after)
    touched = {operation.file for operation in operations}  # in the other files nothing new can be wrong
    found = holder.findings_after(outcome, touched)
    old = {identity_of(finding) for finding in holder.findings_after(before, touched)} if found else set()
    spoilt = touched & set(holder.read().unreadable)
    new = [finding for finding in found if identity_of(finding) not in old or finding.place.file in spoilt]
    told = [
        _not_put(finding) if finding.code == "slate-stuck" else replace(finding, waiting=True)
        for finding in in_order(new)
    ]
    return Proposal(tuple(operations), tuple(told), outcome)


def _not_put(finding: Finding) -> Finding:
    """Report that what cannot be done was not put on the slate: there is nothing to discard."""
    return replace(finding, do="")
