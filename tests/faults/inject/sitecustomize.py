"""Ends a round's process by SIGKILL at its N-th act on the disk: between any two file operations or journal steps.

Put on PYTHONPATH by the crash tests; it does nothing but in a round's first process, and nothing is changed in the
program itself. ``CRASH_AT`` is N, or how the act begins, such as ``journal stop begin``; ``CRASH_COUNT`` is a file into
which an unharmed run writes its acts, one to a line. While the file ``LINGER`` is there, a recovery that has done its
work does not end.
"""

import atexit
import os
import signal
import sqlite3
import sys
import time
from typing import Any

_WORDS = sys.orig_argv
_ACTS = ("open", "write", "fsync", "replace", "link", "unlink", "fchmod", "fchown", "mkdir")


class Acts:
    """Counts acts, and ends the process at the one asked for."""

    def __init__(self, at: str) -> None:
        self.at = at
        self.done: list[str] = []

    def act(self, what: str) -> None:
        self.done.append(what)
        if str(len(self.done)) == self.at or (not self.at.isdigit() and what.startswith(self.at)):
            os.kill(os.getpid(), signal.SIGKILL)


def _install(acts: Acts) -> None:
    for name in _ACTS:
        plain = getattr(os, name)

        def counted(*words: Any, _plain: Any = plain, _name: str = name, **more: Any) -> Any:
            acts.act(f"{_name} {words[:2]!r}")
            return _plain(*words, **more)

        setattr(os, name, counted)

    class Counted(sqlite3.Connection):
        def execute(self, statement: str, *more: Any) -> sqlite3.Cursor:
            if "INTO journal" in statement:
                acts.act(f"journal {more[0][2]} {more[0][3]}")
            elif not statement.lstrip().upper().startswith(("SELECT", "PRAGMA")):
                acts.act(statement)
            return super().execute(statement, *more)

    connect = sqlite3.connect
    sqlite3.connect = lambda *words, **more: connect(*words, factory=Counted, **more)  # type: ignore[assignment]


if "roundgate.host.rounds" in _WORDS and "recover" in _WORDS and "LINGER" in os.environ:

    def _linger() -> None:
        while os.path.exists(os.environ["LINGER"]):
            time.sleep(0.02)

    atexit.register(_linger)

if "roundgate.host.rounds" in _WORDS and "run" in _WORDS and "CRASH_AT" in os.environ:
    _acts = Acts(os.environ["CRASH_AT"])
    _install(_acts)
    if "CRASH_COUNT" in os.environ:
        _path = os.environ["CRASH_COUNT"]

        def _tell() -> None:
            with open(_path, "w", encoding="utf-8") as file:
                file.write("\n".join(act.replace("\n", " ") for act in _acts.done))

        atexit.register(_tell)
