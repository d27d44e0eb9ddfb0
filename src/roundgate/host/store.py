"""What Round Gate remembers, in one SQLite file: the slate, rounds and their journal, live values, what rounds wrote.

Synchronous in full, so that what is said to be remembered is on disk; readable by this user only; and what is deleted
is overwritten, for the slate may hold a secret until its round is done.
"""

from __future__ import annotations

import os
import sqlite3
import time
import zlib
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from msgspec import Struct, json
from msgspec.structs import replace

from roundgate.core.slate import Operation, SetValue, Unset, merged

_SCHEMA = """
CREATE TABLE IF NOT EXISTS slate (
    id INTEGER PRIMARY KEY, server TEXT NOT NULL, operation BLOB NOT NULL, at REAL NOT NULL, by TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS round (
    number INTEGER PRIMARY KEY AUTOINCREMENT, server TEXT NOT NULL, kind TEXT NOT NULL, options BLOB NOT NULL,
    by TEXT NOT NULL, began REAL NOT NULL, ended REAL, outcome TEXT NOT NULL DEFAULT '', said TEXT NOT NULL DEFAULT '',
    ran INTEGER, changes BLOB NOT NULL DEFAULT '[]', evidence BLOB NOT NULL DEFAULT '[]',
    process INTEGER NOT NULL DEFAULT 0);
CREATE TABLE IF NOT EXISTS journal (
    id INTEGER PRIMARY KEY, round INTEGER NOT NULL, at REAL NOT NULL, step TEXT NOT NULL, mark TEXT NOT NULL,
    said TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS live (
    server TEXT NOT NULL, setting TEXT NOT NULL, stored TEXT NOT NULL, at REAL NOT NULL, PRIMARY KEY (server, setting));
CREATE TABLE IF NOT EXISTS written (
    server TEXT NOT NULL, setting TEXT NOT NULL, round INTEGER NOT NULL, digest TEXT NOT NULL,
    PRIMARY KEY (server, setting));
CREATE TABLE IF NOT EXISTS timing (server TEXT NOT NULL, step TEXT NOT NULL, seconds REAL NOT NULL,
    PRIMARY KEY (server, step));
"""


class RoundRow(Struct, frozen=True):
    """One round as it is remembered. ``outcome`` is empty while it is open; ``ran``: was the server up before?"""

    number: int
    server: str
    kind: str
    options: bytes
    by: str
    began: float
    ended: float | None
    outcome: str
    said: str
    ran: bool | None
    changes: list[list[str]]
    """Name, before and after of each change, in words; secrets are hidden in them."""
    evidence: list[str]
    process: int


class Waiting(Struct, frozen=True):
    """One operation on the slate, with when and by whom it was put there."""

    id: int
    operation: Operation
    at: float
    by: str


class JournalLine(Struct, frozen=True):
    """One line of a round's journal; ``mark`` is begin, end or note."""

    at: float
    step: str
    mark: str
    said: str


def value_digest(server: str, setting: str, plain: str) -> str:
    """Give a mark of a value by which it is known again but not read; a checksum, which many values share."""
    return f"{zlib.crc32(f'{server}:{setting}:{plain}'.encode()):08x}"


class Store:
    """The open state file of a site."""

    def __init__(self, folder: Path) -> None:
        """Open the state file in ``folder``, and make it where it is not there yet."""
        folder.mkdir(mode=0o700, exist_ok=True)
        path = folder / "state.sqlite"
        is_new = not path.exists()
        if is_new:
            os.close(os.open(path, os.O_CREAT | os.O_RDWR, 0o600))
        self.db = sqlite3.connect(path, timeout=20, isolation_level=None)
        self.db.execute("PRAGMA synchronous=FULL")
        self.db.execute("PRAGMA secure_delete=ON")
        if is_new or not self.db.execute("SELECT 1 FROM sqlite_master WHERE name='timing'").fetchone():
            self.db.executescript(_SCHEMA)

    def close(self) -> None:
        """Close the file."""
        self.db.close()

    @contextmanager
    def whole(self) -> Iterator[None]:
        """Make all that is written inside one transaction."""
        self.db.execute("BEGIN IMMEDIATE")
        try:
            yield
        except BaseException:
            self.db.execute("ROLLBACK")
            raise
        self.db.execute("COMMIT")

    # --- the slate ---------------------------------------------------------------------------------------------

    def slate(self, server: str) -> list[Waiting]:
        """Give what waits for a server, in order."""
        rows = self.db.execute("SELECT id, operation, at, by FROM slate WHERE server=? ORDER BY id", (server,))
        return [Waiting(number, json.decode(raw, type=Operation), at, by) for number, raw, at, by in rows]

    def add_to_slate(self, server: str, operations: Sequence[Operation], by: str) -> None:
        """Put operations on a server's slate; a second value for a key replaces the first."""
        with self.whole():
            for operation in operations:
                self._add_one(server, operation, by)

    def _add_one(self, server: str, operation: Operation, by: str) -> None:
        waiting = self.slate(server)
        *kept, final = merged([one.operation for one in waiting], operation)
        stays = {id(one) for one in kept}
        gone = [(one.id,) for one in waiting if id(one.operation) not in stays]
        self.db.executemany("DELETE FROM slate WHERE id=?", gone)
        row = (server, json.encode(final), time.time(), by)
        self.db.execute("INSERT INTO slate (server, operation, at, by) VALUES (?, ?, ?, ?)", row)

    def take_off_slate(self, numbers: Sequence[int]) -> None:
        """Take operations off the slate by their ids."""
        with self.whole():
            self.db.executemany("DELETE FROM slate WHERE id=?", [(number,) for number in numbers])

    def let_wait(self, server: str) -> None:
        """Let what was to go into the files at a stop wait for a round like the rest: it was tried, and undone."""
        for one in self.slate(server):
            if getattr(one.operation, "at_stop", False):
                raw = json.encode(replace(one.operation, at_stop=False))
                self.db.execute("UPDATE slate SET operation=? WHERE id=?", (raw, one.id))

    # --- rounds ------------------------------------------------------------------------------------------------

    def open_round(self, server: str, kind: str, options: bytes, by: str) -> int:
        """Begin a round in the books; give its number."""
        row = (server, kind, options, by, time.time())
        cursor = self.db.execute("INSERT INTO round (server, kind, options, by, began) VALUES (?, ?, ?, ?, ?)", row)
        return int(cursor.lastrowid or 0)

    def note_round(self, number: int, *, process: int, ran: bool | None, changes: list[list[str]]) -> None:
        """Note who runs a round, whether the server was up before it, and what it will change."""
        self.db.execute(
            "UPDATE round SET process=?, ran=?, changes=? WHERE number=?", (process, ran, json.encode(changes), number)
        )

    def close_round(self, number: int, outcome: str, said: str, evidence: Sequence[str] = ()) -> None:
        """End a round in the books."""
        row = (time.time(), outcome, said, json.encode(list(evidence)), number)
        self.db.execute("UPDATE round SET ended=?, outcome=?, said=?, evidence=? WHERE number=?", row)

    def remember_written(
        self, number: int, server: str, operations: Sequence[Waiting], plainly: Callable[[str, str | None], str]
    ) -> None:
        """Take what was written off the slate, and remember each value's mark, of its plain form."""
        self.db.executemany("DELETE FROM slate WHERE id=?", [(one.id,) for one in operations])
        for one in operations:
            operation = one.operation
            if isinstance(operation, SetValue | Unset):
                name = operation.name or f"{operation.file}:{operation.key}"
                stored = operation.stored if isinstance(operation, SetValue) else None
                row = (server, name, number, value_digest(server, name, plainly(name, stored)))
                self.db.execute("INSERT OR REPLACE INTO written VALUES (?, ?, ?, ?)", row)

    def forget_written(self, server: str) -> None:
        """Forget what rounds wrote: the files were put back as they were before."""
        self.db.execute("DELETE FROM written WHERE server=?", (server,))

    def written(self, server: str) -> dict[str, tuple[int, str]]:
        """Give, by setting, the last round that wrote it and the mark of its value."""
        rows = self.db.execute("SELECT setting, round, digest FROM written WHERE server=?", (server,))
        return {setting: (number, mark) for setting, number, mark in rows}

    def rounds(self, server: str | None = None, most: int = 1000) -> list[RoundRow]:
        """Give the rounds of a server, or of all, the newest first."""
        query = "SELECT number, server, kind, options, by, began, ended, outcome, said, ran, changes, evidence, process"
        where = "WHERE server=?" if server else "WHERE ?=''"
        rows = self.db.execute(f"{query} FROM round {where} ORDER BY number DESC LIMIT ?", (server or "", most))
        return [_round(row) for row in rows]

    def round(self, number: int) -> RoundRow | None:
        """Give one round."""
        return next((one for one in self.rounds() if one.number == number), None)

    def open_rounds(self) -> list[RoundRow]:
        """Give the rounds that have not ended."""
        return [one for one in self.rounds() if not one.outcome]

    # --- the journal -------------------------------------------------------------------------------------------

    def write_journal(self, number: int, step: str, mark: str, said: str) -> None:
        """Write one line of a round's journal; it is on disk when this returns."""
        row = (number, time.time(), step, mark, said)
        self.db.execute("INSERT INTO journal (round, at, step, mark, said) VALUES (?, ?, ?, ?, ?)", row)

    def journal(self, number: int) -> list[JournalLine]:
        """Give a round's journal in order."""
        rows = self.db.execute("SELECT at, step, mark, said FROM journal WHERE round=? ORDER BY id", (number,))
        return [JournalLine(*row) for row in rows]

    # --- live values and timings ---------------------------------------------------------------------------------

    def note_live(self, server: str, setting: str, stored: str) -> None:
        """Remember a value that was sent to the console."""
        row = (server, setting, stored, time.time())
        self.db.execute("INSERT OR REPLACE INTO live VALUES (?, ?, ?, ?)", row)

    def live(self, server: str, since: float) -> dict[str, str]:
        """Give the values sent to the console since a moment (seconds since 1970)."""
        rows = self.db.execute("SELECT setting, stored FROM live WHERE server=? AND at>=?", (server, since))
        return dict(rows.fetchall())

    def note_timing(self, server: str, step: str, seconds: float) -> None:
        """Remember how long a step took; forgotten where it cannot be written, for nothing hangs on it."""
        with suppress(sqlite3.Error):
            self.db.execute("INSERT OR REPLACE INTO timing VALUES (?, ?, ?)", (server, step, seconds))

    def timing(self, server: str, step: str) -> float | None:
        """Tell how long a step took the last time, in seconds; None where that is not known."""
        with suppress(sqlite3.Error):
            row = self.db.execute("SELECT seconds FROM timing WHERE server=? AND step=?", (server, step)).fetchone()
            return float(row[0]) if row else None
        return None


def _round(row: tuple[Any, ...]) -> RoundRow:
    values = list(row)
    values[9] = None if values[9] is None else bool(values[9])
    values[10], values[11] = json.decode(values[10]), json.decode(values[11])
    return RoundRow(*values)
