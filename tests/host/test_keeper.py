"""The keeper: it owns the server, survives its terminal, restarts a crashed server within limits, and is cheap."""

from __future__ import annotations

import contextlib
import json
import os
import resource
import select
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path

import psutil
import pytest

from conftest import SiteUnderTest, change_keepers, wait_for
from roundgate.host.keeper import child
from roundgate.host.keeper.config import socket_address


def status(site: SiteUnderTest) -> dict[str, object]:
    found: dict[str, object] = json.loads(site.ok("status", "regatta", "--json"))["servers"][0]
    return found


def test_a_crashed_server_is_started_again(running: SiteUnderTest) -> None:
    first = running.server_process("regatta")
    assert first is not None
    os.kill(first, signal.SIGKILL)
    wait_for(lambda: running.server_process("regatta") not in (None, first))
    wait_for(lambda: status(running)["state"] == "up")


@pytest.mark.parametrize("words", [["start"], ["restart", "--yes"]])
def test_whoever_reads_what_a_command_prints_is_not_kept_by_the_server(site: SiteUnderTest, words: list[str]) -> None:
    """A pipe ends when nobody has it open any more: neither the keeper, nor its server, nor the round may keep it."""
    site.add("regatta")
    with subprocess.Popen(
        [sys.executable, "-m", "roundgate", *words],
        cwd=site.folder,
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
    ) as call:
        output, _ = call.communicate(timeout=60)
    assert call.returncode == 0 and b"up" in output
    assert status(site)["state"] == "up"


def test_after_a_few_crashes_the_keeper_gives_up_and_says_so(
    site: SiteUnderTest, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The pauses are shortened in a copy of the keeper's module, for the real ones take a minute."""
    change_keepers(site, monkeypatch, PAUSES=(0.05, 0.05))
    assert len(child.PAUSES) > 2
    site.add("regatta")
    site.ok("start")
    killed = None
    for _ in range(3):
        wait_for(lambda: site.server_process("regatta") not in (None, killed))  # noqa: B023 - it is called at once
        wait_for(lambda: status(site)["state"] == "up")
        killed = site.server_process("regatta")
        assert killed is not None
        os.kill(killed, signal.SIGKILL)
    wait_for(lambda: status(site)["state"] == "crashed")
    output = site.ok("status")
    assert "crashed 3 times in the last day" in output and "its last words: " in output
    assert "not restarted any more" in output
    site.ok("start")
    assert status(site)["state"] == "up"


def test_a_crash_long_after_a_stop_that_was_broken_off_is_a_crash(
    site: SiteUnderTest, monkeypatch: pytest.MonkeyPatch
) -> None:
    """How long an end still counts as the stop is shortened in a copy of the keeper's module; it is ten minutes."""
    from roundgate.host.drivers.keeper import KeeperDriver
    from roundgate.host.servers import Server
    from roundgate.host.site import read_site

    change_keepers(site, monkeypatch, LATE_STOP=0.1)
    site.add("regatta")
    site.ok("start")
    first = site.server_process("regatta")
    assert first is not None
    driver = KeeperDriver(Server(read_site(site.folder), "regatta"))
    driver.expect_stop()
    driver.close()  # as when the command is killed
    assert driver.state().runs  # by another connection: the keeper has seen the end of the first one before
    driver.close()
    broken_off = time.monotonic()
    wait_for(lambda: time.monotonic() - broken_off > 0.3)
    os.kill(first, signal.SIGKILL)
    wait_for(lambda: site.server_process("regatta") not in (None, first))


@pytest.mark.parametrize("words", [["restart"], ["apply", "--yes"]])
def test_a_crash_soon_after_a_round_is_a_crash(running: SiteUnderTest, words: list[str]) -> None:
    running.ok("set", "race.slots=24")
    running.ok(*words)
    first = running.server_process("regatta")
    assert first is not None
    os.kill(first, signal.SIGKILL)
    wait_for(lambda: running.server_process("regatta") not in (None, first), 30)


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


@pytest.mark.parametrize("sign", [signal.SIGKILL, signal.SIGTERM, signal.SIGSEGV])
def test_a_keeper_that_dies_is_replaced_at_once_and_the_server_runs_on(
    running: SiteUnderTest, sign: signal.Signals
) -> None:
    running.ok("send", "muster 3")
    first, server = running.keeper_process("regatta"), running.server_process("regatta")
    assert first is not None
    os.kill(first, sign)
    wait_for(lambda: running.keeper_process("regatta") not in (None, first))
    now = status(running)
    assert (now["state"], now["players"], now["process"]) == ("up", 3, server)
    assert "3 of 16 boats" in running.ok("send", "status")
    running.ok("set", "race.slots=24")
    assert "proven" in running.ok("apply", "--yes")


def test_words_that_come_after_the_end_of_a_server_do_not_end_the_keeper(running: SiteUnderTest) -> None:
    """A process that the server left behind may write; the keeper then learns of both at once, the end first."""
    keeper, server = running.keeper_process("regatta"), running.server_process("regatta")
    assert keeper is not None and server is not None
    state = running.folder / ".roundgate" / "servers" / "regatta"
    output = os.open(state / "console.out", os.O_WRONLY)
    try:
        os.kill(keeper, signal.SIGSTOP)
        os.kill(server, signal.SIGKILL)
        wait_for(lambda: psutil.Process(server).status() == psutil.STATUS_ZOMBIE)
        os.write(output, b"a gull cries on\n")
    finally:
        os.close(output)
        os.kill(keeper, signal.SIGCONT)
    wait_for(lambda: running.server_process("regatta") not in (None, server))
    assert running.keeper_process("regatta") == keeper
    assert not (state / "keeper-errors.log").exists()
    assert "a gull cries on" in (state / "console.log").read_text()


def test_the_next_command_takes_over_a_server_whose_keeper_and_guard_are_dead(running: SiteUnderTest) -> None:
    """It says that the server is up, starts no second copy, and talks to its console."""
    running.kill_keeper("regatta", with_guard=True)
    server = running.server_process("regatta")
    now = status(running)
    assert (now["state"], now["process"], now["remarks"]) == ("up", server, [])
    assert "0 of 16 boats" in running.ok("send", "status")
    assert "runs already" in running.ok("start")
    assert running.server_process("regatta") == server
    running.ok("stop")
    assert running.server_process("regatta") is None


def test_a_server_goes_on_talking_while_no_keeper_listens(site: SiteUnderTest) -> None:
    """Without a reader its output would end it; a new keeper hears what it has said meanwhile."""
    home = site.folder / "buoy"
    home.mkdir()
    (home / "buoy.sh").write_text("#!/bin/sh\necho up\nwhile read -r line; do echo heard $line; done\n")
    (home / "buoy.sh").chmod(0o755)
    with (site.folder / "roundgate.toml").open("a") as file:
        file.write('[server.buoy]\nfolder = "buoy"\nstart = ["./buoy.sh"]\nwatch = "0.1s"\n')
    site.ok("start", "buoy")
    site.kill_keeper("buoy", with_guard=True)
    server = site.server_process("buoy")
    with (site.folder / ".roundgate" / "servers" / "buoy" / "console.in").open("w") as console:
        console.write("a line with nobody there\n")
    assert "heard hello" in site.ok("send", "buoy", "hello")
    assert "heard a line with nobody there" in site.ok("log", "buoy")
    assert site.server_process("buoy") == server


def test_a_server_that_died_with_its_keeper_is_brought_back_by_the_next_command(running: SiteUnderTest) -> None:
    first = running.server_process("regatta")
    running.kill_keeper("regatta", with_guard=True)
    assert first is not None
    os.kill(first, signal.SIGKILL)
    wait_for(lambda: running.server_process("regatta") is None)
    assert status(running)["state"] == "restarting"
    wait_for(lambda: running.server_process("regatta") not in (None, first))


def test_a_server_that_was_never_noted_down_is_found_by_its_console(running: SiteUnderTest) -> None:
    """The keeper, and its guard, die between the start of the server and the note of it."""
    running.kill_keeper("regatta", with_guard=True)
    server = running.server_process("regatta")
    (running.folder / ".roundgate" / "servers" / "regatta" / "process.json").unlink()
    assert status(running)["process"] == server
    assert "0 of 16 boats" in running.ok("send", "status")


def test_a_deleted_socket_is_no_dead_keeper(running: SiteUnderTest) -> None:
    keeper, server = running.keeper_process("regatta"), running.server_process("regatta")
    (running.folder / ".roundgate" / "servers" / "regatta" / "keeper.sock").unlink()
    assert status(running)["state"] == "up"
    assert (running.keeper_process("regatta"), running.server_process("regatta")) == (keeper, server)


RUNG_EARLY = """
import os, signal, sys
from roundgate.host.keeper.loop import Keeper
keeper = Keeper(sys.argv[1], 0o77)
os.kill(os.getpid(), signal.SIGHUP)
print("rung", flush=True)
sys.stdin.readline()
keeper.take_over()
keeper.run()
"""


@pytest.mark.parametrize("is_deleted", [False, True])
def test_whoever_calls_a_keeper_that_was_just_asked_to_open_its_socket_is_answered(
    running: SiteUnderTest, is_deleted: bool
) -> None:
    """Two commands at once find a keeper that does not listen yet: one rings, the other calls, and it hears both."""
    running.kill_keeper("regatta", with_guard=True)
    state = running.folder / ".roundgate" / "servers" / "regatta"
    words = [sys.executable, "-c", RUNG_EARLY, str(state)]
    keeper = subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    try:
        assert keeper.stdout is not None and keeper.stdin is not None
        assert keeper.stdout.readline() == "rung\n"
        with socket.socket(socket.AF_UNIX) as link:
            address, handle = socket_address(str(state))
            link.connect(address)
            os.close(handle)
            if is_deleted:
                (state / "keeper.sock").unlink()
            link.sendall(b'{"ask": "state"}\n')
            keeper.stdin.write("\n")
            keeper.stdin.flush()
            link.settimeout(20)
            assert b'"answer"' in link.recv(65536)
        assert status(running)["state"] == "up"
    finally:
        keeper.kill()
        keeper.communicate()


ODD_MESSAGES = [
    b"[]\n",
    b'"state"\n',
    b"7\n",
    b"null\n",
    b'{"ask": "signal", "name": "SIGFOO"}\n',
    b'{"ask": "signal", "name": ["x"]}\n',
    b'{"ask": "signal", "name": "Signals"}\n',
    b'{"ask": "send", "text": "\\ud800"}\n',
    b'{"ask": "\\ud800"}\n',
    b'{"ask": "lease", "round": "x"}\n',
    b'{"ask": "lease", "round": {}}\n',
    b'{"ask": "stopping", "how": []}\n{"ask": "stopping", "how": "failed"}\n',
    b"[" * 100_000 + b"\n",
    b'{"ask": ' * 50_000 + b"\n",
    b"\xff\xfe\x00\n",
    b"x" * 3_000_000,
    b"",
]


def test_nothing_that_a_client_sends_ends_the_keeper(running: SiteUnderTest) -> None:
    keeper = running.keeper_process("regatta")
    for message in ODD_MESSAGES:
        with socket.socket(socket.AF_UNIX) as link:
            address, handle = socket_address(str(running.folder / ".roundgate" / "servers" / "regatta"))
            link.connect(address)
            os.close(handle)
            with contextlib.suppress(OSError):
                link.sendall(message)
        with socket.socket(socket.AF_UNIX) as link:  # it answers the next one
            address, handle = socket_address(str(running.folder / ".roundgate" / "servers" / "regatta"))
            link.settimeout(20)
            link.connect(address)
            os.close(handle)
            link.sendall(b'{"ask": "state"}\n')
            assert b'"process"' in link.recv(65536), message[:80]
    assert status(running)["state"] == "up"
    assert running.keeper_process("regatta") == keeper
    assert "0 of 16 boats" in running.ok("send", "status")


def test_more_connections_than_a_keeper_can_hold_do_not_end_it(
    regatta: SiteUnderTest, monkeypatch: pytest.MonkeyPatch
) -> None:
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (64, hard))
    try:
        regatta.ok("start")
    finally:
        resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))
    keeper = regatta.keeper_process("regatta")
    links = []
    for _ in range(100):
        link = socket.socket(socket.AF_UNIX)
        link.setblocking(False)
        address, handle = socket_address(str(regatta.folder / ".roundgate" / "servers" / "regatta"))
        with contextlib.suppress(OSError):
            link.connect(address)
        os.close(handle)
        links.append(link)
    for link in links:
        link.close()
    wait_for(lambda: status(regatta)["state"] == "up")
    assert regatta.keeper_process("regatta") == keeper


def test_a_log_that_cannot_be_rotated_or_has_no_folder_does_not_end_the_keeper(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from roundgate.host.keeper import log

    monkeypatch.setattr(log, "LARGEST", 100)
    folder = tmp_path / "state"
    folder.mkdir()
    written = log.ConsoleLog(str(folder / "console.log"))
    written.write(b"x" * 50)
    (folder / "console.log").unlink()
    folder.rmdir()
    for _ in range(5):
        written.write(b"y" * 60)
    folder.mkdir()
    written.write(b"back")
    assert (folder / "console.log").read_bytes().endswith(b"back\n")
    os.close(written.handle)


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
    output = running.ok("console", "regatta", given="status\n")
    assert "0 of 16 boats, tide spring" in output
    assert running.server_process("regatta") is not None


@pytest.mark.parametrize(
    "line", ["say hi\nstop", "say hi\rstop", "say \x1b[2J", "say \x00", "say \u202epots", "say a\u200bb", "say \u2066x"]
)
def test_a_console_line_cannot_smuggle_in_a_second_command(running: SiteUnderTest, line: str) -> None:
    if "\x00" in line:
        return  # the system itself refuses it as an argument
    assert "smuggle" in running.fails(2, "send", "regatta", line)
    assert running.server_process("regatta") is not None
    running.ok("set", "race.slots=24")
    assert "smuggle" in running.fails(1, "apply", "--yes", "--countdown", "1s", "--reason", line)
    assert running.value("regatta", "boat.slots") == "16"


def test_a_line_that_a_pipe_would_take_in_parts_is_not_sent(running: SiteUnderTest) -> None:
    longest = "say " + "x" * (select.PIPE_BUF - len("say ") - 1)
    assert "cannot be sent whole" in running.fails(1, "send", "regatta", longest + "y")
    assert "xxx" not in running.ok("log"), "nothing of it may reach the server"
    assert longest[4:] in running.ok("send", "regatta", longest)
    assert "[harbour radio] hello all" in running.ok("send", "say", "hello all")


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


def test_so_many_old_logs_are_kept_and_no_more(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from roundgate.host.keeper import log

    monkeypatch.setattr(log, "LARGEST", 10)
    written = log.ConsoleLog(str(tmp_path / "console.log"))
    for number in range(9):
        written.write(b"line %d is long" % number)
    os.close(written.handle)
    kept = sorted(path.name for path in tmp_path.iterdir())
    assert kept == ["console.log", *(f"console.log.{number}" for number in range(1, log.KEPT + 1))]
    assert (tmp_path / f"console.log.{log.KEPT}").read_bytes() == b"line %d is long\n" % (9 - log.KEPT)


@pytest.mark.parametrize(
    "text", ["say hi\nstop", "say hi\rstop", "say \x1b[2J", "say \x7f", "say \u202epots", "say \ufeff"]
)
def test_the_keeper_itself_takes_one_line_without_controls(running: SiteUnderTest, text: str) -> None:
    with socket.socket(socket.AF_UNIX) as link:
        address, handle = socket_address(str(running.folder / ".roundgate" / "servers" / "regatta"))
        link.settimeout(60)
        link.connect(address)
        os.close(handle)
        link.sendall(json.dumps({"ask": "send", "text": text}).encode() + b"\n")
        assert b"cannot be sent to a console" in link.recv(65536)
    assert "0 of 16 boats" in running.ok("send", "status")
