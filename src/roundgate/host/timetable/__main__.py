"""The process that carries out what is due of one server's timetable.

python -m roundgate.host.timetable SITE-FOLDER SERVER

It looks once, writes down for the keeper when to look again, does what is due, and ends. A keeper starts it, or
``roundgate timetable run``.
"""

from __future__ import annotations

import contextlib
import os
import signal
import sqlite3
import sys
from pathlib import Path

from filelock import FileLock, Timeout

from roundgate.host.errors import Trouble
from roundgate.host.keeper.interpreter import be_private
from roundgate.host.servers import Server
from roundgate.host.site import read_site
from roundgate.host.timetable.books import TimetableBooks
from roundgate.host.timetable.deeds import Result, carry_out
from roundgate.host.timetable.looking import look_at, write_next
from roundgate.host.timetable.plan import timetable_of

_LONGEST_TURN = 3600.0
"""Seconds that one deed waits for the one before it, such as a restart that waits for an empty server."""


def main() -> None:
    """Look, and do what is due. The exit code is 1 where the timetable cannot be read."""
    folder, name = Path(sys.argv[1]), sys.argv[2]
    be_private()
    os.chdir("/")
    for sign in (signal.SIGINT, signal.SIGHUP, signal.SIGPIPE):
        signal.signal(sign, signal.SIG_IGN)
    try:
        site = read_site(folder)
        if name not in site.file.server:
            return
        due, upcoming = look_at(site, name)
    except (Trouble, sqlite3.Error, OSError) as error:
        print(getattr(error, "what", error), file=sys.stderr)
        raise SystemExit(1) from error
    write_next(str(site.state_of(name)), upcoming)
    plans = {planned.name: planned for planned in timetable_of(site)}
    for line in due:
        lock = FileLock(f"{site.state_of(name)}/timetable.lock", timeout=_LONGEST_TURN)
        try:
            with lock:
                result = carry_out(Server(site, name, lenient=True), plans[line.entry], line)
        except Timeout:
            result = Result("failed", "what was due before it took too long")
        with contextlib.suppress(sqlite3.Error):
            books = TimetableBooks(site)
            books.write(name, line.entry, line.at, result.outcome, result.detail)
            books.close()
        print(f"{name}: {line.entry}: {result.outcome}: {result.detail}", flush=True)


if __name__ == "__main__":
    main()
