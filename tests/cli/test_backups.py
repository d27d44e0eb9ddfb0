"""Backups: made, read again, listed, put elsewhere; and what must not go wrong with them."""

from __future__ import annotations

import fcntl
import io
import json
import os
import resource
import signal
import stat
import subprocess
import sys
import tarfile
import threading
import zipfile
from functools import partial
from pathlib import Path

import psutil
import pytest
import zstandard
from filelock import FileLock

from conftest import SiteUnderTest, is_alive, wait_for, words_of
from roundgate import api
from roundgate.api import Busy
from roundgate.host.backups import making


@pytest.fixture
def regatta(site: SiteUnderTest) -> SiteUnderTest:
    """One server with a world, a link, a pipe, and a link that leads out of its folder."""
    home = site.add("regatta")
    saves = home / "saves"
    (saves / "deep").mkdir(parents=True)
    (saves / "tide.world").write_bytes(bytes(range(256)) * 5000)
    (saves / "deep" / "Größe é.txt").write_text("low water\n")
    (saves / "empty").write_bytes(b"")
    (saves / "run.sh").write_text("#!/bin/sh\n")
    (saves / "run.sh").chmod(0o750)
    (saves / "now").symlink_to("tide.world")
    os.mkfifo(saves / "pipe")
    (site.folder / "outside.txt").write_text("not ours\n")
    (saves / "out").symlink_to(site.folder)
    return site


def listed(site: SiteUnderTest) -> list[dict[str, object]]:
    found: list[dict[str, object]] = json.loads(site.ok("backup", "list", "--json"))
    return found


def contents(folder: Path) -> dict[str, object]:
    return {
        path.relative_to(folder).as_posix(): os.readlink(path) if path.is_symlink() else path.read_bytes()
        for path in sorted(folder.rglob("*"))
        if path.is_symlink() or path.is_file()
    }


@pytest.mark.parametrize("kind", ["tar.zst", "zip"])
def test_worlds_are_saved_read_again_and_put_elsewhere(regatta: SiteUnderTest, kind: str) -> None:
    output = regatta.ok("backup", "make", "regatta", *(["--zip"] if kind == "zip" else []))
    assert (
        "Backup 1 of regatta: 4 files" in output
        and "verified by reading it again" in output
        and "left out: saves/pipe" in output
    )
    (one,) = listed(regatta)
    assert (one["number"], one["what"], one["files"]) == (1, "worlds", 4) and str(one["archive"]).endswith(kind)
    assert stat.S_IMODE(Path(str(one["archive"])).stat().st_mode) == 0o600
    assert "is intact: 4 files" in regatta.ok("backup", "check", "1")
    assert "left out: saves/out -> " in output, "it leads out of the folder"
    regatta.ok("backup", "make", "regatta", *(["--zip"] if kind == "zip" else []))
    regatta.ok("backup", "restore", "2", "--to", "again")
    again, saves = regatta.folder / "again" / "saves", regatta.folder / "regatta" / "saves"
    (saves / "pipe").unlink()
    (saves / "out").unlink()
    assert contents(again) == contents(saves)
    assert stat.S_IMODE((again / "run.sh").stat().st_mode) == 0o750
    assert abs((again / "tide.world").stat().st_mtime - (saves / "tide.world").stat().st_mtime) < 0.01
    regatta.ok("backup", "restore", "2", "saves/deep", "--to", "part")
    assert [path.name for path in (regatta.folder / "part").rglob("*") if path.is_file()] == ["Größe é.txt"]
    assert "already exists and is not empty" in regatta.fails(2, "backup", "restore", "2", "--to", "again")
    assert "has no 'saves/none'" in regatta.fails(2, "backup", "restore", "2", "saves/none", "--to", "other")


def test_the_whole_folder_is_saved_without_the_backups_themselves(regatta: SiteUnderTest) -> None:
    file = regatta.folder / "roundgate.toml"
    file.write_text(file.read_text() + '\n[backup]\nkeep = 2\nfolder = "regatta/kept"\n')
    for _ in range(4):
        output = regatta.ok("backup", "make", "regatta", "--whole")
    assert "deleted as the site file says: backup 2" in output
    assert [item["number"] for item in listed(regatta)] == [4, 3]
    regatta.ok("backup", "restore", "4", "--to", "again")
    names = set(contents(regatta.folder / "again"))
    assert "gullwind.properties" in names and "saves/tide.world" in names and not any("kept" in name for name in names)


def test_old_backups_go_and_the_newest_stays(regatta: SiteUnderTest) -> None:
    regatta.ok("backup", "make", "regatta")
    regatta.ok("backup", "make", "regatta")
    for path in (regatta.folder / ".roundgate" / "backups").glob("*.json"):
        found = json.loads(path.read_text())
        path.write_text(json.dumps({**found, "made": found["made"] - 40 * 24 * 3600}))
    file = regatta.folder / "roundgate.toml"
    file.write_text(file.read_text() + "\n[backup]\ndays = 30\n")
    regatta.ok("backup", "make", "regatta")
    assert [item["number"] for item in listed(regatta)] == [3]


def test_a_running_server_saves_first_and_its_console_is_asked(regatta: SiteUnderTest) -> None:
    regatta.ok("start")
    regatta.ok("backup", "make", "regatta")
    regatta.ok("backup", "restore", "1", "saves/saved.txt", "--to", "again")
    assert (regatta.folder / "again" / "saves" / "saved.txt").read_text() == "0 aboard\n", "it was told to save"
    book = regatta.folder / "rulebooks"
    book.mkdir()
    (book / "quay.toml").write_text('[rulebook]\nname = "quay"\nlayers = ["gullwind"]\n[server]\nhold = []\n')
    file = regatta.folder / "roundgate.toml"
    file.write_text(file.read_text().replace('rulebook = "gullwind"', 'rulebook = "quay"'))
    output = regatta.fails(1, "backup", "make", "regatta")
    assert "has no way to hold its saving" in output and "--as-it-runs" in output
    output = regatta.ok("backup", "make", "regatta", "--as-it-runs")
    assert "goes on saving" in output or listed(regatta)[0]["held"] is False
    assert [item["number"] for item in listed(regatta)] == [2, 1]


def test_a_server_that_does_not_answer_is_not_saved(regatta: SiteUnderTest) -> None:
    book = regatta.folder / "rulebooks"
    book.mkdir()
    hold = '[[server.hold]]\nsend = "save"\nmatch = "^never$"\n'
    (book / "quay.toml").write_text(f'[rulebook]\nname = "quay"\nlayers = ["gullwind"]\n{hold}')
    file = regatta.folder / "roundgate.toml"
    file.write_text(file.read_text().replace('rulebook = "gullwind"', 'rulebook = "quay"'))
    regatta.ok("start")
    assert "did not answer 'save' as its rulebook says" in regatta.fails(1, "backup", "make", "regatta")
    assert listed(regatta) == []


_HOLD = '[[server.hold]]\nsend = "pause on"\nmatch = "^pause is on"\n'
_RESUME = '[[server.resume]]\nsend = "pause off"\nmatch = "^pause is off"\n'


def _with_hold(site: SiteUnderTest, steps: str) -> SiteUnderTest:
    """Let the server's rulebook hold its saving by these steps; start it."""
    (site.folder / "rulebooks").mkdir()
    (site.folder / "rulebooks" / "quay.toml").write_text(f'[rulebook]\nname = "quay"\nlayers = ["gullwind"]\n{steps}')
    file = site.folder / "roundgate.toml"
    file.write_text(file.read_text().replace('rulebook = "gullwind"', 'rulebook = "quay"'))
    site.ok("start")
    return site


def test_a_server_saves_again_also_where_its_answer_to_the_hold_was_not_understood(regatta: SiteUnderTest) -> None:
    site = _with_hold(regatta, _HOLD + '[[server.hold]]\nsend = "save"\nmatch = "^never$"\n' + _RESUME)
    assert "did not answer 'save' as its rulebook says" in site.fails(1, "backup", "make", "regatta")
    assert listed(site) == []
    assert "pause is off" in site.ok("send", "regatta", "pause")


@pytest.mark.parametrize("sign", [signal.SIGTERM, signal.SIGHUP, signal.SIGINT])
def test_a_server_saves_again_where_its_backup_is_ended_by_a_signal(
    regatta: SiteUnderTest, sign: signal.Signals
) -> None:
    site = _with_hold(regatta, _HOLD + '[[server.hold]]\nsend = "status"\n' * 20 + _RESUME)
    words = [sys.executable, "-m", "roundgate", "--site", str(site.folder), "backup", "make", "regatta"]
    backup = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    wait_for(lambda: "pause is on" in site.ok("log", "regatta"), 30)
    backup.send_signal(sign)
    output, _ = backup.communicate(timeout=30)
    assert backup.returncode == 128 + sign, output
    assert "Traceback" not in output
    assert listed(site) == []
    assert "pause is off" in site.ok("send", "regatta", "pause")


def test_a_backup_that_has_waited_for_too_long_ends_and_the_next_one_is_made(
    regatta: SiteUnderTest, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(making, "_TURN_WITHIN", 0.3)  # six hours
    with api.open_site(regatta.folder) as opened:
        waited: list[str] = []
        with making.turn(opened.site), open(regatta.folder / ".roundgate" / "backups" / ".lock") as other:
            with pytest.raises(BlockingIOError):
                fcntl.flock(other, fcntl.LOCK_EX | fcntl.LOCK_NB)
        with open(regatta.folder / ".roundgate" / "backups" / ".lock") as other:
            fcntl.flock(other, fcntl.LOCK_EX | fcntl.LOCK_NB)
            with (
                pytest.raises(Busy, match="at work for hours") as found,
                making.turn(opened.site, partial(waited.append, "once")),
            ):
                pytest.fail("it had the turn")
        assert str(found.value.do).startswith("roundgate backup list") and waited == ["once"]
        with making.turn(opened.site, partial(waited.append, "twice")):
            assert waited == ["once"]
    regatta.ok("backup", "make", "regatta")


_LONG_HOLD = _HOLD + '[[server.hold]]\nsend = "status"\n' * 40 + _RESUME
"""A hold that goes on for many seconds after the server has begun to hold its saving."""


def _begin_to_hold(site: SiteUnderTest) -> subprocess.Popen[str]:
    """Begin a backup; return its process once the server holds its saving."""
    words = [sys.executable, "-m", "roundgate", "--site", str(site.folder), "backup", "make", "regatta"]
    backup = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    wait_for(lambda: "pause is on" in site.ok("log", "regatta"), 30)
    return backup


@pytest.mark.parametrize("is_stopped", [False, True])
def test_a_server_saves_again_where_its_backup_is_killed(regatta: SiteUnderTest, is_stopped: bool) -> None:
    site = _with_hold(regatta, _LONG_HOLD)
    backup = _begin_to_hold(site)
    (watch,) = [
        child for child in psutil.Process(backup.pid).children() if "roundgate.host.backups.watch" in words_of(child)
    ]
    if is_stopped:
        watch.suspend()  # until the server is down and up again: then there is nothing to resume
    backup.kill()
    backup.communicate(timeout=30)
    log = site.folder / ".roundgate" / "servers" / "regatta" / "round-errors.log"
    if is_stopped:
        site.ok("stop", "regatta")
        watch.resume()
        wait_for(lambda: not is_alive(watch), 30)
        assert "was killed" not in (log.read_text() if log.exists() else "")
        return
    wait_for(lambda: log.exists() and "regatta was killed. The server was asked to save again" in log.read_text())
    assert "pause is off" in site.ok("send", "regatta", "pause")
    assert site.ok("backup", "make", "regatta") and len(listed(site)) == 1


def test_a_second_backup_does_not_end_the_hold_of_the_first(regatta: SiteUnderTest) -> None:
    site = _with_hold(regatta, _LONG_HOLD)
    first = _begin_to_hold(site)
    call = [sys.executable, "-m", "roundgate", "backup", "make", "regatta"]
    second = subprocess.Popen(call, cwd=site.folder, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    assert second.stderr is not None and b"this one waits for it" in second.stderr.readline()
    assert first.poll() is None, "or the second did not wait for the first"
    assert "pause is on" in site.ok("send", "regatta", "pause")
    output, _ = first.communicate(timeout=60)
    assert first.returncode == 0, output
    second.communicate(timeout=100)
    assert second.returncode == 0 and len(listed(site)) == 2
    log = site.folder / ".roundgate" / "servers" / "regatta" / "round-errors.log"
    assert not log.exists() or "was killed" not in log.read_text()
    assert "pause is off" in site.ok("send", "regatta", "pause")


def test_a_server_that_may_hold_its_saving_still_is_told(regatta: SiteUnderTest) -> None:
    site = _with_hold(regatta, _HOLD + _RESUME.replace("is off", "is over"))
    output = site.fails(1, "backup", "make", "regatta")
    assert "may still be paused: it did not answer 'pause off'" in output
    assert "roundgate send regatta pause off" in output
    assert [backup["number"] for backup in listed(site)] == [1]


@pytest.mark.parametrize("kind", ["tar.zst", "zip"])
@pytest.mark.parametrize("damage", ["bit", "cut", "gone", "noise"])
def test_a_damaged_archive_is_told_and_not_restored(regatta: SiteUnderTest, kind: str, damage: str) -> None:
    regatta.ok("backup", "make", "regatta", *(["--zip"] if kind == "zip" else []))
    path = Path(str(listed(regatta)[0]["archive"]))
    data = bytearray(path.read_bytes())
    if damage == "bit":
        data[len(data) // 3] ^= 0x10
    elif damage == "cut":
        del data[len(data) // 2 :]
    elif damage == "noise":
        data = bytearray(os.urandom(5000))
    path.write_bytes(data)
    if damage == "gone":
        path.unlink()
        assert listed(regatta)[0]["packed"] is None
    done = regatta.run("backup", "check", "1")
    assert done.returncode == 1 and ("damaged" in done.stdout + done.stderr or "not there" in done.stderr)
    assert "Traceback" not in done.stderr and "unexpected" not in done.stderr
    done = regatta.run("backup", "restore", "1", "--to", "again")
    assert done.returncode == 1 and "unexpected" not in done.stderr
    assert not (regatta.folder / "again").exists() and not list(regatta.folder.glob(".again*"))


OUTSIDE = ["../evil.txt", "/tmp/evil.txt", "saves/../../evil.txt", "saves\\..\\evil.txt"]


@pytest.mark.parametrize("kind", ["tar.zst", "zip"])
@pytest.mark.parametrize("name", [*OUTSIDE, "link", "device"])
def test_a_member_that_leads_outside_is_refused(regatta: SiteUnderTest, kind: str, name: str) -> None:
    """Somebody has made the archive again, with its manifest as it was."""
    regatta.ok("backup", "make", "regatta", *(["--zip"] if kind == "zip" else []))
    path = Path(str(listed(regatta)[0]["archive"]))
    if kind == "zip":
        with zipfile.ZipFile(path, "w") as packed:
            info = zipfile.ZipInfo(name if name in OUTSIDE else "saves/x")
            mode = stat.S_IFLNK if name == "link" else stat.S_IFCHR if name == "device" else stat.S_IFREG
            info.external_attr = (mode | 0o644) << 16
            packed.writestr(info, "/etc/passwd" if name == "link" else "evil")
    else:
        raw = io.BytesIO()
        with tarfile.open(fileobj=raw, mode="w") as archive:
            member = tarfile.TarInfo(name if name in OUTSIDE else "saves/x")
            member.type = {"link": tarfile.SYMTYPE, "device": tarfile.CHRTYPE}.get(name, tarfile.REGTYPE)
            member.linkname = "/etc/passwd" if name == "link" else ""
            member.size = 4 if name in OUTSIDE else 0
            archive.addfile(member, io.BytesIO(b"evil"))
        path.write_bytes(zstandard.compress(raw.getvalue()))
    done = regatta.run("backup", "restore", "1", "--to", "again")
    why = "not an ordinary file" if name == "device" else "leads out of the folder"
    assert done.returncode == 1 and why in done.stderr and "Nothing was restored." in done.stderr
    assert not (regatta.folder / "again").exists() and not (regatta.folder / "evil.txt").exists()
    assert not Path("/tmp/evil.txt").exists()
    assert regatta.run("backup", "check", "1").returncode == 1


def test_a_full_disk_leaves_no_half_backup(regatta: SiteUnderTest) -> None:
    """A real limit by the system: no file of this process may grow beyond it."""
    (regatta.folder / "regatta" / "saves" / "tide.world").write_bytes(os.urandom(1_000_000))
    done = subprocess.run(
        [sys.executable, "-m", "roundgate", "backup", "make", "regatta"],
        cwd=regatta.folder,
        stdin=subprocess.DEVNULL,
        capture_output=True,
        text=True,
        check=False,
        preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (200_000, 200_000)),
    )
    output = done.stdout + done.stderr
    assert done.returncode == 1 and "disk is full, or a limit is reached" in output and "unexpected" not in output
    assert listed(regatta) == []
    assert not list((regatta.folder / ".roundgate" / "backups").glob("*.zst"))
    regatta.ok("backup", "make", "regatta")


def test_two_backups_at_once(regatta: SiteUnderTest) -> None:
    folder = regatta.folder / ".roundgate" / "backups"
    folder.mkdir(parents=True, exist_ok=True)
    with FileLock(str(folder / ".lock")):
        second = subprocess.Popen(
            [sys.executable, "-m", "roundgate", "backup", "make", "regatta"], cwd=regatta.folder, stderr=subprocess.PIPE
        )
        assert second.stderr is not None and b"this one waits for it" in second.stderr.readline()
        assert second.poll() is None and not listed(regatta)
    assert second.communicate(timeout=60)[1] == b"" and second.returncode == 0
    assert len(listed(regatta)) == 1


def test_no_backup_gets_the_number_of_an_archive_whose_manifest_is_gone(regatta: SiteUnderTest) -> None:
    regatta.ok("backup", "make", "regatta")
    regatta.ok("backup", "make", "regatta")
    archive = Path(str(listed(regatta)[0]["archive"]))
    before = archive.read_bytes()
    next(archive.parent.glob("2-*.json")).unlink()
    assert "Backup 3 of regatta" in regatta.ok("backup", "make", "regatta")
    assert archive.read_bytes() == before


def test_the_timetables_backups_of_several_servers_at_one_moment_are_all_made(site: SiteUnderTest) -> None:
    for name in ("regatta", "harbour", "nightwatch"):
        (site.add(name) / "saves").mkdir()
        (site.folder / name / "saves" / "tide.world").write_bytes(os.urandom(2_000_000))
    calls = [
        subprocess.Popen(
            [sys.executable, "-m", "roundgate", "backup", "make", name], cwd=site.folder, stdout=subprocess.DEVNULL
        )
        for name in site.names
    ]
    assert [call.wait(timeout=100) for call in calls] == [0, 0, 0]
    assert sorted(str(backup["server"]) for backup in listed(site)) == sorted(site.names)


def test_a_file_that_changes_all_the_time_is_not_saved_as_a_mixture(regatta: SiteUnderTest) -> None:
    path, over = regatta.folder / "regatta" / "saves" / "tide.world", threading.Event()

    def write() -> None:
        number = 0
        while not over.is_set():
            number += 1
            path.write_bytes(bytes([number % 256]) * 3_000_000)

    writer = threading.Thread(target=write)
    writer.start()
    try:
        done = regatta.run("backup", "make", "regatta")
    finally:
        over.set()
        writer.join()
    if done.returncode:
        output = done.stdout + done.stderr
        assert "changes all the time" in output or "changed while it was saved" in output or "nothing to save" in output
        assert not list((regatta.folder / ".roundgate" / "backups").glob("*.zst"))
    else:
        assert regatta.run("backup", "check", "1").returncode == 0


def test_wrong_words_about_backups(regatta: SiteUnderTest) -> None:
    assert "There are no backups." in regatta.ok("backup", "list")
    assert "There is no backup 7" in regatta.fails(1, "backup", "check", "7")
    assert "not a valid int" in regatta.fails(2, "backup", "check", "x")
    regatta.ok("backup", "make", "regatta")
    assert "This needs a confirmation" in regatta.fails(2, "backup", "restore", "1"), "into place, by a round"
    assert "No such option: --to" in regatta.fails(2, "backup", "make", "regatta", "--to", "x")
    (manifest,) = (regatta.folder / ".roundgate" / "backups").glob("*.json")
    manifest.write_text("{")
    assert "The manifest of backup 1 is damaged" in regatta.fails(1, "backup", "check", "1")
