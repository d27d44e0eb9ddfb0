"""Opening the state file: made where it is not there, brought to today's form, set aside and rebuilt where damaged.

A server's life must not hang on this file. What can be known again is taken from the damaged file, row by row, and
from the summaries in the folders of the rounds; the numbers of rounds go on after the highest one that is known.
"""

from __future__ import annotations

import os
import sqlite3
import time
from collections.abc import Iterable
from contextlib import closing, suppress
from pathlib import Path
from typing import Any

from msgspec import MsgspecError, Struct, json

from roundgate.host.errors import BooksUnusable
from roundgate.host.places import read_handle

FILE = "state.sqlite"
SUMMARY = "round.json"
VERSION = 2
_SCHEMA = """
CREATE TABLE IF NOT EXISTS slate (
    id INTEGER PRIMARY KEY, server TEXT NOT NULL, operation BLOB NOT NULL, at REAL NOT NULL, by TEXT NOT NULL,
    round INTEGER);
CREATE TABLE IF NOT EXISTS round (
    number INTEGER PRIMARY KEY AUTOINCREMENT, server TEXT NOT NULL, kind TEXT NOT NULL, options BLOB NOT NULL,
    by TEXT NOT NULL, began REAL NOT NULL, ended REAL, outcome TEXT NOT NULL DEFAULT '', said TEXT NOT NULL DEFAULT '',
    ran INTEGER, changes BLOB NOT NULL DEFAULT '[]', evidence BLOB NOT NULL DEFAULT '[]',
    process INTEGER NOT NULL DEFAULT 0, birth INTEGER NOT NULL DEFAULT 0);
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
CREATE INDEX IF NOT EXISTS open_round ON round (outcome) WHERE outcome = '';
CREATE INDEX IF NOT EXISTS journal_of ON journal (round);
"""
_TABLES = ("slate", "round", "journal", "live", "written", "timing")
_MIGRATIONS = {
    1: (
        "ALTER TABLE slate ADD COLUMN round INTEGER",
        "ALTER TABLE round ADD COLUMN birth INTEGER NOT NULL DEFAULT 0",
    ),
}
"""What brings the form of a version to that of the next one."""


class RoundSummary(Struct, frozen=True, rename={"message": "said"}):
    """A round as its folder remembers it, for the case that the state file is lost; secrets are hidden in it."""

    number: int
    server: str
    kind: str
    by: str
    began: float
    ended: float | None
    outcome: str
    message: str
    changes: list[list[str]]
    evidence: list[str]


def open_books(folder: Path) -> tuple[sqlite3.Connection, list[str]]:
    """Open the state file in a folder; return the connection, and what a person must know of it.

    Raises BooksUnusable where the disk or a lock is in the way, or it is a newer version's.
    """
    try:
        return _opened(folder)
    except sqlite3.OperationalError as error:
        raise BooksUnusable(
            f"The state file {folder / FILE} cannot be used: {error}.",
            "Make room, or end the process that holds it; then try again.",
        ) from error


def _opened(folder: Path) -> tuple[sqlite3.Connection, list[str]]:
    path = folder / FILE
    if not path.exists():
        return _made(path)
    try:
        db = _connected(path)
        remarks = _brought_to_date(db, folder)
    except sqlite3.DatabaseError as error:
        if not is_damage(error):
            raise
        return _rebuilt(path)
    return db, remarks


_LOST = "The state file was not there. The rounds were taken from their folders; what waited on a slate is lost."


def is_damage(error: BaseException) -> bool:
    """Return whether an error says that the file itself is damaged."""
    code = getattr(error, "sqlite_errorcode", 0) & 0xFF
    return isinstance(error, sqlite3.DatabaseError) and code in (sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB)


def _connected(path: Path) -> sqlite3.Connection:
    db = sqlite3.connect(path, timeout=10, isolation_level=None)
    try:
        db.execute("PRAGMA synchronous=FULL")
        # What is deleted from the slate may be a password.
        db.execute("PRAGMA secure_delete=ON")
        found = db.execute("PRAGMA quick_check(1)").fetchone()
        # Damage inside a page shows only when that page is read, which may be in the middle of a round.
        if found != ("ok",):
            raise _damaged(str(found))
    except BaseException:
        db.close()
        raise
    return db


def _damaged(why: str) -> sqlite3.DatabaseError:
    error = sqlite3.DatabaseError(why)
    error.sqlite_errorcode = sqlite3.SQLITE_CORRUPT
    return error


def _brought_to_date(db: sqlite3.Connection, folder: Path) -> list[str]:
    """Bring an older form to today's, and make tables that are missing."""
    (version,) = db.execute("PRAGMA user_version").fetchone()
    if version == VERSION:
        marks = ",".join("?" * len(_TABLES))
        (count,) = db.execute(
            f"SELECT count(*) FROM sqlite_master WHERE type='table' AND name IN ({marks})", _TABLES
        ).fetchone()
        if count == len(_TABLES):
            return []
    if version > VERSION:
        raise BooksUnusable(
            "The state file of this site was made by a newer version of Round Gate.", "Install that version again."
        )
    # The lock before the first read: two processes that migrate at once would both add the column.
    db.execute("BEGIN IMMEDIATE")
    try:
        remarks = _migrated(db, folder)
    except BaseException:
        db.execute("ROLLBACK")
        raise
    db.execute("COMMIT")
    return remarks


def _migrated(db: sqlite3.Connection, folder: Path) -> list[str]:
    (version,) = db.execute("PRAGMA user_version").fetchone()  # another process may have been faster
    there = {name for (name,) in db.execute("SELECT name FROM sqlite_master WHERE type='table'")}
    columns = {
        (table, column)
        for table in there
        for (column,) in db.execute("SELECT name FROM pragma_table_info(?)", (table,))
    }
    for number in range(max(version, 1), VERSION):
        for statement in _MIGRATIONS[number]:
            table, column = statement.split()[2], statement.split()[5]
            if table in there and (table, column) not in columns:
                db.execute(statement)
    for statement in _SCHEMA.split(";"):
        db.execute(statement)
    db.execute(f"PRAGMA user_version={VERSION}")
    lost = sorted(set(_TABLES) - there)
    if not lost or not (_know_again(db, folder) or len(lost) < len(_TABLES)):
        return []
    if len(lost) == len(_TABLES):
        return [_LOST]
    return [f"The state file lacked {', '.join(lost)}; what could be known again was put back."]


def _made(path: Path) -> tuple[sqlite3.Connection, list[str]]:
    """Make the file. Where rounds have been, its absence is a loss, and their numbers go on."""
    os.close(os.open(path, os.O_CREAT | os.O_RDWR | os.O_CLOEXEC, 0o600))
    db = _connected(path)
    return db, _brought_to_date(db, path.parent)


def _rebuilt(path: Path) -> tuple[sqlite3.Connection, list[str]]:
    """Set a damaged file aside and save from it what can be read."""
    from filelock import FileLock

    with FileLock(f"{path}.lock", mode=0o600):
        with suppress(sqlite3.DatabaseError):  # another process may have been faster
            db = _connected(path)
            return db, _brought_to_date(db, path.parent)
        aside = path.with_name(f"{FILE}.damaged-{time.strftime('%Y%m%d-%H%M%S')}")
        # Set aside and never deleted: it may hold what only its owner can tell.
        path.replace(aside)
        for ending in ("-journal", "-wal", "-shm"):
            # SQLite's side files belong to the damaged one: beside the new one they would be taken for its own.
            with suppress(FileNotFoundError):
                Path(f"{path}{ending}").replace(f"{aside}{ending}")
        db, _ = _made(path)
    saved = _salvage(aside, db)
    _know_again(db, path.parent)
    what = f"saved: {saved} entries" if saved else "nothing could be read in it"
    return db, [f"The state file was damaged. It is kept as {aside}; a new one was made ({what})."]


def _salvage(aside: Path, db: sqlite3.Connection) -> int:
    """Copy every row that can still be read; give their number."""
    return sum(_salvage_table(aside, db, table) for table in _TABLES)


def _salvage_table(aside: Path, db: sqlite3.Connection, table: str) -> int:
    """Copy a table's rows, as far as they can be read; give their number."""
    saved = 0
    with suppress(sqlite3.Error):
        # Read-only and reopened for each table: a damaged page must not end the reading of the others.
        with closing(sqlite3.connect(f"file:{aside}?mode=ro", uri=True, isolation_level=None)) as old:
            for row in _readable_rows(old, table):
                # A row that cannot be copied, such as one of an older shape, is worth less than those after it.
                with suppress(sqlite3.Error):
                    saved += _copy_row(db, table, row)
    return saved


def _copy_row(db: sqlite3.Connection, table: str, row: dict[str, Any]) -> int:
    names = [name for name in row if name.isidentifier()]  # what is damaged may have any name for a column
    columns, marks = ", ".join(names), ", ".join("?" * len(names))
    values = [row[name] for name in names]
    return max(db.execute(f"INSERT OR IGNORE INTO {table} ({columns}) VALUES ({marks})", values).rowcount, 0)


def _readable_rows(old: sqlite3.Connection, table: str) -> Iterable[dict[str, Any]]:
    """Yield a table's rows from its beginning up to the damage, and from its end down to it."""
    for order in ("ASC", "DESC"):
        try:
            cursor = old.execute(f"SELECT * FROM {table} ORDER BY rowid {order}")
            names = [column[0] for column in cursor.description]
            for row in cursor:
                yield dict(zip(names, row, strict=True))
        except sqlite3.Error:
            continue


def _know_again(db: sqlite3.Connection, folder: Path) -> bool:
    """Put back the rounds that have a folder and are not in the file; return whether there were any."""
    numbers = [int(path.name) for path in _round_folders(folder)]
    for number in sorted(numbers):
        summary = read_summary(folder / "rounds" / str(number))
        if summary is None:
            continue
        row = (
            number, summary.server, summary.kind, b"{}", summary.by, summary.began, summary.ended,
            summary.outcome or "failed", summary.message, json.encode(summary.changes), json.encode(summary.evidence),
        )  # fmt: skip
        db.execute(
            "INSERT OR IGNORE INTO round (number, server, kind, options, by, began, ended, outcome, said, changes, "
            "evidence) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            row,
        )
    # A number that is given twice would write over the snapshot of another round.
    if numbers:
        highest = max(numbers)
        if not db.execute("UPDATE sqlite_sequence SET seq=max(seq, ?) WHERE name='round'", (highest,)).rowcount:
            db.execute("INSERT INTO sqlite_sequence (name, seq) VALUES ('round', ?)", (highest,))
    return bool(numbers)


def _round_folders(folder: Path) -> list[Path]:
    try:
        return [path for path in (folder / "rounds").iterdir() if path.name.isdecimal() and path.name.isascii()]
    except OSError:
        return []


def read_summary(folder: Path) -> RoundSummary | None:
    """Read the summary in a round's folder; None where there is none, or it makes no sense."""
    try:
        handle = os.open(folder / SUMMARY, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
        return json.decode(read_handle(handle, SUMMARY), type=RoundSummary)
    except (OSError, MsgspecError):
        return None
