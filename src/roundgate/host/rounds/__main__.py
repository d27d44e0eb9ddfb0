"""The process of one round.

python -m roundgate.host.rounds run|recover SITE-FOLDER NUMBER [EVENTS-HANDLE]
"""

from __future__ import annotations

import os
import signal
import sqlite3
import sys
import traceback
from pathlib import Path

from roundgate.host.errors import Busy, Trouble
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.engine import End, conduct, finish
from roundgate.host.rounds.locking import held
from roundgate.host.rounds.recover import marks_of, recover
from roundgate.host.servers import Server
from roundgate.host.site import read_site
from roundgate.host.store import Store


def main() -> None:
    """Run or recover the round that the arguments name."""
    verb, folder, number = sys.argv[1], Path(sys.argv[2]), int(sys.argv[3])
    events = int(sys.argv[4]) if len(sys.argv) > 4 else None
    if events is not None:
        os.set_inheritable(events, False)  # a keeper that kept it open would keep the terminal waiting
    os.umask(0o077)
    for sign in (signal.SIGINT, signal.SIGHUP, signal.SIGPIPE):
        signal.signal(sign, signal.SIG_IGN)
    site = read_site(folder)
    store = Store(site.state)
    row = store.round(number)
    if row is None or row.outcome:
        return
    server = Server(site, row.server)
    round = Round(server, store, row, events)
    round.heed_call_off()
    try:
        with held(server, store, number):
            _work(round, verb)
    except Busy as error:
        if verb == "run":
            finish(round, End("busy", error.what, error.do))
    round.driver.close()


def _work(round: Round, verb: str) -> None:
    row = round.store.round(round.number)
    if row is None or row.outcome:  # somebody else was faster
        return
    round.row = row
    round.learn_secrets()
    if verb == "recover":
        round.ran, round.marks = bool(row.ran), marks_of(round.store.journal(round.number))
        round.store.note_round(round.number, process=os.getpid(), ran=row.ran, changes=row.changes)
    try:
        end = recover(round) if verb == "recover" else conduct(round)
    except Exception as error:  # noqa: BLE001 - whatever it is, the server must not be left as it stands
        end = _rescue(round, error)
    finish(round, end)
    _let_go(round, end)


def _rescue(round: Round, error: Exception) -> End:
    """The plan did not foresee this: write it down, and recover as after a crash."""
    print(f"round {round.number}:", file=sys.stderr)
    traceback.print_exc()
    why = getattr(error, "what", None) or f"{type(error).__name__}: {error}"
    round.degraded = True
    round.driver.close()
    try:
        round.note("recover", f"something unforeseen happened: {why}")
        end = recover(round)
    except (Trouble, OSError, sqlite3.Error) as second:
        words = getattr(second, "what", None) or str(second)
        do = getattr(second, "do", "") or f"roundgate recover {round.server.name}"
        said = f"{why} The round could not be finished: {words} What was saved lies in {round.folder}."
        return End("unfinished", said, do, round.evidence())
    return End(end.outcome, f"{why} {end.said}", end.do, end.evidence, end.operations)


def _let_go(round: Round, end: End) -> None:
    """Give the server back to its keeper, or let the keeper go where the server is to stay down."""
    if round.driver.state().keeper is None:
        return
    meant_up = round.options.kind != "stop" and end.outcome in ("proven", "done", "rewound")
    round.driver.lease(None, up=meant_up and (round.ran or end.outcome != "rewound"))
    if round.options.kind == "stop" and end.outcome == "done":
        round.driver.leave()


if __name__ == "__main__":
    main()
