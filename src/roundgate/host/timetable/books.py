"""What became of each moment of the timetable, in a small SQLite file of its own: no server's life depends on it.

A moment is claimed before anything is done, in one statement, so that of several who look only one carries it out.
"""

from __future__ import annotations

import os
import sqlite3
import time
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from roundgate.core.timetable.looking import MomentOutcome
from roundgate.host.keeper.record import birth_of, boot_mark
from roundgate.host.site import Site, make_private

FILE = "timetable.sqlite"
_SCHEMA = """
CREATE TABLE IF NOT EXISTS known (server TEXT, entry TEXT, mark TEXT, since REAL, PRIMARY KEY (server, entry));
CREATE TABLE IF NOT EXISTS moment (server TEXT, entry TEXT, due REAL, outcome TEXT, at REAL, detail TEXT,
    PRIMARY KEY (server, entry, due));
"""
_KEPT = 90 * 24 * 3600.0
"""Seconds for which it is remembered what became of a moment."""


class MomentRow(Struct, frozen=True):
    """What became of a moment; times in seconds since 1970."""

    server: str
    entry: str
    due: float
    outcome: MomentOutcome
    at: float
    """When that was written down."""
    detail: str


class TimetableBooks:
    """The open file. Raises sqlite3.Error where the disk is in the way."""

    def __init__(self, site: Site) -> None:
        """Open it, or begin a new one where it is damaged."""
        make_private(site.state)
        path = site.state / FILE
        try:
            self.db = _opened(path)
        except sqlite3.OperationalError:
            raise
        except sqlite3.DatabaseError:  # damaged: without it, nothing that is past is made up for
            path.replace(path.with_suffix(".damaged"))
            self.db = _opened(path)

    def close(self) -> None:
        """Close it."""
        self.db.close()

    def known_since(self, server: str, entry: str, mark: str, now: float) -> float:
        """Return since when an entry is known as it is; an entry that is new, or has another time, is from now on."""
        row = self.db.execute("SELECT mark, since FROM known WHERE server=? AND entry=?", (server, entry)).fetchone()
        if row is not None and row[0] == mark:
            return float(row[1])
        self.settle(server, entry, mark, now)
        return now

    def settle(self, server: str, entry: str, mark: str, since: float) -> None:
        """Write down from when on the moments of an entry count."""
        self.db.execute("INSERT OR REPLACE INTO known VALUES (?, ?, ?, ?)", (server, entry, mark, since))

    def taken(self, server: str, entry: str, since: float) -> dict[float, MomentOutcome]:
        """Return what became of the moments of an entry after one."""
        query = "SELECT due, outcome FROM moment WHERE server=? AND entry=? AND due>?"
        return dict(self.db.execute(query, (server, entry, since)).fetchall())

    def claim(self, server: str, entry: str, due: float, *, again: bool = False) -> bool:
        """Take a moment for whoever asks; return whether it was still free. ``again``: also one that was missed."""
        now = time.time()
        row = (server, entry, due, "running", now, _owner())
        if self.db.execute("INSERT OR IGNORE INTO moment VALUES (?, ?, ?, ?, ?, ?)", row).rowcount:
            return True
        mine = (now, _owner(), server, entry, due)
        query = "UPDATE moment SET outcome='running', at=?, detail=? WHERE server=? AND entry=? AND due=?"
        return again and bool(self.db.execute(f"{query} AND outcome='missed'", mine).rowcount)

    def miss(self, server: str, entry: str, moments: Sequence[float], detail: str) -> list[float]:
        """Write moments down as missed, all or none; return those of which nothing was written yet."""
        now = time.time()
        query = "INSERT OR IGNORE INTO moment VALUES (?, ?, ?, 'missed', ?, ?)"
        self.db.execute("BEGIN IMMEDIATE")
        try:
            fresh = [due for due in moments if self.db.execute(query, (server, entry, due, now, detail)).rowcount]
        except BaseException:
            self.db.execute("ROLLBACK")
            raise
        self.db.execute("COMMIT")
        return fresh

    def orphans(self, server: str, entry: str) -> list[float]:
        """Return the moments whose process has died before it wrote down what became of them; they are taken back.

        Of several who look, one gets each.
        """
        query = "SELECT due, detail FROM moment WHERE server=? AND entry=? AND outcome='running'"
        running = self.db.execute(query, (server, entry)).fetchall()
        query = "UPDATE moment SET outcome='missed', at=?, detail=? WHERE server=? AND entry=? AND due=? AND detail=?"
        change = "AND outcome='running'"
        return [
            due
            for due, owner in running
            if not _is_alive(owner)
            and self.db.execute(f"{query} {change}", (time.time(), INTERRUPTED, server, entry, due, owner)).rowcount
        ]

    def release(self, server: str, entry: str, due: float) -> None:
        """Let a moment that was interrupted be made up for."""
        query = "DELETE FROM moment WHERE server=? AND entry=? AND due=? AND outcome='missed' AND detail=?"
        self.db.execute(query, (server, entry, due, INTERRUPTED))

    def write(self, server: str, entry: str, due: float, outcome: MomentOutcome, detail: str = "") -> None:
        """Write down what became of a moment."""
        row = (server, entry, due, outcome, time.time(), detail)
        self.db.execute("INSERT OR REPLACE INTO moment VALUES (?, ?, ?, ?, ?, ?)", row)
        self.db.execute("DELETE FROM moment WHERE due<?", (time.time() - _KEPT,))

    def forget(self, server: str, entry: str, due: float) -> None:
        """Forget that a moment was to be left out."""
        self.db.execute(
            "DELETE FROM moment WHERE server=? AND entry=? AND due=? AND outcome='skip'", (server, entry, due)
        )

    def last(self, server: str, entry: str, now: float) -> MomentRow | None:
        """Return what became of the last moment of an entry that is past, or under way; None where there was none.

        What was written while the clock was ahead is of moments that are still to come.
        """
        query = "SELECT * FROM moment WHERE server=? AND entry=? AND outcome<>'skip' AND (due<=? OR outcome='running')"
        row = self.db.execute(f"{query} ORDER BY due DESC LIMIT 1", (server, entry, now)).fetchone()
        if row is None:
            return None
        found = MomentRow(*row)
        return replace(found, detail="") if found.outcome == "running" else found  # whose it is concerns nobody else


INTERRUPTED = "it was interrupted: its process died"


def _owner() -> str:
    """Return what tells this process from any other, also from one with its number after a restart of the machine."""
    return f"{os.getpid()} {birth_of(os.getpid())} {boot_mark()}"


def _is_alive(owner: str) -> bool:
    process, _, rest = owner.partition(" ")
    return process.isdecimal() and f"{birth_of(int(process))} {boot_mark()}" == rest


def _opened(path: Path) -> sqlite3.Connection:
    db = sqlite3.connect(path, timeout=10, isolation_level=None)
    # Only its owner may do that, and has done it.
    with suppress(OSError):
        path.chmod(0o600)
    db.executescript(_SCHEMA)
    return db
