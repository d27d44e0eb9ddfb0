"""A server is never down without somebody being told and something trying to bring it back."""

from __future__ import annotations

import os
import signal
import time
from pathlib import Path

import pytest

from background import Background, journal, rounds, status, wait_for_step
from conftest import BOOK, SiteUnderTest, wait_for

INJECT = str(Path(__file__).parent / "inject")


def test_a_server_that_ends_long_after_a_failed_stop_is_started_again(site: SiteUnderTest) -> None:
    home = site.add("regatta", "boat.slots=16\n", trials="stop-seconds 5\n", extra='grace = "0.3s"\nrestart = false')
    site.ok("start")
    first = site.server_process("regatta")
    site.ok("set", "race.slots=24")
    output = site.fails(1, "apply", "--yes")
    assert "does not stop" in output and "started again" in output
    (home / "sea-trials.txt").unlink()
    wait_for(lambda: site.server_process("regatta") not in (None, first))
    wait_for(lambda: status(site)["state"] == "up")
    assert "race.slots: 16 -> 24" in site.ok("slate")
    assert site.value("regatta", "boat.slots") == "16"
    assert "late-stop" in site.ok("rounds") and "long after it was asked to stop" in site.ok("rounds")


def test_after_a_failed_stop_a_crash_is_a_crash(site: SiteUnderTest) -> None:
    site.add("regatta", trials="hang-at-stop\n", extra='grace = "0.3s"')
    site.ok("start")
    first = site.server_process("regatta")
    assert "does not stop" in site.fails(1, "restart")
    assert first is not None and site.server_process("regatta") == first
    os.kill(first, signal.SIGKILL)
    wait_for(lambda: site.server_process("regatta") not in (None, first))


def test_a_stop_that_comes_late_is_still_a_stop(site: SiteUnderTest) -> None:
    site.add("regatta", trials="stop-seconds 5\n", extra='grace = "0.2s"')
    site.ok("start")
    assert "it stays down" in site.fails(1, "stop")
    wait_for(lambda: site.server_process("regatta") is None)
    assert status(site)["state"] == "down"


@pytest.mark.parametrize(
    "act", ["journal gather begin", "UPDATE slate", "journal gather end", "journal announce begin"]
)
def test_a_round_killed_before_or_at_its_beginning_knows_whether_the_server_ran(
    running: SiteUnderTest, act: str
) -> None:
    """Round, keeper, guard and server are killed at once, as by the system; ``recover`` brings the server up."""
    running.ok("set", "race.slots=24")
    done = running.run("apply", "--yes", env={"PYTHONPATH": INJECT, "CRASH_AT": act})
    assert done.returncode != 0
    running.end()
    assert running.server_process("regatta") is None
    running.ok("rounds", "recover")
    wait_for(lambda: status(running)["state"] == "up")
    assert running.value("regatta", "boat.slots") in ("16", "24")


def test_restart_refuses_errors_on_disk_before_the_stop(running: SiteUnderTest) -> None:
    first = running.server_process("regatta")
    (running.folder / "regatta" / "courses.txt").write_text("")
    output = running.fails(1, "restart")
    assert "errors on disk" in output and "--force" in output
    assert running.server_process("regatta") == first


def test_a_rewind_brings_back_what_the_server_had_started_with(running: SiteUnderTest) -> None:
    """The file was broken by hand while the server ran; it would not start with it, whatever the round does."""
    courses = running.folder / "regatta" / "courses.txt"
    before = courses.read_text()
    courses.write_text("")
    output = running.fails(3, "restart", "--force")
    assert "is up with the files that it had last started with" in output, output
    assert courses.read_text() == before and status(running)["state"] == "up"
    number = rounds(running)[0]["round"]
    kept = [line for line in journal(running, number) if "kept as" in line[2]]
    assert any("courses.txt" in words for _, _, words in kept), journal(running, number)
    copy = Path(kept[0][2].split("kept as ")[1])
    assert copy.read_text() == ""


def test_a_server_that_says_at_once_that_it_failed_does_not_cost_the_whole_start(site: SiteUnderTest) -> None:
    (site.folder / "rulebooks").mkdir()
    book = BOOK.replace("failures = [", "failures = ['^World ', ", 1)
    assert book != BOOK
    home = site.add("regatta", extra='start-within = "300s"')
    site.ok("start")
    (site.folder / "rulebooks" / "gullwind.toml").write_text(book)
    (home / "sea-trials.txt").write_text("ready-never\n")
    began = time.monotonic()
    output = site.fails(3, "restart")
    assert "its log says: World" in output
    assert time.monotonic() - began < 150, "it did not wait for the ready sign"


def test_a_crash_and_its_coming_back_are_shown(running: SiteUnderTest) -> None:
    first = running.server_process("regatta")
    assert first is not None
    os.kill(first, signal.SIGKILL)
    wait_for(lambda: running.server_process("regatta") not in (None, first))
    wait_for(lambda: status(running)["state"] == "up")
    output = running.ok("status")
    assert (
        "crashed once in the last day" in output and "by SIGKILL" in output and "its last words: Ready: 0 of" in output
    )
    listed = running.ok("rounds")
    assert "crash" in listed and "up-again" in listed
    assert status(running)["crashes"] == 1


def test_a_waiting_round_is_shown_and_can_be_called_off_from_another_terminal(running: SiteUnderTest) -> None:
    running.ok("set", "race.slots=24")
    work = Background(running, "apply", "--yes", "--countdown", "30d", "--reason", "new boats")
    number = wait_for_step(running, "announce", "note", "The server restarts in")
    output = running.ok("status")
    assert f"round {number} (apply) of" in output and "waits for a countdown of 30d" in output
    assert status(running)["round"] == number
    work.process.kill()  # the terminal is closed; the round goes on
    work.end()
    assert "is asked to end" in running.ok("rounds", "cancel")
    wait_for(lambda: rounds(running)[0]["outcome"] == "called-off")
    assert "The restart is called off." in running.ok("log")
    assert running.value("regatta", "boat.slots") == "16" and "race.slots: 16 -> 24" in running.ok("slate")
    assert "no round is at work" in running.ok("rounds", "cancel")


def test_a_paused_terminal_does_not_hold_up_its_round(site: SiteUnderTest) -> None:
    """What it does not read is kept, up to a limit, and then no longer told; the round goes on to its end."""
    site.add("regatta", "boat.slots=16\n")
    site.ok("start")
    site.ok("set", "race.slots=24")
    work = Background(site, "apply", "--yes", "--countdown", "1s", "--reason", "x" * 200)
    work.process.send_signal(signal.SIGSTOP)
    try:
        fill = Path(f"/proc/{work.process.pid}/stat").read_text()
        assert fill.split(")")[1].split()[0] in "TtRS"
        wait_for(lambda: bool(rounds(site)) and rounds(site)[0]["kind"] in ("apply", "start"))
    finally:
        work.process.send_signal(signal.SIGCONT)
    code, output = work.end()
    assert code == 0 and "proven" in output


def test_one_hung_keeper_or_missing_folder_does_not_hide_the_other_servers(site: SiteUnderTest) -> None:
    for name in ("regatta", "harbour", "nightwatch"):
        site.add(name)
    site.ok("start", "regatta,harbour")
    (site.folder / "nightwatch").rename(site.folder / "elsewhere")
    keeper = site.keeper_process("harbour")
    assert keeper is not None
    os.kill(keeper, signal.SIGSTOP)
    try:
        output = site.ok("status")
    finally:
        os.kill(keeper, signal.SIGCONT)
    rows = {line.split()[0]: line for line in output.splitlines()[1:4]}
    assert " up " in rows["regatta"] and "no answer" in rows["harbour"] and "no folder" in rows["nightwatch"]
    assert "keeper does not answer" in output and "is not there" in output
    checked = site.run("check", "@all").stdout
    assert "nightwatch" in checked and "regatta" in checked
