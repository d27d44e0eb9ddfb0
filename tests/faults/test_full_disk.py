"""A full disk: no file is half written, the server is up again, and the person is told."""

from __future__ import annotations

import contextlib
import json
import os
import resource
import subprocess
import sys
from pathlib import Path

import pytest

from background import Background, status
from conftest import SiteUnderTest, wait_for

LIMIT = 80_000


def test_a_limit_on_what_may_be_written_ends_the_round_and_brings_the_server_up(site: SiteUnderTest) -> None:
    """A real limit by the system: no file of this process may grow beyond it, so a large file cannot be saved."""
    home = site.add("regatta", "boat.slots=16\n" + "".join(f"#pad.{number}={'x' * 60}\n" for number in range(900)))
    site.ok("start")
    site.ok("stop")
    large = home / "courses.txt"
    large.write_text("Harbour Mile\n" + "# tide table\n" * 12_000)
    site.ok("start")
    site.ok("add", "courses", "Lantern Run")
    before = large.read_bytes()
    done = subprocess.run(
        [sys.executable, "-m", "roundgate", "apply", "--yes"],
        cwd=site.folder,
        stdin=subprocess.DEVNULL,
        capture_output=True,
        text=True,
        check=False,
        preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (LIMIT, LIMIT)),
    )
    log = (site.folder / ".roundgate/servers/regatta/round-errors.log").read_text()
    assert done.returncode == 1 and "Traceback" not in done.stdout, done.stdout + done.stderr + log
    assert "is up again as it was" in done.stdout, done.stdout + log
    assert large.read_bytes() == before
    assert site.server_process("regatta") is not None
    assert "+ Lantern Run" in site.ok("slate")
    site.ok("apply", "--yes")


def test_files_that_cannot_be_saved_end_the_round_before_anything_is_written(running: SiteUnderTest) -> None:
    (running.folder / ".roundgate" / "rounds").rename(running.folder / ".roundgate" / "elsewhere")
    (running.folder / ".roundgate" / "rounds").write_text("in the way")
    running.ok("set", "race.slots=24")
    output = running.fails(1, "apply", "--yes")
    assert "could not be saved" in output and "is up again as it was" in output
    assert running.value("regatta", "boat.slots") == "16"
    assert running.server_process("regatta") is not None


@pytest.mark.skipif(os.getuid() != 0, reason="mounting a small disk needs root")
def test_a_disk_that_is_really_full(tmp_path: Path) -> None:
    """The whole site lies on a disk of 1 MB that is filled to the last block while the server runs."""
    disk = tmp_path / "disk"
    disk.mkdir()
    mounted = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=1m", "tmpfs", disk], check=False, capture_output=True)
    if mounted.returncode:
        pytest.skip("this system does not let us mount")
    site = SiteUnderTest(disk)
    try:
        home = site.add("regatta", "boat.slots=16\n")
        site.ok("start")
        site.ok("set", "race.slots=24")
        before = site.text("regatta")
        filler = disk / "filler"
        with filler.open("wb", buffering=0) as file, contextlib.suppress(OSError):
            while True:
                file.write(b"x" * 4096)
        done = site.run("apply", "--yes")
        assert done.returncode not in (0, 3) and "Traceback" not in done.stdout + done.stderr
        assert site.server_process("regatta") is not None, done.stdout + done.stderr
        filler.unlink()
        assert site.value("regatta", "boat.slots") in ("16", None) and before
        site.run("rounds", "recover")
        site.ok("apply", "--yes")
        assert site.value("regatta", "boat.slots") == "24"
        assert not [path for path in home.iterdir() if ".roundgate-" in path.name]
    finally:
        site.end()
        subprocess.run(["umount", "-l", disk], check=False)


def all_ended(site: SiteUnderTest) -> bool:
    """Whether no round is open: one that was interrupted is finished without a command, once the server is up."""
    done = site.run("rounds", "--json")
    return done.returncode == 0 and all(row["outcome"] != "open" for row in json.loads(done.stdout))


@pytest.mark.skipif(os.getuid() != 0, reason="mounting a small disk needs root")
@pytest.mark.parametrize("left", [0, 3, 6])
def test_a_disk_that_fills_during_the_stop(tmp_path: Path, left: int) -> None:
    """So many pages of 4 kB are left. The server may be down while there is no room; then it comes back by itself."""
    disk = tmp_path / "disk"
    disk.mkdir()
    mounted = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=2m", "tmpfs", disk], check=False, capture_output=True)
    if mounted.returncode:
        pytest.skip("this system does not let us mount")
    site = SiteUnderTest(disk)
    try:
        home = site.add("regatta", "boat.slots=16\n", trials="stop-seconds 4\n")
        site.ok("start")
        core = home / "gullwind.properties"
        before = core.read_text()
        site.ok("set", "race.slots=24")
        work = Background(site, "apply", "--yes")
        log = disk / ".roundgate/servers/regatta/console.log"
        wait_for(lambda: "Stopping" in log.read_text())
        filler = disk / "filler"
        with filler.open("wb", buffering=0) as file, contextlib.suppress(OSError):
            while True:
                file.write(b"x" * 4096)
        os.truncate(filler, filler.stat().st_size // 4096 * 4096 - 4096 * left)
        code, output = work.end()
        assert code != 2 and "Traceback" not in output, output
        filler.unlink()
        if not core.read_text():
            core.write_text(before)  # the stand-in itself lost it: it had no room to write it at its stop
        wait_for(lambda: status(site)["state"] == "up" and all_ended(site), 90)
        (home / "sea-trials.txt").unlink()
        if code != 0 or left == 0:
            assert "race.slots" in site.ok("slate")
            assert "proven" in site.ok("apply", "--yes")
        assert site.value("regatta", "boat.slots") == "24"
        assert not [path for path in home.iterdir() if ".roundgate-" in path.name]
    finally:
        site.end()
        subprocess.run(["umount", "-l", disk], check=False)
