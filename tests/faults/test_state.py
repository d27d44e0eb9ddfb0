"""The state file damaged, lost or old; somebody else's state folder; rounds beyond a thousand."""

from __future__ import annotations

import os
import sqlite3
import subprocess
import sys
from pathlib import Path

import pytest

import roundgate
from background import rounds, status
from conftest import SiteUnderTest
from roundgate.host.books import VERSION
from roundgate.host.store import Store

DAMAGES = ["cut", "garbled", "text", "empty", "header"]


def state_file(site: SiteUnderTest) -> Path:
    return site.folder / ".roundgate" / "state.sqlite"


def damage(path: Path, how: str) -> None:
    data = bytearray(path.read_bytes())
    if how == "cut":
        data = data[: len(data) // 2]
    elif how == "garbled":
        data[4096:] = os.urandom(len(data) - 4096)
    elif how == "text":
        data = bytearray(b"this is not a database, and long enough to be seen as none\n" * 200)
    elif how == "empty":
        data = bytearray()
    else:
        data[:100] = bytes(100)
    path.write_bytes(data)


@pytest.mark.parametrize("how", DAMAGES)
def test_a_damaged_state_file_is_set_aside_and_the_server_can_be_stopped(running: SiteUnderTest, how: str) -> None:
    running.ok("set", "race.slots=24")
    running.ok("apply", "--yes")
    damage(state_file(running), how)
    done = running.run("status")
    assert done.returncode == 0 and "unexpected" not in done.stderr
    if how != "empty":  # an empty file is what a new one is before its first table
        assert "damaged" in done.stderr and list(state_file(running).parent.glob("state.sqlite.damaged-*"))
    known = [row["round"] for row in rounds(running)]
    assert {1, 2} <= set(known), "the rounds' own folders remember them"
    running.ok("stop")
    running.ok("start")
    assert rounds(running)[0]["round"] == max(known) + 2, "numbers go on"


def test_a_lost_state_file_is_told_and_round_numbers_go_on(running: SiteUnderTest) -> None:
    running.ok("set", "race.slots=24")
    running.ok("apply", "--yes")
    state_file(running).unlink()
    done = running.run("status")
    assert "was not there" in done.stderr and "slate is lost" in done.stderr
    assert "was not there" not in running.run("status").stderr, "it is said once"
    running.ok("restart")
    assert rounds(running)[0]["round"] == 3


def test_a_missing_table_is_made_again(running: SiteUnderTest) -> None:
    for table in ("slate", "round", "journal", "live", "written", "timing"):
        with sqlite3.connect(state_file(running)) as db:
            db.execute(f"DROP TABLE {table}")
        db.close()
        assert f"lacked {table}" in running.run("status").stderr
    running.ok("set", "race.slots=24")
    assert "proven" in running.ok("apply", "--yes")
    running.ok("stop")


def test_the_form_of_an_older_version_is_brought_to_todays(running: SiteUnderTest) -> None:
    running.ok("set", "race.slots=24")
    with sqlite3.connect(state_file(running)) as db:
        for table, column in (("slate", "round"), ("round", "birth")):
            db.execute(f"ALTER TABLE {table} DROP COLUMN {column}")
        db.execute("PRAGMA user_version=0")
    db.close()
    done = running.run("slate")
    assert "race.slots: 16 -> 24" in done.stdout and done.stderr == ""
    assert "proven" in running.ok("apply", "--yes")


def test_the_form_of_a_newer_version_is_left_alone(running: SiteUnderTest) -> None:
    with sqlite3.connect(state_file(running)) as db:
        db.execute(f"PRAGMA user_version={VERSION + 1}")
    db.close()
    before = state_file(running).read_bytes()
    assert "newer version" in running.fails(1, "slate")
    assert state_file(running).read_bytes() == before
    running.ok("stop")
    assert running.server_process("regatta") is None, "a server's life does not hang on the state file"


def test_an_entry_that_cannot_be_read_does_not_keep_the_server_from_being_stopped(running: SiteUnderTest) -> None:
    running.ok("set", "race.slots=24")
    with sqlite3.connect(state_file(running)) as db:
        row = ("regatta", b'{"type":"from-the-future","file":"x"}', 1.0, "wren")
        db.execute("INSERT INTO slate (server, operation, at, by) VALUES (?, ?, ?, ?)", row)
        db.execute("INSERT INTO slate (server, operation, at, by) VALUES (?, ?, ?, ?)", ("regatta", b"\xff", 1.0, "w"))
    db.close()
    assert "2 entries on its slate cannot be read" in running.ok("status")
    running.ok("restart")
    assert "proven" in running.ok("apply", "--yes")
    assert "2 taken off the slate, 0 left" in running.ok("discard", "regatta")


def test_rounds_beyond_a_thousand_are_found(regatta: SiteUnderTest) -> None:
    store = Store(regatta.folder / ".roundgate")
    first = store.open_round("regatta", "apply", b"{}", "wren")
    with store.whole():
        for _ in range(1500):
            number = store.open_round("regatta", "restart", b"{}", "wren")
            store.close_round(number, "done", "up")
    assert store.round(first) is not None and store.round(1501) is not None
    assert [row.number for row in store.open_rounds("regatta")] == [first]
    store.close()
    assert "Round 1 " in regatta.ok("rounds", "show", "1")


def test_a_disk_without_room_or_a_state_that_is_write_protected_does_not_keep_a_server_from_being_stopped(
    running: SiteUnderTest,
) -> None:
    """The books cannot be written at all; the server is stopped and started without them, and that is said."""
    path = state_file(running)
    db = sqlite3.connect(path, isolation_level=None)
    db.execute("BEGIN EXCLUSIVE")  # nobody else can read or write it
    try:
        done = running.run("stop")
        assert done.returncode == 0 and "without the books" in done.stdout + done.stderr, done.stdout + done.stderr
        assert running.server_process("regatta") is None
        running.ok("start")
        assert running.server_process("regatta") is not None
    finally:
        db.rollback()
        db.close()
    assert status(running)["state"] == "up"


def others_can_run() -> bool:
    """Return whether another user could run the interpreter and the package of these tests."""
    for path in (Path(sys.executable).resolve(), Path(sys.executable), Path(roundgate.__file__)):
        if any(not folder.stat().st_mode & 0o005 for folder in path.parents):
            return False
    return True


root = pytest.mark.skipif(os.getuid() != 0, reason="only root can be somebody else")
runs = pytest.mark.skipif(not others_can_run(), reason="another user cannot read this installation")


def as_user(site: SiteUnderTest, user: int, *words: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-m", "roundgate", *words],
        cwd=site.folder, stdin=subprocess.DEVNULL, capture_output=True, text=True, check=False,
        user=user, group=user, extra_groups=[], env={**os.environ, "HOME": "/tmp", "XDG_STATE_HOME": "/tmp/nobody"},
    )  # fmt: skip


def open_to_all(path: Path) -> None:
    for folder in (path, *path.parents):
        if folder != Path("/") and folder.stat().st_uid == 0:
            folder.chmod(folder.stat().st_mode | 0o055)


@root
@runs
def test_another_users_commands_end_in_one_clear_message(running: SiteUnderTest) -> None:
    open_to_all(running.folder)
    running.ok("set", "race.slots=24")
    (running.folder / ".roundgate").chmod(0o700)
    for words in (["status"], ["show"], ["set", "race.slots=20"], ["apply", "--yes"], ["stop"], ["log"], ["rounds"]):
        done = as_user(running, 65534, *words)
        assert done.returncode == 1 and "belongs to root" in done.stderr, (words, done.stderr)
        assert "unexpected" not in done.stderr


@root
def test_a_state_folder_of_another_user_is_not_believed(regatta: SiteUnderTest) -> None:
    """Whoever could write its orders could have commands run by root."""
    state = regatta.folder / ".roundgate"
    state.mkdir(mode=0o777)
    os.chown(state, 65534, 65534)
    assert "belongs to nobody" in regatta.fails(1, "start")
    os.chown(state, 0, 0)
    state.chmod(0o777)
    assert "Others can write" in regatta.fails(1, "status")
    state.rmdir()
    state.symlink_to("/tmp")
    assert "was not made by Round Gate" in regatta.fails(1, "status")


@root
@runs
def test_a_look_by_root_does_not_lock_the_owner_out(regatta: SiteUnderTest) -> None:
    open_to_all(regatta.folder.parent)
    for path in (regatta.folder, *regatta.folder.rglob("*")):
        os.chown(path, 65534, 65534)
    regatta.ok("status")
    regatta.ok("set", "race.slots=24")
    for path in (regatta.folder / ".roundgate").rglob("*"):
        assert path.lstat().st_uid == 65534, path
    done = as_user(regatta, 65534, "slate")
    assert done.returncode == 0 and "race.slots: 16 -> 24" in done.stdout, done.stderr
