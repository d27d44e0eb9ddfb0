"""The keeper: it owns the server, survives its terminal, restarts a crashed server within limits, and is cheap."""

from __future__ import annotations

import json
import os
import signal
import time

import psutil
import pytest

from conftest import SiteUnderTest, wait_for
from roundgate.host.keeper import child


def status(site: SiteUnderTest) -> dict[str, object]:
    found: dict[str, object] = json.loads(site.ok("status", "regatta", "--json"))["servers"][0]
    return found


def test_a_crashed_server_is_started_again(running: SiteUnderTest) -> None:
    first = running.server_process("regatta")
    assert first is not None
    os.kill(first, signal.SIGKILL)
    wait_for(lambda: running.server_process("regatta") not in (None, first))
    wait_for(lambda: status(running)["state"] == "up")


def test_after_a_few_crashes_the_keeper_gives_up_and_says_so(
    site: SiteUnderTest, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The pauses are shortened in a copy of the keeper's module, for the real ones take a minute."""
    short = site.folder / "short"
    short.mkdir()
    (short / "sitecustomize.py").write_text(
        "import sys\n"
        "if any('roundgate.host.keeper' in word for word in sys.orig_argv):\n"
        "    from roundgate.host.keeper import child\n"
        "    child.PAUSES = (0.05, 0.05)\n"
    )
    assert len(child.PAUSES) > 2
    site.add("regatta", trials="die-after 2\n")
    monkeypatch.setenv("PYTHONPATH", str(short))
    site.ok("start")
    wait_for(lambda: status(site)["state"] == "crashed", 90)
    assert "was given up" in site.ok("status")
    (site.folder / "regatta" / "sea-trials.txt").unlink()
    site.ok("start")
    assert status(site)["state"] == "up"


def test_a_server_that_ends_just_before_its_round_lets_go_is_started_again(running: SiteUnderTest) -> None:
    """While a round holds the server a crash is the round's business; once it lets go, it is the keeper's again."""
    from roundgate.host.drivers.keeper import KeeperDriver
    from roundgate.host.servers import Server
    from roundgate.host.site import read_site

    driver = KeeperDriver(Server(read_site(running.folder), "regatta"))
    driver.lease(99)
    driver.follow()
    first = driver.state().process
    assert first is not None
    os.kill(first, signal.SIGKILL)
    while (event := driver.next_event(None)) and event["event"] != "exit":
        pass
    assert event is not None and event["restart-in"] is None and not driver.state().restarting
    driver.lease(None, up=True)
    assert driver.state().restarting
    driver.close()
    wait_for(lambda: running.server_process("regatta") not in (None, first))


def test_a_server_that_was_stopped_stays_down(running: SiteUnderTest) -> None:
    running.ok("stop")
    assert running.server_process("regatta") is None
    wait_for(lambda: running.keeper_process("regatta") is None)
    assert status(running)["state"] == "down"


def test_a_dead_keeper_is_told_and_its_server_is_left_alone(running: SiteUnderTest) -> None:
    keeper, server = running.keeper_process("regatta"), running.server_process("regatta")
    assert keeper is not None
    os.kill(keeper, signal.SIGKILL)
    wait_for(lambda: running.keeper_process("regatta") is None)
    assert "outside Round Gate" in running.ok("status")
    running.ok("set", "race.slots=24")
    said = running.fails(1, "apply", "--yes")
    assert str(server) in said and "do:" in said
    assert running.value("regatta", "boat.slots") == "16"
    assert server is not None and psutil.pid_exists(server)


def test_the_keeper_is_small_and_idle(running: SiteUnderTest) -> None:
    keeper = psutil.Process(running.keeper_process("regatta"))
    before = sum(keeper.cpu_times()[:2])
    switches = keeper.num_ctx_switches().voluntary
    time.sleep(1.5)
    assert sum(keeper.cpu_times()[:2]) - before < 0.02
    assert keeper.num_ctx_switches().voluntary - switches <= 2, "an idle keeper waits; it does not poll"
    assert keeper.memory_full_info().uss < 15 * 1024 * 1024


def test_the_log_shows_what_the_server_says_and_the_console_takes_lines(running: SiteUnderTest) -> None:
    assert "[harbour radio] hello all" in running.ok("send", "say", "hello all")
    assert "Ready: 0 of 16 boats" in running.ok("log")
    assert running.ok("log", "-n", "1").strip() == "[harbour radio] hello all"
    said = running.ok("console", "regatta", given="status\n")
    assert "0 of 16 boats, tide spring" in said
    assert running.server_process("regatta") is not None


@pytest.mark.parametrize("line", ["say hi\nstop", "say hi\rstop", "say \x1b[2J", "say \x00"])
def test_a_console_line_cannot_smuggle_in_a_second_command(running: SiteUnderTest, line: str) -> None:
    if "\x00" in line:
        return  # the system itself refuses it as an argument
    assert "smuggle" in running.fails(2, "send", "regatta", line)
    assert running.server_process("regatta") is not None
    running.ok("set", "race.slots=24")
    assert "smuggle" in running.fails(1, "apply", "--yes", "--countdown", "1s", "--reason", line)
    assert running.value("regatta", "boat.slots") == "16"


def test_who_comes_and_goes_is_counted(running: SiteUnderTest) -> None:
    running.ok("send", "muster 3")
    assert status(running)["players"] == 3
    running.ok("send", "ashore Wren")
    assert status(running)["players"] == 2


def test_the_log_is_rotated(tmp_path: object, monkeypatch: pytest.MonkeyPatch) -> None:
    from pathlib import Path

    from roundgate.host.keeper import log

    monkeypatch.setattr(log, "LARGEST", 1000)
    path = Path(str(tmp_path)) / "console.log"
    written = log.ConsoleLog(str(path))
    for number in range(200):
        written.write(f"line {number:04}".encode())
    os.close(written.handle)
    files = sorted(one.name for one in path.parent.iterdir())
    assert files == ["console.log", "console.log.1"]
    lines = [line for name in reversed(files) for line in (path.parent / name).read_text().splitlines()]
    assert lines == [f"line {number:04}" for number in range(200)][-len(lines) :]
