"""The step gather: what the round will do, checked, before anything is touched."""

from __future__ import annotations

import time
from collections.abc import Sequence, Set
from typing import TYPE_CHECKING

from msgspec import Struct, json
from msgspec.structs import replace

from roundgate.core.checks import identity_of
from roundgate.core.files import ServerFiles, differing
from roundgate.core.findings import Finding, has_errors
from roundgate.core.next_step import typed_command
from roundgate.core.operations.base import Change, Operation
from roundgate.core.operations.registry import merged
from roundgate.core.rescue import rescue
from roundgate.core.review import Consequence, ConsequenceCode, Review, review_of
from roundgate.core.rounds import RoundOutcome, Step
from roundgate.core.slate import Outcome
from roundgate.host.drivers.protocol import RunState
from roundgate.host.fleet.clashes import clashes_brought
from roundgate.host.people.book import with_names
from roundgate.host.people.ranks import rank_consequences
from roundgate.host.rounds.options import Options, RoundAborted
from roundgate.host.servers import Server
from roundgate.host.store import Store, Waiting
from roundgate.host.workspace import Workspace
from roundgate.host.worlds import world_consequences

if TYPE_CHECKING:
    from roundgate.host.rounds.context import Round

FOUND = "found on disk"
"""Who puts an edit onto the slate that was made by hand."""


def _reviewed(server: Server, outcome: Outcome) -> Review:
    """Return the review of an outcome, with what is remembered of the world that it names."""
    review = review_of(outcome)
    fixed = world_consequences(server, outcome) if any(not change.is_nothing for change in outcome.changes) else []
    rights = rank_consequences(server, outcome)
    commands = _commands_run(server, outcome)
    told = {name for command in commands for name in command.names}
    plain = [_without(consequence, told) for consequence in with_names(server, review.consequences)]
    found = [each for each in plain if each.names or each.code is not ConsequenceCode.NOT_READABLE]
    return replace(review, consequences=(*found, *rights, *fixed, *commands))


def _without(consequence: Consequence, told: Set[str]) -> Consequence:
    """Leave names out of what cannot be read back, where their command says more."""
    if consequence.code is not ConsequenceCode.NOT_READABLE:
        return consequence
    return replace(consequence, names=tuple(name for name in consequence.names if name not in told))


def _commands_run(server: Server, outcome: Outcome) -> list[Consequence]:
    """Name the commands of the rulebook that would read the changed values back, allowed or not."""
    if not any(query.run for query in server.whole_book.query.values()):
        return []
    from roundgate.core.rulebook.commands import command_for, commands_of  # few rulebooks run anything

    found: dict[str, list[str]] = {}
    for name in changed_names(outcome.changes):
        command = command_for(server.whole_book, name)
        if command:
            found.setdefault(command, []).append(name)
    allowed = "yes" if commands_of(server.book) else ""
    return [
        Consequence(
            ConsequenceCode.COMMAND, tuple(names), {"command": command, "allowed": allowed, "server": server.name}
        )
        for command, names in found.items()
    ]


class Gathered(Struct, frozen=True):
    """What a round would do, as it stands now."""

    workspace: Workspace
    outcome: Outcome
    findings: list[Finding]
    review: Review
    rescued: list[Operation]
    """Edits made by hand while the server ran, which the server would overwrite when it stops."""
    started: ServerFiles | None
    """The files as the running server read them; None where it is down."""

    @property
    def differs(self) -> list[str]:
        """The settings and lists that will be newly in force: other than what the running server read."""
        return differing(self.started, self.outcome.after) if self.started else []

    @property
    def digest(self) -> str:
        """A mark by which one sees whether the review still holds: the changes and their values, not the whole files.

        A server that writes its files all the time would never come to be the same twice.
        """
        import hashlib  # slow to load, and only a round compares what was agreed to

        seen = [
            [
                change.operation.shown_name,
                change.file,
                change.before,
                change.after,
                change.items_before,
                change.items_after,
                repr(change.operation),
            ]
            for change in self.outcome.changes
        ]
        errors = sorted(identity_of(finding) for finding in self.findings if finding.level == "error")
        busy = {file.path for file in self.outcome.after.book.file.values() if file.rewritten == "while-running"}
        book = self.outcome.after.book
        differs = [
            name
            for name in self.differs
            if name not in book.setting or book.file[book.setting[name].file].path not in busy
        ]
        return hashlib.sha256(json.encode([seen, errors, differs])).hexdigest()


def gather(workspace: Workspace, state: RunState) -> Gathered:
    """Replay the slate on what is on disk, check the outcome, and say what it means. Changes nothing."""
    operations = workspace.operations
    started = workspace.server.read_started() if state.runs else None
    rescued = rescue(workspace.read().files, started, operations)
    for operation in rescued:
        operations = merged(operations, operation)
    outcome = workspace.outcome(operations)
    findings = [
        *workspace.findings_of(outcome),
        *clashes_brought(workspace.server, workspace.read().files, outcome.after),
    ]
    return Gathered(workspace, outcome, findings, _reviewed(workspace.server, outcome), rescued, started)


_AT_REST = (0.02, 0.05, 0.1, 0.2, 0.2)
"""Seconds after which files are read again that a running server may be writing just now."""


def gather_at_rest(workspace: Workspace, state: RunState) -> Gathered:
    """Gather; where the files are not the same afterwards, gather again until twice the same comes out."""
    gathered = gather(workspace, state)
    for pause in _AT_REST:
        if not state.runs or _is_at_rest(gathered):
            break
        time.sleep(pause)  # nothing tells when a server has finished writing
        before, gathered = gathered, gather(gathered.workspace.again(), state)
        # Twice the same, and nothing emptied: a server that truncates a file before writing it looks the same twice
        # too.
        if before.digest == gathered.digest and not _is_emptied(gathered):
            break
    return gathered


def _is_at_rest(gathered: Gathered) -> bool:
    return not _is_emptied(gathered) and gathered.workspace.again() is gathered.workspace


def _is_emptied(gathered: Gathered) -> bool:
    """Return whether a file is empty now that was not when the server started: it is probably being written."""
    started = gathered.started.texts if gathered.started else {}
    now = gathered.workspace.read().files.texts
    return any(not text.body and path in started and started[path].body for path, text in now.items())


def gather_as_reviewed(workspace: Workspace, state: RunState, reviewed: str) -> Gathered:
    """Gather what a person has agreed to. Raises RoundAborted where it is no longer that, at any of a few looks."""
    gathered = gather_at_rest(workspace, state)
    for pause in _AT_REST:
        if not reviewed or gathered.digest == reviewed:
            return gathered
        if not state.runs:
            break
        time.sleep(pause)
        gathered = gather(gathered.workspace.again(), state)
    if reviewed and gathered.digest != reviewed:
        message = "Something changed since you looked, so nothing was done."
        raise RoundAborted(RoundOutcome.REFUSED, message, typed_command("slate", workspace.name))
    return gathered


def look_again(round: Round, gathered: Gathered, state: RunState) -> None:
    """Right before the stop, see what was edited by hand while the round waited. Raises RoundAborted where it is wrong.

    An edit in a file that the server overwrites goes into the file again after the stop, as if made a moment later.
    """
    server = round.server
    if round.look() is gathered.workspace:
        return
    asked = [operation for operation in round.operations if operation.by != FOUND]
    again = gather_at_rest(round.workspace.with_slate(asked), state)
    round.workspace = again.workspace
    if round.plan.refuses_errors:
        refuse_errors(again, round.options, server.name)
    _say_overruled(round, gathered, again)
    known = {
        (entry.operation.file, entry.operation.shown_name): entry.operation
        for entry in round.operations
        if entry.by == FOUND
    }
    late = [
        operation
        for operation in again.rescued
        if not _same_value(known.get((operation.file, operation.shown_name)), operation)
    ]
    for change in late:
        round.journal.note(Step.STOP, f"{change.shown_name} was edited by hand while the round waited; it is kept")
    round.operations = keep_rescued(round.store, server.name, late, round.number)


def refuse_errors(gathered: Gathered, options: Options, server: str) -> None:
    """End the round where the outcome has errors. Raises RoundAborted."""
    if any(finding.level == "error" and finding.waiting for finding in gathered.findings):
        raise RoundAborted(
            RoundOutcome.REFUSED, "The changes have errors, so nothing was done.", typed_command("check", server)
        )
    if has_errors(gathered.findings) and not options.despite_errors:
        message = "There are errors on disk, so nothing was done."
        raise RoundAborted(
            RoundOutcome.REFUSED,
            message,
            typed_command("check", server, hint=f"to go on in spite of them: {options.kind} with --force"),
        )


def _same_value(old: Operation | None, new: Operation) -> bool:
    return type(old) is type(new) and getattr(old, "stored", None) == getattr(new, "stored", None)


def _say_overruled(round: Round, gathered: Gathered, again: Gathered) -> None:
    """Report where a key that the round sets was edited by hand meanwhile: the round's value stands."""
    before = {(text.file, text.name): text.before for text in gathered.review.changes}
    for change in again.review.changes:
        old = before.get((change.file, change.name), change.before)
        if old != change.before:
            round.journal.note(
                Step.STOP,
                f"{change.name} was changed by hand to {change.before} while the round waited; {change.after} is kept",
            )


def changed_names(changes: Sequence[Change]) -> list[str]:
    """Name what really changes."""
    return list(dict.fromkeys(change.operation.shown_name for change in changes if not change.is_nothing))


def keep_rescued(store: Store, server: str, rescued: Sequence[Operation], round: int) -> list[Waiting]:
    """Put rescued edits on the slate, so that no crash can lose them, as the round's own; return what is its own."""
    if rescued:
        store.add_to_slate(server, rescued, FOUND, round)
    return store.claimed(server, round)
