"""The engine: takes a round through its steps, and to one of its ends.

States, in the journal's words: a step has ``begin`` before it is taken and ``end`` after it is done. Until ``write
begin`` the files are as they were; between ``write begin`` and ``write end`` they are put back by ``recover``; after
``write end`` the round goes on to its proof, and ``rewind begin`` sends it back for good. A round that has an outcome
is over.
"""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Mapping, Sequence
from functools import partial

from msgspec import Struct

from roundgate.core.files import differing, plain_form
from roundgate.core.slate import Outcome as Replayed
from roundgate.host import machine
from roundgate.host.drivers.protocol import RunState
from roundgate.host.errors import Trouble
from roundgate.host.rounds.announce import announce
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.gather import Gathered, changed_names, gather, keep_rescued
from roundgate.host.rounds.obstacles import (
    refuse_errors,
    refuse_outsiders,
    refuse_taken_ports,
    refuse_unwritable,
)
from roundgate.host.rounds.options import NotProven, Outcome, RoundEnd
from roundgate.host.rounds.prove import prove
from roundgate.host.rounds.save import save, saved_files
from roundgate.host.rounds.start import start
from roundgate.host.rounds.stop import stop
from roundgate.host.rounds.write import contents_of, replayed, undo, write
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
        with round.step("stop"):
            stop(round, gathered.started)
    return _with_server_down(round, gathered, was_up=state.runs)


def chosen(round: Round) -> list[Waiting]:
    """Give what this round writes: all that waits for an ``apply``, else only what must not be lost at a stop."""
    waiting = round.store.slate(round.server.name)
    if round.options.kind == "apply":
        return waiting
    return [one for one in waiting if getattr(one.operation, "at_stop", False)]


def _gathered(round: Round, state: RunState) -> Gathered:
    server, options = round.server, round.options
    refuse_outsiders(server, state)
    gathered = gather(server, chosen(round), state)
    if options.kind in ("apply", "restart"):
        refuse_errors(gathered, options, server.name)
    if options.reviewed and options.reviewed != gathered.digest:
        said = "Something changed since you looked, so nothing was done."
        raise RoundEnd("refused", said, f"roundgate slate {server.name}")
    refuse_unwritable(server, gathered.outcome.touched)
    if options.kind not in ("stop", "rewind"):
        ours = machine.family(state.process) if state.process else []
        refuse_taken_ports(server, gathered.outcome.after, ours)
    round.ran = state.runs
    keep_rescued(round.store, server.name, gathered.rescued)
    round.store.note_round(round.number, process=os.getpid(), ran=state.runs, changes=_changes(gathered))
    return gathered


def _changes(gathered: Gathered) -> list[list[str]]:
    words = [[one.name, one.before, one.after] for one in gathered.review.changes if not one.is_nothing]
    named = {one[0] for one in words}
    return words + [[name, "", "as on disk"] for name in gathered.differs if name not in named]


def _with_server_down(round: Round, gathered: Gathered, *, was_up: bool) -> End:
    waiting = chosen(round)
    try:
        with round.step("save"):
            target = saved_files(round.server.site, round.options.target) if round.options.kind == "rewind" else {}
            save(round, round.server.paths([*(one.operation.file for one in waiting), *target]))
        names = _write(round, gathered, waiting, target)
    except RoundEnd as end:
        return _as_it_was(round, End(end.outcome, end.said, end.do), was_up=was_up)
    except (Trouble, sqlite3.OperationalError) as error:
        why = getattr(error, "what", str(error))
        return _as_it_was(round, End("failed", f"Nothing was written: {why}"), was_up=was_up)
    return _after_write(round, waiting, names, was_up=was_up)


def _write(
    round: Round, gathered: Gathered, waiting: Sequence[Waiting], target: Mapping[str, bytes | None]
) -> list[str]:
    """Write, and give the names of what is now other than what the server had before."""
    if round.options.kind == "rewind":
        contents = dict(target)
        names: list[str] = []
    else:
        outcome = _replayed(round, waiting)
        contents, names = contents_of(outcome), changed_names(outcome.changes)
    with round.step("write", ", ".join(contents)):
        write(round, contents)
    after = round.server.read().files
    others = differing(gathered.started, after) if gathered.started else []
    return list(dict.fromkeys((*names, *others)))


def _replayed(round: Round, waiting: Sequence[Waiting]) -> Replayed:
    """Replay; a stop goes through whatever was written into the files by hand: then that waits on the slate."""
    try:
        return replayed(round, waiting)
    except RoundEnd as end:
        if round.options.kind != "stop":
            raise
        round.note("write", f"kept on the slate, for it has errors: {end.said}")
        return replayed(round, ())


def _as_it_was(round: Round, end: End, *, was_up: bool) -> End:
    """Nothing was written: start the server again as it was."""
    if not was_up:
        return end
    round.degraded = True
    try:
        with round.step("start"):
            start(round)
    except NotProven as error:
        said = f"{end.said} AND {round.server.name} DID NOT COME UP AGAIN: {error.why}. Its files are as they were."
        return End("lost", said, f"roundgate log {round.server.name}", error.evidence)
    return End(end.outcome, f"{end.said} {round.server.name} is up again as it was.", end.do)


def _after_write(round: Round, waiting: Sequence[Waiting], names: Sequence[str], *, was_up: bool) -> End:
    kind, name = round.options.kind, round.server.name
    if kind == "stop":
        return End("done", f"{name} is down." if was_up else f"{name} was down already.", operations=waiting)
    if not was_up and kind in ("apply", "rewind") and not round.options.start:
        said = f"Written. {name} is down, so nothing is in force or proven yet."
        return End("written", said, f"roundgate start {name}", operations=waiting)
    return start_and_prove(round, waiting, names)


def start_and_prove(round: Round, waiting: Sequence[Waiting], names: Sequence[str]) -> End:
    """Start the server, unless it is up already, prove the change, and rewind where it is not proven."""
    name = round.server.name
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
    """Put the snapshot back byte for byte, start, and prove that the server is up as it was."""
    name, folder = round.server.name, round.folder
    round.degraded = True
    try:
        with round.step("rewind", error.why):
            stop(round, None)
            others = undo(round, saved_files(round.server.site, round.number))
    except (RoundEnd, Trouble, OSError) as second:
        why = getattr(second, "said", None) or getattr(second, "what", None) or str(second)
        said = f"Not proven ({error.why}), and the files could NOT be put back: {why} What was saved lies in {folder}."
        return End("unfinished", said, f"roundgate recover {name}", error.evidence)
    for path in others:
        round.note(
            "rewind", f"{path} had been changed by somebody else during the round; it is as before the round now"
        )
    return _up_as_before(round, error)


def _up_as_before(round: Round, error: NotProven) -> End:
    name = round.server.name
    why = error.why.rstrip(".")
    if not round.ran:
        said = f"Not proven: {why}. The files are as they were; {name} is down, as it was."
        return End("rewound", said, "", error.evidence)
    try:
        with round.step("start"):
            start(round)
        with round.step("prove"):
            prove(round, round.server.read().files, ())
    except NotProven as second:
        said = (
            f"Not proven: {why}. The files are as they were, but {name} DOES NOT COME UP WITH THEM EITHER: "
            f"{second.why}. What was saved lies in {round.folder}."
        )
        return End("lost", said, f"roundgate log {name}", [*error.evidence, *second.evidence])
    said = f"Not proven: {why}. The files are as they were, {name} is up with them, and the slate is kept."
    return End("rewound", said, f"roundgate slate {name}", error.evidence)


def finish(round: Round, end: End) -> None:
    """Write a round's end into the books, all in one."""
    round.learn_secrets()
    evidence = [round.without_secrets(line) for line in end.evidence]
    said = round.without_secrets(end.said)
    if end.outcome == "unfinished":  # it stays open, for ``recover``
        round.note("recover", said)
        round.tell({"outcome": end.outcome, "said": said, "do": end.do, "evidence": evidence})
        return
    try:
        _close(round, end, said, evidence)
    except sqlite3.Error as error:
        said += f" The books could not be written ({error})."
        do = f"Make room, then: roundgate recover {round.server.name}"
        round.tell({"outcome": "unfinished", "said": said, "do": do, "evidence": evidence})
        return
    round.tell({"outcome": end.outcome, "said": said, "do": end.do, "evidence": evidence})


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
