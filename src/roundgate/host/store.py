"""What Round Gate remembers, in one SQLite file: the slate, rounds and their journal, live values, what rounds wrote.

Synchronous in full, so that what is said to be remembered is on disk; readable by this user only; and what is deleted
is overwritten, for the slate may hold a secret until its round is done.
"""

from __future__ import annotations

import sqlite3
import time
import zlib
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager, suppress
from pathlib import Path
from typing import Any

from msgspec import MsgspecError, Struct, json

from roundgate.core.operations.base import Operation
from roundgate.core.operations.registry import merged, read_stored, stored
from roundgate.host.books import RoundSummary, open_books


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
    message: str
    ran: bool | None
    changes: list[list[str]]
    """Name, before and after of each change, as text; secrets are hidden in them."""
    evidence: list[str]
    process: int
    birth: int
    """When that process began, in clock ticks since boot: process numbers are used again."""


class Waiting(Struct, frozen=True):
    """One operation on the slate, with when and by whom it was put there."""

    id: int
    operation: Operation
    at: float
    by: str
    round: int | None = None
    """The round that is bringing it into force; nobody else takes it off meanwhile."""


class JournalLine(Struct, frozen=True):
    """One line of a round's journal; ``mark`` is begin, end or note."""

    at: float
    step: str
    mark: str
    message: str


def value_digest(server: str, setting: str, plain: str) -> str:
    """Return a mark of a value by which it is known again but not read; a checksum, which many values share."""
    return f"{zlib.crc32(f'{server}:{setting}:{plain}'.encode()):08x}"


def secret_mark(server: str, setting: str, stored: str) -> str:
    """Return what is remembered of a secret that was sent to a console: enough to know it again, not to read it."""
    return f"mark:{value_digest(server, setting, stored)}"


class Store:
    """The open state file of a site."""

    def __init__(self, folder: Path) -> None:
        """Open the state file in ``folder``, and make it where it is not there yet. Raises as ``open_books``."""
        folder.mkdir(mode=0o700, exist_ok=True)
        self.folder = folder
        self.db, self.remarks = open_books(folder)
        """What a person must know: that the file was damaged, or lost."""

    def close(self) -> None:
        """Close the file."""
        self.db.close()

    def copied(self) -> Store:
        """Return a copy in memory that can only be read: of many questions to the file, each waits for who writes."""
        db = sqlite3.connect(":memory:", isolation_level=None)
        self.db.backup(db)
        return Store._of_copy(self.folder, db)

    def packed(self) -> bytes:
        """Return a copy as bytes, for a process that is forked: a connection may not go over a fork."""
        with closing(self.copied()) as copy:
            return copy.db.serialize()

    @staticmethod
    def unpacked(folder: Path, data: bytes) -> Store:
        """Return what was packed, as a copy that can only be read."""
        db = sqlite3.connect(":memory:", isolation_level=None)
        db.deserialize(data)
        return Store._of_copy(folder, db)

    @staticmethod
    def _of_copy(folder: Path, db: sqlite3.Connection) -> Store:
        db.execute("PRAGMA query_only=ON")
        copy = object.__new__(Store)
        copy.folder, copy.remarks, copy.db = folder, [], db
        return copy

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
        """Return what waits for a server, in order. Entries that make no sense are left out; see ``odd_entries``."""
        return [entry for entry in self._entries(server) if isinstance(entry, Waiting)]

    def odd_entries(self, server: str) -> list[int]:
        """Return the ids of entries on a server's slate that cannot be read, being damaged or a newer version's."""
        return [entry for entry in self._entries(server) if isinstance(entry, int)]

    def _entries(self, server: str) -> Iterator[Waiting | int]:
        query = "SELECT id, operation, at, by, round FROM slate WHERE server=? ORDER BY id"
        for number, raw, at, by, round in self.db.execute(query, (server,)).fetchall():
            try:
                yield Waiting(number, read_stored(raw), at, by, round)
            except (MsgspecError, TypeError):
                yield number

    def add_to_slate(self, server: str, operations: Sequence[Operation], by: str, round: int | None = None) -> None:
        """Put operations on a server's slate; a second value for a key replaces the first.

        What a round is bringing into force is left alone. ``round`` is the round that puts them there for itself.
        """
        with self.whole():
            waiting, now = [entry for entry in self.slate(server) if entry.round == round], time.time()
            for operation in operations:
                waiting = self._add_one(server, waiting, operation, (by, now), round)

    def _add_one(
        self, server: str, waiting: Sequence[Waiting], operation: Operation, put: tuple[str, float], round: int | None
    ) -> list[Waiting]:
        """Put an operation after what waits, or in the place of what it replaces; return what waits then."""
        *kept, final = merged([entry.operation for entry in waiting], operation)
        # By identity: two equal operations may wait, and only the one that was merged may go.
        stays = {id(entry) for entry in kept}
        gone = [(entry.id,) for entry in waiting if id(entry.operation) not in stays]
        self.db.executemany("DELETE FROM slate WHERE id=?", gone)
        by, now = put
        row = (server, stored(final), now, by, round)
        new = self.db.execute("INSERT INTO slate (server, operation, at, by, round) VALUES (?, ?, ?, ?, ?)", row)
        left = [entry for entry in waiting if id(entry.operation) in stays]
        return [*left, Waiting(int(new.lastrowid or 0), final, now, by, round)]

    def take_off_slate(self, numbers: Sequence[int]) -> list[int]:
        """Take operations off the slate by their ids, but for those of a round at work; return those that are gone."""
        with self.whole():
            return [
                number
                for number in numbers
                if self.db.execute("DELETE FROM slate WHERE id=? AND round IS NULL", (number,)).rowcount
            ]

    def claim(self, round: int, numbers: Sequence[int]) -> list[Waiting]:
        """Return operations to a round, which brings them into force; return those that are its own now."""
        server = self._server_of(round)
        with self.whole():
            rows = [(round, number) for number in numbers]
            self.db.executemany("UPDATE slate SET round=? WHERE id=? AND round IS NULL", rows)
        return self.claimed(server, round)

    def claimed(self, server: str, round: int) -> list[Waiting]:
        """Return the operations that a round is bringing into force."""
        return [entry for entry in self.slate(server) if entry.round == round]

    def _server_of(self, round: int) -> str:
        row = self.db.execute("SELECT server FROM round WHERE number=?", (round,)).fetchone()
        return str(row[0]) if row else ""

    def _release(self, round: int) -> None:
        """Let a round's operations wait again; what was put on the slate since for the same key takes their place."""
        server = self._server_of(round)
        mine = self.claimed(server, round)
        if not mine:
            return
        since = [entry for entry in self.slate(server) if entry.round is None and entry.id > mine[0].id]
        self.db.execute("UPDATE slate SET round=NULL WHERE round=?", (round,))
        for entry in since:
            self.db.execute("DELETE FROM slate WHERE id=?", (entry.id,))
            waiting = [other for other in self.slate(server) if other.round is None]
            self._add_one(server, waiting, entry.operation, (entry.by, entry.at), None)

    def queue_as_usual(self, server: str) -> None:
        """Let what was to go into the files at a stop wait for a round like the rest: it was tried, and undone."""
        for entry in self.slate(server):
            if entry.operation.waits_for_stop:
                raw = stored(entry.operation.as_usual())
                self.db.execute("UPDATE slate SET operation=? WHERE id=?", (raw, entry.id))

    # --- rounds ------------------------------------------------------------------------------------------------

    def open_round(
        self,
        server: str,
        kind: str,
        options: bytes,
        by: str,
        *,
        ran: bool | None = None,
        process: int = 0,
        birth: int = 0,
    ) -> int:
        """Begin a round in the books; return its number. ``ran``: is the server up? ``process`` begins it."""
        row = (server, kind, options, by, time.time(), ran, process, birth)
        cursor = self.db.execute(
            "INSERT INTO round (server, kind, options, by, began, ran, process, birth) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
            row,
        )
        return int(cursor.lastrowid or 0)

    def note_process(self, number: int, process: int, birth: int) -> None:
        """Note which process works on a round."""
        self.db.execute("UPDATE round SET process=?, birth=? WHERE number=?", (process, birth, number))

    def note_round(self, number: int, *, ran: bool, changes: list[list[str]]) -> None:
        """Note whether the server was up before a round, and what the round changes."""
        self.db.execute("UPDATE round SET ran=?, changes=? WHERE number=?", (ran, json.encode(changes), number))

    def close_round(self, number: int, outcome: str, message: str, evidence: Sequence[str] = ()) -> None:
        """End a round in the books; what it was bringing into force, and did not, waits again."""
        row = (time.time(), outcome, message, json.encode(list(evidence)), number)
        # Before the outcome is written: a closed round that still owns operations would hold them forever.
        self._release(number)
        self.db.execute("UPDATE round SET ended=?, outcome=?, said=?, evidence=? WHERE number=?", row)

    def summary(self, number: int) -> RoundSummary | None:
        """Return what a round's folder is to remember of it."""
        row = self.round(number)
        if row is None:
            return None
        return RoundSummary(**{name: getattr(row, name) for name in RoundSummary.__struct_fields__})

    def remember_written(
        self, number: int, server: str, operations: Sequence[Waiting], plainly: Callable[[str, str | None], str]
    ) -> None:
        """Take what was written off the slate, and remember each value's mark, of its plain form."""
        self.db.executemany("DELETE FROM slate WHERE id=?", [(operation.id,) for operation in operations])
        for entry in operations:
            if entry.operation.sets_value:
                name = entry.operation.shown_name
                mark = value_digest(server, name, plainly(name, entry.operation.new_value))
                row = (server, name, number, mark)
                self.db.execute("INSERT OR REPLACE INTO written VALUES (?, ?, ?, ?)", row)

    def forget_written(self, server: str) -> None:
        """Forget what rounds wrote: the files were put back as they were before."""
        self.db.execute("DELETE FROM written WHERE server=?", (server,))

    def written(self, server: str) -> dict[str, tuple[int, str]]:
        """Give, by setting, the last round that wrote it and the mark of its value."""
        rows = self.db.execute("SELECT setting, round, digest FROM written WHERE server=?", (server,))
        return {setting: (number, mark) for setting, number, mark in rows}

    def rounds(self, server: str | None = None, most: int = 1000) -> list[RoundRow]:
        """Return the last rounds of a server, or of all, the newest first."""
        where = "server=?" if server else "?=''"
        return self._rounds(f"{where} ORDER BY number DESC LIMIT ?", (server or "", most))

    def round(self, number: int) -> RoundRow | None:
        """Return one round."""
        return next(iter(self._rounds("number=?", (number,))), None)

    def open_rounds(self, server: str | None = None) -> list[RoundRow]:
        """Return the rounds that have not ended, of one server or of all, the newest first."""
        where = "server=?" if server else "?=''"
        return self._rounds(f"outcome='' AND {where} ORDER BY number DESC", (server or "",))

    def closed_rounds(self, server: str) -> list[int]:
        """Return the numbers of a server's rounds that have ended, the newest first."""
        rows = self.db.execute(
            "SELECT number FROM round WHERE server=? AND outcome<>'' ORDER BY number DESC", (server,)
        )
        return [number for (number,) in rows]

    def _rounds(self, condition: str, values: tuple[object, ...]) -> list[RoundRow]:
        return [_round(row) for row in self.db.execute(f"SELECT {_COLUMNS} FROM round WHERE {condition}", values)]

    # --- journal -------------------------------------------------------------------------------------------------

    def write_journal(self, number: int, step: str, mark: str, message: str) -> None:
        """Write one line of a round's journal; it is on disk when this returns."""
        row = (number, time.time(), step, mark, message)
        self.db.execute("INSERT INTO journal (round, at, step, mark, said) VALUES (?, ?, ?, ?, ?)", row)

    def journal(self, number: int) -> list[JournalLine]:
        """Return a round's journal in order."""
        rows = self.db.execute("SELECT at, step, mark, said FROM journal WHERE round=? ORDER BY id", (number,))
        return [JournalLine(*row) for row in rows]

    def forget_journals(self, server: str, keep: int) -> None:
        """Forget the journals of a server's rounds that have ended, but for the newest; how they ended stays."""
        old = "SELECT number FROM round WHERE server=? AND outcome<>'' ORDER BY number DESC LIMIT -1 OFFSET ?"
        self.db.execute(f"DELETE FROM journal WHERE round IN ({old})", (server, keep))

    # --- live values and timings ---------------------------------------------------------------------------------

    def note_live(self, server: str, setting: str, stored: str) -> None:
        """Remember a value that was sent to the console."""
        row = (server, setting, stored, time.time())
        self.db.execute("INSERT OR REPLACE INTO live VALUES (?, ?, ?, ?)", row)

    def live(self, server: str, since: float) -> dict[str, str]:
        """Return the values sent to the console since a moment (seconds since 1970)."""
        rows = self.db.execute("SELECT setting, stored FROM live WHERE server=? AND at>=?", (server, since))
        return dict(rows.fetchall())

    def forget_live(self, server: str) -> None:
        """Forget the values that were sent to the console: the server has ended since."""
        self.db.execute("DELETE FROM live WHERE server=?", (server,))

    def note_timing(self, server: str, step: str, seconds: float) -> None:
        """Remember how long a step took; forgotten where it cannot be written, for nothing depends on it."""
        with suppress(sqlite3.Error):
            self.db.execute("INSERT OR REPLACE INTO timing VALUES (?, ?, ?)", (server, step, seconds))

    def timing(self, server: str, step: str) -> float | None:
        """Return how long a step took the last time, in seconds; None where that is not known."""
        with suppress(sqlite3.Error):
            row = self.db.execute("SELECT seconds FROM timing WHERE server=? AND step=?", (server, step)).fetchone()
            return float(row[0]) if row else None
        return None


_COLUMNS = "number, server, kind, options, by, began, ended, outcome, said, ran, changes, evidence, process, birth"


def _round(row: tuple[Any, ...]) -> RoundRow:
    values = list(row)
    values[9] = None if values[9] is None else bool(values[9])
    for at, kind in ((10, list[list[str]]), (11, list[str])):
        try:
            values[at] = json.decode(values[at], type=kind)
        except (MsgspecError, TypeError):
            values[at] = []
    return RoundRow(*values)
