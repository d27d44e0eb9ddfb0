"""The process of one round.

python -m roundgate.host.rounds run|recover SITE-FOLDER NUMBER [EVENTS-HANDLE]
"""

from __future__ import annotations

import contextlib
import gc
import os
import signal
import sqlite3
import sys
import traceback
from pathlib import Path

from roundgate.core.next_step import typed_command
from roundgate.core.rounds import RoundOutcome, Step
from roundgate.host.errors import Busy, Trouble
from roundgate.host.keeper.interpreter import be_private
from roundgate.host.keeper.record import birth_of
from roundgate.host.lobby import look_at_list
from roundgate.host.rounds.bring_up import RoundResult
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.engine import conduct, finish
from roundgate.host.rounds.events import RoundEnded
from roundgate.host.rounds.locking import held
from roundgate.host.rounds.recover import marks_of, recover
from roundgate.host.servers import Server
from roundgate.host.site import read_site
from roundgate.host.store import Store


def main() -> None:
    """Run or recover the round that the arguments name. The exit code is 0 where the round is closed at the end."""
    gc.set_threshold(200_000, 20, 20)  # see cli.main
    verb, folder, number = sys.argv[1], Path(sys.argv[2]).absolute(), int(sys.argv[3])
    events = int(sys.argv[4]) if len(sys.argv) > 4 else None
    if events is not None:
        os.set_inheritable(events, False)  # a keeper that kept it open would keep the terminal waiting
    be_private()
    os.chdir("/")
    # Ctrl-C or a closed window ends the view of the round, never the round.
    for sign in (signal.SIGINT, signal.SIGHUP, signal.SIGPIPE):
        signal.signal(sign, signal.SIG_IGN)
    site = read_site(folder)
    store = Store(site.state)
    row = store.round(number)
    if row is None or row.outcome:
        return
    server = Server(site, row.server, lenient=verb == "recover" or row.kind == "stop")
    round = Round(server, store, row, events)
    round.call_off.listen()
    try:
        with held(server, store, number):
            end = _work(round, verb)
    except Busy as error:
        end = RoundResult(RoundOutcome.BUSY, error.what, error.do)
        if verb == "run":
            finish(round, end)
        else:
            round.journal.listener.tell(RoundEnded(end.outcome, end.message, end.do))
    round.driver.close()
    if end is not None and end.outcome.went_well:
        round.journal.listener.close()
        # After the terminal is let go: a lobby may take minutes to list the server, and nobody waits for that.
        look_at_list(server)
    if end is not None and end.outcome in (RoundOutcome.BUSY, RoundOutcome.UNFINISHED):
        raise SystemExit(1)


def _work(round: Round, verb: str) -> RoundResult | None:
    row = round.store.round(round.number)
    if row is None or row.outcome:  # somebody else was faster
        return None
    round.row = row
    round.ran = bool(row.ran)
    with contextlib.suppress(sqlite3.Error):  # a full disk must not keep a server down
        round.store.note_process(round.number, os.getpid(), birth_of(os.getpid()) or 0)
    with contextlib.suppress(Exception):  # whatever the files hold, the server can be stopped and started
        round.look()
    if verb == "recover":
        round.journal.marks = marks_of(round.store.journal(round.number))
    try:
        end = recover(round) if verb == "recover" else conduct(round)
    except Exception as error:  # noqa: BLE001 - whatever it is, the server must not be left as it stands
        end = _rescue(round, error)
    closed = finish(round, end)
    if closed:
        _let_go(round, end)
    return end if closed else RoundResult(RoundOutcome.UNFINISHED, end.message)


def _rescue(round: Round, error: Exception) -> RoundResult:
    """The plan did not foresee this: write it down, and recover as after a crash."""
    with contextlib.suppress(OSError):
        print(f"round {round.number}:", file=sys.stderr)
        traceback.print_exc()
    why = getattr(error, "what", None) or f"{type(error).__name__}: {error}"
    round.journal.degraded = True
    round.driver.close()
    try:
        round.journal.note(Step.RECOVER, f"an unexpected error occurred: {why}")
        end = recover(round)
    except Exception as second:  # noqa: BLE001 - the keeper tries again
        with contextlib.suppress(OSError):
            traceback.print_exc()
        reason = getattr(second, "what", None) or str(second)
        do = getattr(second, "do", "") or typed_command("rounds recover", round.server.name)
        message = f"{why} The round could not be finished: {reason} {round.where_saved}"
        return RoundResult(RoundOutcome.UNFINISHED, message, do, round.evidence())
    return RoundResult(end.outcome, f"{why} {end.message}", end.do, end.evidence, end.operations)


def _let_go(round: Round, end: RoundResult) -> None:
    """Give the server back to its keeper, or let the keeper go where the server is to stay down.

    A round that is not closed keeps its hold: the keeper sees the connection end, and has the round recovered.
    """
    # A keeper that is gone holds nothing; the next command starts one where the server is to be up.
    with contextlib.suppress(Trouble):
        if round.driver.state().keeper is None:
            return
        is_down_as_asked = round.plan.ends_up == "down" and end.outcome is RoundOutcome.DONE
        came_up = round.plan.ends_up != "down" and end.outcome.went_well
        is_wanted = not is_down_as_asked and (round.ran or came_up)
        round.driver.lease(None, up=is_wanted)
        # After a start that failed there is nothing to keep either; a server that runs unproven is kept.
        if not is_wanted and not round.driver.state().runs:
            round.driver.leave()


if __name__ == "__main__":
    main()
