"""Recovery: what to do with a round that was interrupted, from any point of its journal, and doing it."""

from __future__ import annotations

import sqlite3
import time
from collections.abc import Set

from roundgate.core.rounds import RoundOutcome, Step
from roundgate.host.drivers.protocol import RunState
from roundgate.host.rounds.announce import tell_called_off
from roundgate.host.rounds.bring_up import RoundResult, rewind, start_and_prove
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.live import take_back, tell_and_prove
from roundgate.host.rounds.obstacles import refuse_outsiders
from roundgate.host.rounds.options import NotProven
from roundgate.host.rounds.start import start
from roundgate.host.store import JournalLine


def plan(journal: list[JournalLine]) -> str:
    """Tell a person what ``recover`` will do with a round."""
    return _PLANS[broken_at(marks_of(journal))]


_PLANS = {
    "before": "nothing was changed; it will be closed, and the server started if it was up and is not",
    "writing": "it was writing; the files will be put back as they were, and the server started",
    "written": "the files are written; the server will be started, and the change proven or undone",
}


def marks_of(journal: list[JournalLine]) -> set[tuple[str, str]]:
    """Return the steps and marks of a journal."""
    return {(line.step, line.mark) for line in journal}


def broken_at(marks: Set[tuple[str, str]]) -> str:
    """Return where a journal's marks break off: ``before`` the files were touched, ``writing``, ``written``."""
    if ("write", "begin") not in marks:
        return "before"
    return "written" if ("write", "end") in marks and ("rewind", "begin") not in marks else "writing"


def recover(round: Round) -> RoundResult:
    """Finish an interrupted round, from its marks. Safe to be interrupted and begun again.

    Raises Trouble where a person is needed.
    """
    state = round.driver.state()
    round.operations = round.claimed()
    # A server that runs outside Round Gate has these files open: to put them back under it would spoil both.
    refuse_outsiders(round.server, state)
    point = broken_at(round.journal.marks)
    round.journal.degraded = True
    round.journal.note(Step.RECOVER, _PLANS[point])
    if state.runs:
        round.driver.lease(round.number)
        round.driver.follow()
    if round.plan.is_live:
        return _recover_live(round, point)
    if point == "writing":
        return rewind(round, NotProven("the round was interrupted while it wrote", []))
    if point == "written":
        return _finish_forward(round, state)
    return _bring_up(round, state)


def _recover_live(round: Round, point: str) -> RoundResult:
    """The server went on running: nothing is stopped, and what it was told is told again or taken back."""
    if point == "before":
        return RoundResult(RoundOutcome.FAILED, "The round was interrupted before anything was changed.")
    if point == "writing":
        return take_back(round, NotProven("the round was interrupted while it wrote", []))
    return tell_and_prove(round)


def _finish_forward(round: Round, state: RunState) -> RoundResult:
    waiting = round.operations
    names = [change[0] for change in round.row.changes]
    if round.plan.ends_up == "down":
        return RoundResult(RoundOutcome.DONE, f"{round.server.name} is down.", operations=waiting)
    if not round.ran and round.plan.ends_up == "as-it-was" and not round.options.start:
        return RoundResult(
            RoundOutcome.WRITTEN,
            f"{round.server.name} is down, so nothing is in force or proven yet.",
            operations=waiting,
        )
    if state.runs and not state.ready:
        _await_ready(round)
    return start_and_prove(round, names)


def _await_ready(round: Round) -> None:
    """The server was started just before the round broke off: give it its time; what comes of it is proven next."""
    until = time.monotonic() + round.server.seconds("start_within")
    while not round.driver.state().ready:
        event = round.log.hear(until)
        if event is None or event["event"] in ("ready", "exit"):
            return


def _bring_up(round: Round, state: RunState) -> RoundResult:
    """Nothing was written: see that the server is as it was before, up or down."""
    message = "The round was interrupted before anything was changed."
    should_run = round.ran and round.plan.ends_up != "down"
    if state.runs and _was_stopping(round) and not _came_up_since(round, state) and _ends_now(round):
        state = RunState()
    if state.runs and _was_announced(round):
        tell_called_off(round)
    if state.runs or not should_run:
        return RoundResult(RoundOutcome.FAILED, message)
    try:
        with round.journal.step(Step.START):
            start(round)
    except NotProven as error:
        return RoundResult(
            RoundOutcome.LOST, f"{message} {round.server.name} DOES NOT COME UP: {error.why}.", "", error.evidence
        )
    return RoundResult(RoundOutcome.FAILED, f"{message} {round.server.name} is up again as it was.")


def _was_announced(round: Round) -> bool:
    """Return whether players were told, or were just being told, of a stop that does not come now."""
    marks, options = round.journal.marks, round.options
    if ("announce", "begin") not in marks or ("stop", "begin") in marks or not options.countdown:
        return False
    return options.at is None or time.time() >= options.at - options.countdown


def _was_stopping(round: Round) -> bool:
    return ("stop", "begin") in round.journal.marks and ("stop", "end") not in round.journal.marks


def _came_up_since(round: Round, state: RunState) -> bool:
    """Return whether the server was started after the stop had begun: then nothing is left to be waited for."""
    try:
        journal = round.store.journal(round.number)
    except sqlite3.Error:
        return False
    began = [line.at for line in journal if (line.step, line.mark) == ("stop", "begin")]
    return bool(began and state.started and state.started > began[-1])


def _ends_now(round: Round) -> bool:
    """The stop command may have been sent: wait out the grace time for the server's end."""
    until = time.monotonic() + round.server.seconds("grace")
    while event := round.log.hear(until):
        if event["event"] == "exit":
            return True
    return not round.driver.state().runs
