"""The step gather: what the round will do, checked, before anything is touched."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct

from roundgate.core.checks import check_outcome
from roundgate.core.files import ServerFiles, differing
from roundgate.core.findings import Finding, has_errors
from roundgate.core.rescue import rescue
from roundgate.core.review import Review, review_of
from roundgate.core.slate import Change, Operation, Outcome, merged, name_of
from roundgate.host import machine
from roundgate.host.drivers.protocol import RunState
from roundgate.host.errors import Trouble
from roundgate.host.rounds.options import Options, RoundEnd
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


def refuse_errors(gathered: Gathered, options: Options, server: str) -> None:
    """End the round where the outcome has errors. Raises RoundEnd."""
    if any(one.level == "error" and one.waiting for one in gathered.findings):
        raise RoundEnd("refused", "The changes have errors, so nothing was done.", f"roundgate check {server}")
    if options.kind == "apply" and has_errors(gathered.findings) and not options.despite_errors:
        said = "There are errors on disk already, so nothing was done."
        raise RoundEnd("refused", said, f"roundgate check {server}, or apply with --despite-errors")


def refuse_outsiders(server: Server, state: RunState) -> None:
    """Refuse to go on where the server runs outside Round Gate. Raises Trouble."""
    if state.runs:
        return
    found = machine.running_in(str(server.folder), server.book.server.process)
    if found:
        processes = ", ".join(machine.name_process(process) for process in found)
        raise Trouble(
            f"{server.name} already runs outside Round Gate: {processes}.",
            f"Stop it the way it was started, then: roundgate start {server.name}",
        )


def refuse_taken_ports(server: Server, files: ServerFiles, ours: Sequence[int]) -> None:
    """Refuse to go on where somebody else owns a port that the server will need. Raises RoundEnd."""
    for protocol, _, port in wanted_ports(server, files):
        for owner in machine.holders(protocol, port):
            if owner.process not in ours:
                who = _whose(server, owner.process)
                said = f"Port {port} ({protocol}) is taken by {who}; {server.name} could not start."
                raise RoundEnd("refused", said, f"Stop that, or: roundgate set {server.name} net.port=...")


def _whose(server: Server, process: int | None) -> str:
    for name in server.site.file.server:
        folder = Path(server.site.folder_of(name))
        if process is not None and process in machine.running_in(str(folder), server.book.server.process):
            return f"{name} of this site, {machine.name_process(process)}"
    return machine.name_process(process)


def wanted_ports(server: Server, files: ServerFiles) -> list[tuple[str, str, int]]:
    """Give protocol, address (empty: any) and number of each port that the server should open with these files."""
    from roundgate.core.checks.rules import broken_rules

    wanted: list[tuple[str, str, int]] = []
    for port in server.book.server.port:
        if port.needs and broken_rules(files.names, {"needs": port.needs}):
            continue
        number = files.counting(port.setting)
        address = str(files.counting(port.address)) if port.address else ""
        if isinstance(number, int):
            wanted.append((port.protocol, address, number))
    return wanted


def keep_rescued(store: Store, server: str, rescued: Sequence[Operation]) -> None:
    """Put rescued edits on the slate, so that no crash can lose them."""
    if rescued:
        store.add_to_slate(server, rescued, "found on disk")
