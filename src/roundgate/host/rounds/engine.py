"""The engine: takes a round through its steps, and to one of its ends.

States, in the journal's words: a step has ``begin`` before it is taken and ``end`` after it is done. Until ``write
begin`` the files are as they were; between ``write begin`` and ``write end`` they are put back by ``recover``; after
``write end`` the round goes on to its proof, and ``rewind begin`` sends it back for good. A round that has an outcome
is over.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping, Sequence
from functools import partial

from msgspec import Struct

from roundgate.core.files import differing, plain_form
from roundgate.core.review import changes_in_words
from roundgate.core.slate import Outcome as Replayed
from roundgate.host import machine
from roundgate.host.drivers.protocol import RunState
from roundgate.host.errors import ChangedMeanwhile, Trouble
from roundgate.host.files import digest
from roundgate.host.rounds.announce import announce
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.gather import (
    Gathered,
    changed_names,
    gather_as_reviewed,
    keep_rescued,
    look_again,
    refuse_errors,
)
from roundgate.host.rounds.obstacles import (
    check_rulebook_whole,
    refuse_outsiders,
    refuse_taken_ports,
    refuse_unwritable,
)
from roundgate.host.rounds.options import NotProven, Outcome, RoundEnd
from roundgate.host.rounds.prove import prove
from roundgate.host.rounds.save import save, save_started, save_worlds, saved_files, write_summary
from roundgate.host.rounds.start import start
from roundgate.host.rounds.stop import stop
from roundgate.host.rounds.write import contents_of, put_back, read_for, replayed, rewind_target, undo, write
from roundgate.host.store import Waiting


class End(Struct, frozen=True):
    """How a round ended."""

    outcome: Outcome
    said: str
    do: str = ""
    evidence: Sequence[str] = ()
    operations: Sequence[Waiting] = ()
    """What went into the files and is to be taken off the slate."""


def conduct(round: Round) -> End:
    """Take a round from gather to its end. Raises only what is nobody's plan; ``recover`` takes over then."""
    try:
        return _conduct(round)
    except RoundEnd as end:
        return End(end.outcome, end.said, end.do)


def _conduct(round: Round) -> End:
    state = round.driver.state()
    kind = round.options.kind
    try:
        with round.step("gather"):
            gathered = _gathered(round, state)
    except Trouble as error:  # nothing is touched yet
        raise RoundEnd("refused", error.what, error.do) from error
    if kind == "start" and state.runs:
        return End("done", f"{round.server.name} runs already.")
    if state.runs:
        round.driver.open()
        round.driver.lease(round.number)
        with round.step("announce"):
            announce(round)
        if gathered is not None:
            look_again(round, gathered, state)
        with round.step("stop"):
            stop(round, gathered.started if gathered else None)
    return _with_server_down(round, gathered, was_up=state.runs)


def _chosen(round: Round) -> list[Waiting]:
    """Give what this round is to write: all that waits for an ``apply``, else only what must not be lost at a stop."""
    waiting = [one for one in round.store.slate(round.server.name) if one.round is None]
    if round.options.kind == "apply":
        return waiting
    return [one for one in waiting if getattr(one.operation, "at_stop", False)]


def _gathered(round: Round, state: RunState) -> Gathered | None:
    """Gather, and refuse what must not go on. Whatever the files hold, a server can be stopped and started.

    Where they cannot be looked at, None is given: then nothing is written.
    """
    kind = round.options.kind
    refuse_outsiders(round.server, state)
    try:
        return _gather_and_refuse(round, state)
    except (RoundEnd, Trouble) as error:
        if kind != "stop":
            raise
        why = getattr(error, "what", None) or str(error)
    except Exception as error:
        if kind not in ("stop", "start"):
            raise
        why = type(error).__name__
    round.ran = state.runs or state.restarting
    round.operations = []
    round.note("gather", f"the files could not be looked at ({why.rstrip('.')}); the {kind} goes on all the same")
    return None


def _gather_and_refuse(round: Round, state: RunState) -> Gathered:
    server, options = round.server, round.options
    if options.kind != "stop":
        check_rulebook_whole(server)
    round.operations = round.store.claim(round.number, [one.id for one in _chosen(round)])
    gathered = gather_as_reviewed(server, round.operations, state, options.reviewed)
    if options.kind in ("apply", "restart"):
        refuse_errors(gathered, options, server.name)
    refuse_unwritable(server, gathered.outcome.touched)
    if options.kind not in ("stop", "rewind"):
        ours = machine.family(state.process) if state.process else []
        refuse_taken_ports(server, gathered.outcome.after, ours)
    round.ran = state.runs or state.restarting
    round.operations = keep_rescued(round.store, server.name, gathered.rescued, round.number)
    round.store.note_round(round.number, ran=round.ran, changes=_changes(gathered))
    return gathered


def _changes(gathered: Gathered) -> list[list[str]]:
    words = [[one.name, one.before, one.after] for one in gathered.review.changes if not one.is_nothing]
    named = {one[0] for one in words}
    return words + [[name, "", "as on disk"] for name in gathered.differs if name not in named]


def _with_server_down(round: Round, gathered: Gathered | None, *, was_up: bool) -> End:
    if gathered is None:
        return _after_write(round, [], was_up=was_up)
    try:
        round.check_called_off("stop")
        names = _save_and_write(round, gathered, was_up=was_up)
    except RoundEnd as end:
        if round.options.kind == "stop" and end.outcome == "failed":  # it is down, as was asked
            return End("done", f"{round.server.name} is down. {end.said} What was to go into the files waits.")
        return _as_it_was(round, End(end.outcome, end.said, end.do), was_up=was_up)
    except (Trouble, sqlite3.OperationalError) as error:
        why = getattr(error, "what", str(error))
        return _as_it_was(round, End("failed", f"Nothing was written: {why}"), was_up=was_up)
    return _after_write(round, names, was_up=was_up)


_TRIES = 3
"""How often files are read anew where somebody changes them between their reading and their writing."""


def _save_and_write(round: Round, gathered: Gathered, *, was_up: bool) -> list[str]:
    """Save, replay and write, on files that are the same at all three; give the names of what is in force anew."""
    with round.step("save"):
        target = _target(round)
        needed = [*(one.operation.file for one in round.operations), *target]
        paths = round.server.paths(needed)
        saved = save(round, paths, needed)
        if was_up:
            save_started(round)
        if round.options.backup:
            save_worlds(round)
    for last in range(_TRIES):
        contents, expected, names = _planned(round, target)
        moved = next((path for path in contents if saved.get(path) != expected[path]), None)
        if moved is None:
            round.check_called_off("write")
            try:
                with round.step("write", ", ".join(contents)):
                    write(round, contents, expected)
            except ChangedMeanwhile as error:
                moved = error.path
            else:
                return _names_in_force(round, gathered, names)
        round.note("write", f"{moved} was changed by somebody else just now; it is read again")
        if last < _TRIES - 1:
            saved = save(round, paths, needed)
    said = f"{moved} was changed by somebody else again and again, so nothing was written."
    raise RoundEnd("failed", said, f"See who writes {moved} while {round.server.name} is down, then apply again.")


def _target(round: Round) -> dict[str, bytes | None]:
    """Give the files of a rewind as they were: those that the other round wrote, and no others."""
    if round.options.kind != "rewind":
        return {}
    return rewind_target(round.server.site, round.options.target)


def _planned(
    round: Round, target: Mapping[str, bytes | None]
) -> tuple[Mapping[str, bytes | None], Mapping[str, str | None], list[str]]:
    """Give what is to be written, the digests of what it replaces, and the names of what changes."""
    if round.options.kind == "rewind":
        folder = round.server.files_folder
        return target, {path: digest(folder.read(path)) for path in target}, []
    outcome = _replayed(round)
    round.store.note_round(round.number, ran=round.ran, changes=_written_changes(round, outcome))
    return contents_of(outcome), read_for(outcome), changed_names(outcome.changes)


def _written_changes(round: Round, outcome: Replayed) -> list[list[str]]:
    """Say what the round writes, for the history; what is on disk already keeps its words from the review."""
    words = [[one.name, one.before, one.after] for one in changes_in_words(outcome) if not one.is_nothing]
    named = {one[0] for one in words}
    row = round.store.round(round.number)
    return words + [one for one in (row.changes if row else []) if not one[1] and one[0] not in named]


def _names_in_force(round: Round, gathered: Gathered, names: Sequence[str]) -> list[str]:
    after = round.server.read().files
    others = differing(gathered.started, after) if gathered.started else []
    return list(dict.fromkeys((*names, *others)))


def _replayed(round: Round) -> Replayed:
    """Replay; a stop goes through whatever was written into the files by hand: then that waits on the slate."""
    try:
        return replayed(round, round.operations)
    except RoundEnd as end:
        if round.options.kind != "stop":
            raise
        round.note("write", f"kept on the slate, for it has errors: {end.said}")
        round.operations = []
        return replayed(round, ())


def _as_it_was(round: Round, end: End, *, was_up: bool) -> End:
    """Nothing was written: start the server again as it was."""
    if not was_up:
        return end
    round.degraded = True
    try:
        words = _up_again(round, watch=False)
    except NotProven as error:
        said = f"{end.said} AND {round.server.name} DID NOT COME UP AGAIN: {error.why}. {round.kept_words}"
        return End("lost", said, f"roundgate log {round.server.name}", error.evidence)
    return End(end.outcome, f"{end.said} {round.server.name} is up again {words or 'as it was'}.", end.do)


def _up_again(round: Round, *, watch: bool) -> str:
    """Start the server with what is on disk, or else with the files that it had last started with.

    Gives an empty text, or with what it is up. Raises NotProven.
    """
    try:
        _start_as_it_was(round, watch=watch)
        return ""
    except NotProven as error:
        if not _bring_started_back(round, error):
            raise
    _start_as_it_was(round, watch=True)
    return "with the files that it had last started with; what was on disk is kept beside the snapshot"


def _start_as_it_was(round: Round, *, watch: bool) -> None:
    if not round.driver.state().ready:
        with round.step("start"):
            start(round)
    if watch:
        with round.step("prove"):
            prove(round, round.server.read().files, ())


def _bring_started_back(round: Round, error: NotProven) -> bool:
    """Put the files back that the server had last started with, where they differ; tell whether any did."""
    try:
        started = saved_files(round.server.site, round.number, "started")
        busy = {one.path for one in round.server.book.file.values() if one.rewritten != "never"}
        folder = round.server.files_folder
        there = {path: data for path, data in started.items() if path not in busy and data is not None}
        wanted = {path: data for path, data in there.items() if folder.read(path) != data}
        if not wanted:
            return False
        round.note("start", f"it does not come up with what is on disk: {error.why}")
        with round.step("rewind", f"back to what it had last started with: {', '.join(wanted)}"):
            stop(round, None)
            put_back(round, wanted, {})
    except (Trouble, RoundEnd, OSError) as second:
        round.note("rewind", f"that could not be done: {getattr(second, 'what', None) or second}")
        return False
    return True


def _after_write(round: Round, names: Sequence[str], *, was_up: bool) -> End:
    kind, name, waiting = round.options.kind, round.server.name, round.operations
    if kind == "stop":
        return End("done", f"{name} is down." if was_up else f"{name} was down already.", operations=waiting)
    if not was_up and kind in ("apply", "rewind") and not round.options.start:
        said = f"Written. {name} is down, so nothing is in force or proven yet."
        return End("written", said, f"roundgate start {name}", operations=waiting)
    return start_and_prove(round, names)


def start_and_prove(round: Round, names: Sequence[str]) -> End:
    """Start the server, unless it is up already, prove the change, and rewind where it is not proven."""
    name, waiting = round.server.name, round.operations
    try:
        if not round.driver.state().ready:
            with round.step("start"):
                start(round)
        with round.step("prove"):
            proofs = prove(round, round.server.read().files, names)
        for proof in proofs:
            round.note("proof", proof)
    except NotProven as error:
        return _not_proven(round, waiting, error)
    if round.options.kind in ("start", "restart") and not waiting:
        return End("done", f"{name} is up, and proven to be.", operations=waiting)
    return End("proven", f"{name} is up with the change in force.", operations=waiting)


def _not_proven(round: Round, waiting: Sequence[Waiting], error: NotProven) -> End:
    round.note("prove", f"not proven: {error.why}")
    name = round.server.name
    if round.options.kind == "start":
        return End("failed", f"{name} did not come up: {error.why}.", f"roundgate log {name}", error.evidence)
    if round.options.keep:
        said = f"Kept as you asked, though not proven: {error.why}."
        return End("written", said, f"roundgate rewind {round.number}", error.evidence, waiting)
    return rewind(round, error)


def rewind(round: Round, error: NotProven) -> End:
    """Put back what the round wrote, byte for byte, start, and prove that the server is up as it was."""
    name = round.server.name
    round.degraded = True
    try:
        with round.step("rewind", error.why):
            stop(round, None)
            undo(round, saved_files(round.server.site, round.number))
    except (RoundEnd, Trouble, OSError) as second:
        why = getattr(second, "said", None) or getattr(second, "what", None) or str(second)
        said = f"Not proven ({error.why}), and the files could NOT be put back: {why} {round.kept_words}"
        return End("unfinished", said, f"roundgate recover {name}", error.evidence)
    return _up_as_before(round, error)


def _up_as_before(round: Round, error: NotProven) -> End:
    name = round.server.name
    why = error.why.rstrip(".")
    if not round.ran:
        said = f"Not proven: {why}. The files are as they were; {name} is down, as it was."
        return End("rewound", said, "", error.evidence)
    try:
        words = _up_again(round, watch=True)
    except NotProven as second:
        said = (
            f"Not proven: {why}. The files are as they were, but {name} DOES NOT COME UP WITH THEM EITHER: "
            f"{second.why}. {round.kept_words}"
        )
        return End("lost", said, f"roundgate log {name}", [*error.evidence, *second.evidence])
    if words:
        return End("rewound", f"Not proven: {why}. {name} is up {words}, and the slate is kept.", "", error.evidence)
    said = f"Not proven: {why}. The files are as they were, {name} is up with them, and the slate is kept."
    return End("rewound", said, f"roundgate slate {name}", error.evidence)


def finish(round: Round, end: End) -> bool:
    """Write a round's end into the books, all in one; tell whether it is closed."""
    round.learn_secrets()
    evidence = [round.without_secrets(line) for line in end.evidence]
    said = round.without_secrets(end.said)
    if end.outcome == "unfinished":  # it stays open, for ``recover``
        round.note("recover", said)
        round.tell({"outcome": end.outcome, "said": said, "do": end.do, "evidence": evidence})
        return False
    try:
        _close(round, end, said, evidence)
    except sqlite3.Error as error:
        said += f" The books could not be written ({error}); the keeper tries again."
        do = f"Make room, then: roundgate recover {round.server.name}"
        round.tell({"outcome": "unfinished", "said": said, "do": do, "evidence": evidence})
        return False
    round.tell({"outcome": end.outcome, "said": said, "do": end.do, "evidence": evidence})
    return True


def _close(round: Round, end: End, said: str, evidence: list[str]) -> None:
    store = round.store
    with store.whole():
        store.close_round(round.number, end.outcome, said, evidence)
        if end.operations:
            store.remember_written(
                round.number, round.server.name, end.operations, partial(plain_form, round.server.book)
            )
        if end.outcome == "rewound":
            store.let_wait(round.server.name)
        if round.options.kind == "rewind" and end.outcome in ("proven", "written"):
            store.forget_written(round.server.name)
        if ("stop", "end") in round.marks:
            store.forget_live(round.server.name)
    write_summary(round)
