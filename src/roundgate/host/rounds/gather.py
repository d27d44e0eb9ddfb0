"""The step gather: what the round will do, checked, before anything is touched."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from roundgate.core.checks import check_outcome
from roundgate.core.files import ServerFiles, differing
from roundgate.core.findings import Finding
from roundgate.core.rescue import rescue
from roundgate.core.review import Review, review_of
from roundgate.core.slate import Change, Operation, Outcome, merged, name_of
from roundgate.host.drivers.protocol import RunState
from roundgate.host.servers import FilesNow, Server
from roundgate.host.store import Store, Waiting


class Gathered(Struct, frozen=True):
    """What a round would do, as it stands now."""

    now: FilesNow
    outcome: Outcome
    findings: list[Finding]
    review: Review
    rescued: list[Operation]
    """Edits made by hand while the server ran, which the server would overwrite when it stops."""
    started: ServerFiles | None
    """The files as the running server read them; None where it is down."""

    @property
    def differs(self) -> list[str]:
        """The settings and lists that will be in force anew: other than what the running server read."""
        return differing(self.started, self.outcome.after) if self.started else []

    @property
    def digest(self) -> str:
        """A mark by which one sees whether anything has changed between the review and the round."""
        import hashlib  # slow to load, and only a round compares what was agreed to

        parts = [f"{path}\0{text.body}" for path, text in sorted(self.outcome.after.texts.items())]
        return hashlib.sha256("\0".join(parts).encode("utf-8", "surrogatepass")).hexdigest()


def gather(server: Server, waiting: Sequence[Waiting], state: RunState) -> Gathered:
    """Replay the slate on what is on disk, check the outcome, and say what it means. Changes nothing."""
    operations: list[Operation] = [one.operation for one in waiting]
    started = server.read_started() if state.runs else None
    rescued = rescue(server.read().files, started, operations)
    for operation in rescued:
        operations = merged(operations, operation)
    now, outcome = server.outcome(operations)
    findings = check_outcome(server.name, outcome, now.unreadable)
    return Gathered(now, outcome, findings, review_of(outcome), rescued, started)


def changed_names(changes: Sequence[Change]) -> list[str]:
    """Name what really changes."""
    return list(dict.fromkeys(name_of(change.operation) for change in changes if not change.is_nothing))


def keep_rescued(store: Store, server: str, rescued: Sequence[Operation]) -> None:
    """Put rescued edits on the slate, so that no crash can lose them."""
    if rescued:
        store.add_to_slate(server, rescued, "found on disk")
