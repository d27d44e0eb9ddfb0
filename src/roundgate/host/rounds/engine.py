"""The engine: takes a round through its steps, and to one of its ends.

States, as in the journal: a step has ``begin`` before it is taken and ``end`` after it is done. Until ``write
begin`` the files are as they were; between ``write begin`` and ``write end`` they are put back by ``recover``; after
``write end`` the round goes on to its proof, and ``rewind begin`` sends it back for good. A round that has an outcome
is over.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping, Sequence
from contextlib import suppress
from functools import partial

from roundgate.core.files import differing, plain_form
from roundgate.core.next_step import typed_command
from roundgate.core.records.live import can_be_live
from roundgate.core.review import describe_changes
from roundgate.core.rounds import RoundOutcome, Step
from roundgate.core.slate import Outcome as Replayed
from roundgate.host import machine
from roundgate.host.backups import in_place
from roundgate.host.drivers.protocol import RunState
from roundgate.host.errors import ChangedMeanwhile, Trouble
from roundgate.host.files import digest
from roundgate.host.logs.slow_patterns import remember_slow
from roundgate.host.notices.of_rounds import tell_end, tell_going_down, tell_planned
from roundgate.host.patterns import switched_off
from roundgate.host.rounds.announce import announce
from roundgate.host.rounds.bring_up import RoundResult, as_it_was, rewind, start_and_prove
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.events import RoundEnded
from roundgate.host.rounds.gather import (
    Gathered,
    changed_names,
    gather_as_reviewed,
    keep_rescued,
    look_again,
    refuse_errors,
)
from roundgate.host.rounds.live import hold, take_back, tell_and_prove
from roundgate.host.rounds.obstacles import (
    check_rulebook_whole,
    refuse_outsiders,
    refuse_stop_of_self,
    refuse_taken_ports,
    refuse_unwritable,
)
from roundgate.host.rounds.options import HalfWritten, NotProven, RoundAborted
from roundgate.host.rounds.reading import learn_world
from roundgate.host.rounds.snapshot.retention import delete_old
from roundgate.host.rounds.snapshot.save import save, save_ahead, save_worlds, write_summary
from roundgate.host.rounds.stop import stop
from roundgate.host.rounds.watching import watched_for_edits
from roundgate.host.rounds.write import contents_of, read_for, replayed, rewind_target, write
from roundgate.host.store import Waiting


def conduct(round: Round) -> RoundResult:
    """Take a round from gather to its end. Raises only what is nobody's plan; ``recover`` takes over then."""
    try:
        return _conduct(round)
    except RoundAborted as end:
        return RoundResult(end.outcome, end.message, end.do)


def _conduct(round: Round) -> RoundResult:
    state = round.driver.state()
    if state.keeper is not None:
        with suppress(Trouble):  # one that dies just now holds nothing
            round.driver.pledge(round.number)
    try:
        with round.journal.step(Step.GATHER):
            # Checked before the server is held: what is refused here must not cost the players a countdown.
            gathered = _gathered(round, state)
    except Trouble as error:  # nothing is touched yet
        raise RoundAborted(RoundOutcome.REFUSED, error.what, error.do) from error
    if round.plan.is_live:
        return _live(round, gathered)
    if round.plan.needs_down and state.runs:
        return RoundResult(RoundOutcome.DONE, f"{round.server.name} runs already.")
    if round.plan.writes == "backup":
        # An archive may take minutes to unpack. That happens while the server still runs, so it is not part of the
        # outage.
        in_place.unpack(round)
    if state.runs:
        round.driver.open()
        # From here on the keeper starts nothing by itself: a server that crashes in the countdown must stay as it is.
        round.driver.lease(round.number)
        with round.journal.step(Step.ANNOUNCE):
            tell_planned(round)
            announce(round)
        if gathered is not None:
            # The wait may have lasted hours: whoever edited a file meanwhile must not lose the edit to the stop.
            look_again(round, gathered, state)
            learn_world(round, gathered.differs)
            save_ahead(round)
        tell_going_down(round)
        started = gathered.started if gathered else None
        with round.journal.step(Step.STOP), watched_for_edits(round, started):
            stop(round, started)
    return _with_server_down(round, gathered, was_up=state.runs)


def _live(round: Round, gathered: Gathered | None) -> RoundResult:
    """Write what the running server can be told of, and tell it. Raises RoundAborted where nothing was written."""
    if gathered is None or not round.operations:
        message = "Nothing on the slate can be put into force without a stop."
        raise RoundAborted(RoundOutcome.REFUSED, message, typed_command("apply", round.server.name))
    # The server is held before the files change, so that no crash restarts it between the old files and the new.
    hold(round)
    round.check_called_off(Step.SAVE)
    try:
        _save_and_write(round, gathered)
    except HalfWritten as error:
        return take_back(round, NotProven(f"the files could not all be written ({error})", []))
    except (Trouble, sqlite3.OperationalError) as error:
        why = getattr(error, "what", str(error))
        raise RoundAborted(RoundOutcome.FAILED, f"Nothing was written: {why}") from error
    return tell_and_prove(round)


def _chosen(round: Round) -> list[Waiting]:
    """Return what this round is to write: all that waits for an ``apply``, else only what must not be lost at a stop.

    A live round writes what the running server can be told of.
    """
    waiting = [entry for entry in round.store.slate(round.server.name) if entry.round is None]
    if round.plan.writes == "live-only":
        return [entry for entry in waiting if can_be_live(entry.operation, round.server.book)]
    if round.plan.writes == "slate":
        return waiting
    return [entry for entry in waiting if entry.operation.waits_for_stop]


def _gathered(round: Round, state: RunState) -> Gathered | None:
    """Gather, and refuse what must not go on. Whatever the files hold, a server can be stopped and started.

    Where they cannot be looked at, None is given: then nothing is written.
    """
    despite = round.plan.goes_on_despite
    refuse_stop_of_self(round.server, round.plan.ends_up)
    refuse_outsiders(round.server, state)
    try:
        return _gather_and_refuse(round, state)
    except (RoundAborted, Trouble) as error:
        if despite != "anything":
            raise
        why = getattr(error, "what", None) or str(error)
    except Exception as error:
        if despite == "nothing":
            raise
        why = type(error).__name__
    round.ran = state.runs or state.restarting
    round.operations = []
    round.journal.note(
        Step.GATHER,
        f"the files could not be read ({why.rstrip('.')}); the {round.options.kind} goes on anyway",
    )
    return None


def _gather_and_refuse(round: Round, state: RunState) -> Gathered:
    server, options = round.server, round.options
    if round.plan.needs_rulebook:
        check_rulebook_whole(server)
    # Claimed first, reviewed then: what somebody adds to the slate from now on waits for the next round.
    round.operations = round.store.claim(round.number, [entry.id for entry in _chosen(round)])
    gathered = gather_as_reviewed(round.workspace.with_slate(round.operations), state, options.reviewed)
    round.workspace = gathered.workspace
    if round.plan.refuses_errors:
        refuse_errors(gathered, options, server.name)
    refuse_unwritable(server, gathered.outcome.touched)
    if round.plan.refuses_taken_ports:
        ours = machine.family(state.process) if state.process else []
        refuse_taken_ports(server, gathered.outcome.after, ours)
    round.ran = state.runs or state.restarting
    # On the slate before the stop, for the server overwrites its files with its last breath.
    round.operations = keep_rescued(round.store, server.name, gathered.rescued, round.number)
    round.store.note_round(round.number, ran=round.ran, changes=_changes(gathered))
    return gathered


def _changes(gathered: Gathered) -> list[list[str]]:
    changes = [
        [change.name, change.before, change.after] for change in gathered.review.changes if not change.is_nothing
    ]
    named = {word[0] for word in changes}
    return changes + [[name, "", "as on disk"] for name in gathered.differs if name not in named]


def _with_server_down(round: Round, gathered: Gathered | None, *, was_up: bool) -> RoundResult:
    if gathered is None:
        return _after_write(round, [], was_up=was_up)
    try:
        round.check_called_off(Step.STOP)
        names = _save_and_write(round, gathered)
    except RoundAborted as end:
        if round.plan.ends_up == "down" and end.outcome is RoundOutcome.FAILED:  # it is down, as was asked
            return RoundResult(
                RoundOutcome.DONE, f"{round.server.name} is down. {end.message} What was to go into the files waits."
            )
        return as_it_was(round, RoundResult(end.outcome, end.message, end.do), was_up=was_up)
    except HalfWritten as error:
        return rewind(round, NotProven(f"the files could not all be written ({error})", []))
    except (Trouble, sqlite3.OperationalError) as error:
        why = getattr(error, "what", str(error))
        return as_it_was(round, RoundResult(RoundOutcome.FAILED, f"Nothing was written: {why}"), was_up=was_up)
    return _after_write(round, names, was_up=was_up)


_TRIES = 3
"""How often files are read again where somebody changes them between their reading and their writing."""


def _save_and_write(round: Round, gathered: Gathered) -> list[str]:
    """Save, replay and write, on files that are the same at all three; return the names of what is newly in force."""
    with round.journal.step(Step.SAVE):
        target = _target(round)
        needed = [*(entry.operation.file for entry in round.operations), *target]
        paths = round.server.paths(needed)
        # After the stop, not before: many servers write their files while they end.
        saved = save(round, paths, needed)
        if round.options.backup:
            save_worlds(round)
    for last in range(_TRIES):
        round.workspace = round.workspace.with_contents(saved)
        contents, expected, names = _planned(round, target, saved)
        round.check_called_off(Step.WRITE)
        try:
            with round.journal.step(Step.WRITE, ", ".join(contents)):
                write(round, contents, expected)
                if round.plan.writes == "backup":
                    in_place.swap(round)
        except ChangedMeanwhile as error:
            moved = error.path
        else:
            if round.plan.writes == "backup":
                round.look()
                return names
            # What was written is known to the byte. Reading it again could show what somebody else wrote since.
            round.workspace = round.workspace.with_contents({**saved, **contents})
            return _names_in_force(round, gathered, names)
        round.journal.note(Step.WRITE, f"{moved} was changed by somebody else just now; it is read again")
        if last < _TRIES - 1:
            saved = save(round, paths, needed)
    message = f"{moved} kept changing, so nothing was written."
    raise RoundAborted(
        RoundOutcome.FAILED, message, f"See who writes {moved} while {round.server.name} is down, then apply again."
    )


def _target(round: Round) -> dict[str, bytes | None]:
    """Return the files of a rewind as they were: those that the other round wrote, and no others."""
    if round.plan.writes != "earlier-files":
        return {}
    return rewind_target(round.server.site, round.options.target)


def _planned(
    round: Round, target: Mapping[str, bytes | None], saved: Mapping[str, bytes | None]
) -> tuple[Mapping[str, bytes | None], Mapping[str, str | None], list[str]]:
    """Return what is to be written, the digests of what it replaces, and the names of what changes."""
    if round.plan.writes == "earlier-files":
        return target, {path: digest(saved[path]) for path in target}, []
    outcome = _replayed(round)
    round.store.note_round(round.number, ran=round.ran, changes=_written_changes(round, outcome))
    return contents_of(outcome), read_for(outcome), changed_names(outcome.changes)


def _written_changes(round: Round, outcome: Replayed) -> list[list[str]]:
    """Describe what the round writes, for the history; what is on disk already keeps its text from the review."""
    changes = [[word.name, word.before, word.after] for word in describe_changes(outcome) if not word.is_nothing]
    named = {word[0] for word in changes}
    row = round.store.round(round.number)
    return changes + [change for change in (row.changes if row else []) if not change[1] and change[0] not in named]


def _names_in_force(round: Round, gathered: Gathered, names: Sequence[str]) -> list[str]:
    after = round.workspace.read().files
    others = differing(gathered.started, after) if gathered.started else []
    return list(dict.fromkeys((*names, *others)))


def _replayed(round: Round) -> Replayed:
    """Replay; a stop goes through whatever was written into the files by hand: then that waits on the slate."""
    try:
        return replayed(round, round.operations)
    except RoundAborted as end:
        if round.plan.ends_up != "down":
            raise
        round.journal.note(Step.WRITE, f"kept on the slate, because it has errors: {end.message}")
        round.operations = []
        return replayed(round, ())


def _after_write(round: Round, names: Sequence[str], *, was_up: bool) -> RoundResult:
    name, waiting = round.server.name, round.operations
    if round.plan.ends_up == "down":
        return RoundResult(
            RoundOutcome.DONE, f"{name} is down." if was_up else f"{name} was down already.", operations=waiting
        )
    if not was_up and round.plan.ends_up == "as-it-was" and not round.options.start:
        message = f"{name} is down, so nothing is in force or proven yet."
        return RoundResult(RoundOutcome.WRITTEN, message, typed_command("start", name), operations=waiting)
    return start_and_prove(round, names)


def finish(round: Round, end: RoundResult) -> bool:
    """Write a round's end into the books, all in one; return whether it is closed."""
    round.learn_secrets()
    remember_slow(round.server.state, switched_off())
    evidence = [round.without_secrets(line) for line in end.evidence]
    message = round.without_secrets(end.message)
    if round.plan.writes == "backup" and end.outcome is not RoundOutcome.UNFINISHED:
        in_force = end.outcome.went_well or end.outcome is RoundOutcome.WRITTEN
        # Before the round is closed: a crash here leaves the round open, and recovery settles the folders again.
        remark = in_place.settle(round, is_in_force=in_force)
        message += f" {remark[:1].upper()}{remark[1:]}." if remark else ""
    if end.outcome is RoundOutcome.UNFINISHED:  # it stays open, for ``recover``
        round.journal.note(Step.RECOVER, message)
        tell_end(round, end, message)
        round.journal.listener.tell(RoundEnded(end.outcome, message, end.do, evidence))
        return False
    try:
        _close(round, end, message, evidence)
    except sqlite3.Error as error:
        message += f" The books could not be written ({error}); the keeper tries again."
        do = f"Make room, then: roundgate rounds recover {round.server.name}"
        round.journal.listener.tell(RoundEnded(RoundOutcome.UNFINISHED, message, do, evidence))
        return False
    with suppress(OSError, sqlite3.Error):  # they are deleted when the next round ends
        delete_old(round.server.site, round.store, round.server.name)
    # After the books: a notice of an end that the books do not know could not be taken back.
    tell_end(round, end, message)
    round.journal.listener.tell(RoundEnded(end.outcome, message, end.do, evidence))
    return True


def _close(round: Round, end: RoundResult, message: str, evidence: list[str]) -> None:
    store = round.store
    # One transaction. A crash between the outcome and the slate would bring the same change into force twice.
    with store.whole():
        store.close_round(round.number, end.outcome, message, evidence)
        if end.operations:
            store.remember_written(
                round.number, round.server.name, end.operations, partial(plain_form, round.server.book)
            )
        if end.outcome is RoundOutcome.REWOUND:
            # An edit made by hand that did not prove itself would go into the files at every stop again.
            store.queue_as_usual(round.server.name)
        if round.plan.writes == "earlier-files" and (end.outcome.went_well or end.outcome is RoundOutcome.WRITTEN):
            # The files are older now than what rounds wrote since; compared with that, every key would look lost.
            store.forget_written(round.server.name)
        if ("stop", "end") in round.journal.marks:
            store.forget_live(round.server.name)
    write_summary(round)
