"""A backup put back into its server's folder by a round: wholly old or new at any crash, undone where not proven."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from conftest import SiteUnderTest
from faults.test_crashes import INJECT, Trial, quick_site  # noqa: F401 - the fixture
from roundgate.core.rounds import RoundKind
from roundgate.host.rounds.options import Options
from roundgate.host.rounds.process import launch
from sampling import sampled

OLD, NEW = b"the tide of yesterday" * 4000, b"the tide of today" * 5000


def tree(folder: Path) -> dict[str, bytes | str]:
    return {
        path.relative_to(folder).as_posix(): os.readlink(path) if path.is_symlink() else path.read_bytes()
        for path in sorted(folder.rglob("*"))
        if path.is_symlink() or path.is_file()
    }


def fill(home: Path, body: bytes) -> None:
    (home / "saves" / "deep").mkdir(parents=True, exist_ok=True)
    (home / "saves" / "tide.world").write_bytes(body)
    (home / "saves" / "deep" / "chart").write_bytes(body[:9])


@pytest.fixture
def regatta(site: SiteUnderTest) -> SiteUnderTest:
    """A server that runs, with a world; backup 1 holds it as it was before it changed."""
    home = site.add("regatta")
    fill(home, OLD)
    site.ok("start")
    site.ok("backup", "make", "regatta")
    fill(home, NEW)
    (home / "saves" / "new.world").write_bytes(b"made since")
    return site


def leftovers(site: SiteUnderTest) -> list[str]:
    return [path.name for path in (site.folder / "regatta").iterdir() if path.name.startswith(".roundgate")]


def test_the_worlds_are_put_back_and_what_was_there_is_a_backup(regatta: SiteUnderTest) -> None:
    home = regatta.folder / "regatta"
    process = regatta.server_process("regatta")
    before = tree(home / "saves")
    output = regatta.ok("backup", "restore", "1", "--yes", "--reason", "the wrong tide")
    assert "saves  replaces what is there" in output and "regatta is up with what backup 1 holds." in output
    assert "What was there before is backup 2." in output
    assert (home / "saves" / "tide.world").read_bytes() == OLD and not (home / "saves" / "new.world").exists()
    assert regatta.server_process("regatta") not in (None, process) and not leftovers(regatta)
    regatta.ok("backup", "restore", "2", "--to", str(regatta.folder / "kept"))
    kept = tree(regatta.folder / "kept" / "saves")
    assert {name: kept[name] for name in ("tide.world", "deep/chart", "new.world")} == {
        name: before[name] for name in ("tide.world", "deep/chart", "new.world")
    }
    assert "restore" in regatta.ok("rounds") and "backup 1 is unpacked: saves" in regatta.ok("rounds", "show", "2")


def test_single_files_of_a_server_that_is_down(regatta: SiteUnderTest) -> None:
    home = regatta.folder / "regatta"
    regatta.ok("stop")
    output = regatta.ok("backup", "restore", "1", "saves/tide.world", "--yes")
    assert "regatta is down, so nothing is in force" in output
    assert (home / "saves" / "tide.world").read_bytes() == OLD
    assert (home / "saves" / "new.world").exists() and (home / "saves" / "deep" / "chart").read_bytes() == NEW[:9]
    assert not leftovers(regatta)
    assert "has no 'saves/tied.world'" in regatta.fails(2, "backup", "restore", "1", "saves/tied.world", "--yes")


def test_what_is_not_proven_is_swapped_back(regatta: SiteUnderTest) -> None:
    """The backup holds a rotation with which the server does not start."""
    home = regatta.folder / "regatta"
    good = (home / "courses.txt").read_bytes()
    (home / "courses.txt").write_bytes(b"")
    regatta.ok("backup", "make", "regatta", "--whole", "--as-it-runs")
    (home / "courses.txt").write_bytes(good)
    before = {name: data for name, data in tree(home).items() if name.startswith(("saves", "courses", "launch"))}
    output = regatta.fails(3, "backup", "restore", "2", "--yes")
    assert "The files are as they were, regatta is up with them" in output
    after = tree(home)
    assert {name: after[name] for name in before} == before
    assert not leftovers(regatta) and len(regatta.ok("backup", "list").splitlines()) == 3, "nothing new is kept"


def test_a_damaged_archive_and_a_full_disk_stop_nothing(regatta: SiteUnderTest) -> None:
    home = regatta.folder / "regatta"
    process = regatta.server_process("regatta")
    [archive] = (regatta.folder / ".roundgate" / "backups").glob("1-*.tar.zst")
    whole = archive.read_bytes()
    archive.write_bytes(whole[: len(whole) // 2])
    output = regatta.fails(1, "backup", "restore", "1", "--yes")
    assert "The backup cannot be unpacked: " in output and "Nothing was changed." in output
    archive.unlink()
    assert "is not there" in regatta.fails(1, "backup", "restore", "1", "--yes")
    assert regatta.server_process("regatta") == process and not leftovers(regatta)
    assert (home / "saves" / "tide.world").read_bytes() == NEW


def test_a_unit_behind_a_link_is_not_replaced(regatta: SiteUnderTest) -> None:
    home = regatta.folder / "regatta"
    (home / "saves").rename(regatta.folder / "elsewhere")
    (home / "saves").symlink_to(regatta.folder / "elsewhere")
    output = regatta.fails(1, "backup", "restore", "1", "saves/tide.world", "--yes")
    assert "is behind the symbolic link" in output
    assert (regatta.folder / "elsewhere" / "tide.world").read_bytes() == NEW


class RestoreTrial(Trial):
    """A restore of the world under attack."""

    def fill(self) -> None:
        """Bring the world to where the round begins, and the server up."""
        fill(self.home, NEW)
        self.up()

    def restore(self, monkeypatch: pytest.MonkeyPatch, at: int) -> str:
        """Run a round that is ended at act ``at``; return its outcome once it is recovered."""
        from conftest import wait_for
        from roundgate.host.rounds.locking import refuse_broken_off

        monkeypatch.setenv("CRASH_AT", str(at))
        window = launch(self.server, self.store, Options(kind=RoundKind.RESTORE, target=1))
        for _ in window.events():
            pass
        window.close()
        os.waitpid(window.process, 0)
        if not self.was_leased(window.number):
            refuse_broken_off(self.server, self.store)
        wait_for(lambda: self.is_over(window.number), 40)
        row = self.store.round(window.number)
        return row.outcome if row else ""


@pytest.mark.parametrize("part", range(4))
def test_a_crash_at_any_act_leaves_a_world_wholly_old_or_new_and_the_server_up(
    quick_site: SiteUnderTest,  # noqa: F811
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    part: int,
) -> None:
    site = quick_site
    home = site.add("regatta", extra='watch = "0.02s"')
    fill(home, OLD)
    site.ok("backup", "make", "regatta")
    trial = RestoreTrial(site, [])
    monkeypatch.setenv("PYTHONPATH", INJECT)
    monkeypatch.setenv("CRASH_COUNT", str(tmp_path / "count"))
    trial.fill()
    assert trial.restore(monkeypatch, 0) == "proven"
    monkeypatch.delenv("CRASH_COUNT")
    done = (tmp_path / "count").read_text().split("\n")
    begin, end = (done.index(f"journal write {mark}") + 1 for mark in ("begin", "end"))
    first = next(at for at, act in enumerate(done, start=1) if act.startswith("UPDATE round SET process")) + 1
    points = [*range(first, begin, 12), *range(begin, end + 6, 1), *range(end + 6, len(done), 9)]
    outcomes = set()
    for at in sampled(points[part::4], 6):
        trial.fill()
        outcome = trial.restore(monkeypatch, at)
        where = f"act {at} of {len(done)} ({done[at - 1][:60]}), {outcome}"
        is_new = outcome in ("proven", "unread", "done")
        assert trial.driver.state().ready, f"{where}: the server is down"
        body = OLD if is_new else NEW
        assert (home / "saves" / "tide.world").read_bytes() == body, where
        assert (home / "saves" / "deep" / "chart").read_bytes() == body[:9], where
        assert not leftovers(site), where
        outcomes.add(is_new)
    assert outcomes
    trial.close()
