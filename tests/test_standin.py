"""The stand-in is as nasty as it should be: each habit that the rounds must cope with, seen on the program itself."""

from __future__ import annotations

import contextlib
import json
import socket
import subprocess
import sys
import urllib.request
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import free_port


class Standin:
    """One run of the stand-in in a folder."""

    def __init__(self, folder: Path, *words: str) -> None:
        self.folder = folder
        command = [sys.executable, "-m", "gullwind_standin.main", "--folder", str(folder), *words]
        self.process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
        self.lines: list[str] = []
        RUNNING.append(self)

    def until(self, words: str) -> str:
        """Read its lines until one holds the words; an empty text when it ends before."""
        assert self.process.stdout is not None
        for line in self.process.stdout:
            self.lines.append(line.rstrip("\n"))
            if words in line:
                return self.lines[-1]
        return ""

    def say(self, line: str) -> None:
        assert self.process.stdin is not None
        self.process.stdin.write(line + "\n")
        self.process.stdin.flush()

    def end(self) -> int:
        """Stop it, if need be, and return its exit code."""
        assert self.process.stdin is not None and self.process.stdout is not None
        with contextlib.suppress(BrokenPipeError):  # it may be about to end by itself
            if self.process.poll() is None:
                self.say("stop")
        code = self.process.wait(20)
        with contextlib.suppress(BrokenPipeError):  # the line that it did not take is still to be written
            self.process.stdin.close()
        self.lines += self.process.stdout.read().splitlines()
        self.process.stdout.close()
        return code

    def kill(self) -> None:
        """End it whatever it does, so that nothing of a failed test is left for the next one."""
        self.process.kill()
        self.process.wait()
        for stream in (self.process.stdin, self.process.stdout):
            with contextlib.suppress(BrokenPipeError):
                assert stream is not None
                stream.close()


RUNNING: list[Standin] = []


@pytest.fixture
def folder(tmp_path: Path) -> Iterator[Path]:
    (tmp_path / "gullwind.properties").write_text(f"net.port={free_port()}\nboat.slots=16\n")
    yield tmp_path
    for standin in RUNNING:
        standin.kill()
    RUNNING.clear()


def value(standin: Standin, key: str) -> str:
    standin.say(f"value {key}")
    return standin.until(f"{key} is").partition(" is ")[2]


def add(folder: Path, text: str) -> None:
    with (folder / "gullwind.properties").open("a") as file:
        file.write(text)


def test_it_makes_missing_files_at_its_first_run_and_rewrites_its_file_when_it_stops(folder: Path) -> None:
    add(folder, "# a comment\nno.such.key=1\n")
    standin = Standin(folder)
    assert standin.until("Ready") == "Ready: 0 of 16 boats"
    assert (folder / "courses.txt").read_text().splitlines()[0] == "Harbour Mile"
    add(folder, "boat.slots=20\n")
    assert standin.end() == 0
    text = (folder / "gullwind.properties").read_text()
    assert "boat.slots=16\n" in text, "an edit made while it runs is lost"
    assert "\n#" not in text and "no.such.key" not in text
    first = (folder / "logs" / "latest.log").read_text().splitlines()[0]
    assert first.partition("] ")[2].startswith("Gullwind server ")


@pytest.mark.parametrize(
    ("line", "key", "taken"),
    [
        ("gusts=yes", "gusts", "true"),
        ("gusts=FALSE", "gusts", "true"),
        ("gust.limit=99", "gust.limit", "40"),
        ("laps.count=0", "laps.count", "1"),
        ("laps.count=many", "laps.count", "3"),
        ("language=klingon", "language", "en"),
        ("server.motto=caf\\u00e9 \\\n  au lait", "server.motto", "caf\u00e9 au lait"),
        ("heat.size : 6", "heat.size", "6"),
        ("heat.size=4\nheat.size=5", "heat.size", "5"),
    ],
)
def test_bad_values_are_dropped_or_clamped_without_a_word(folder: Path, line: str, key: str, taken: str) -> None:
    add(folder, line + "\n")
    standin = Standin(folder)
    standin.until("Ready")
    assert value(standin, key) == taken
    assert standin.end() == 0
    assert not [one for one in standin.lines if "warn" in one.lower() or "error" in one.lower()]


def test_a_port_beyond_the_last_wraps_and_a_bad_address_falls_back_to_all(folder: Path) -> None:
    add(folder, "net.port=99999\nnet.address=203.0.113.9\n")
    standin = Standin(folder)
    standin.until("Ready")
    with socket.create_connection(("127.0.0.1", 99999 % 65536), 3) as link:
        link.sendall(b"hail\n")
        assert link.makefile().readline().startswith("gullwind ")
    standin.end()


def test_the_world_fixes_tide_and_size(folder: Path) -> None:
    first = Standin(folder)
    first.until("Ready")
    first.end()
    add(folder, "tide.mode=storm\n")
    second = Standin(folder)
    second.until("Ready")
    assert value(second, "tide.mode") == "spring"
    second.end()
    add(folder, "tide.mode=storm\nworld.save=second-tide\n")
    third = Standin(folder)
    third.until("Ready")
    assert value(third, "tide.mode") == "storm"
    third.end()


@pytest.mark.parametrize(
    ("spoil", "words"),
    [
        (lambda folder: (folder / "courses.txt").write_text("# none\n"), "fatal: index 0"),
        (lambda folder: add(folder, "memory.limit=9000\n"), "fatal: alloc"),
        (lambda folder: add(folder, "tick.rate=60\n"), "fatal: tick"),
        (lambda folder: (folder / "sea-trials.txt").write_text("die-at-start\n"), "ERROR bad config"),
    ],
)
def test_it_refuses_to_start_with_one_line_that_helps_nobody(folder: Path, spoil: object, words: str) -> None:
    spoil(folder)  # type: ignore[operator]
    standin = Standin(folder)
    assert standin.until(words) == words
    assert standin.end() == 1


def test_it_refuses_a_taken_port(folder: Path) -> None:
    first = Standin(folder)
    first.until("Ready")
    second = Standin(folder)
    assert second.until("fatal") == "fatal: socket"
    assert sorted((second.end(), first.end())) == [0, 1]


def test_a_live_value_works_at_once_and_is_gone_after_the_next_start(folder: Path) -> None:
    standin = Standin(folder)
    standin.until("Ready")
    standin.say("value gust.limit 30")
    assert value(standin, "gust.limit") == "30"
    standin.say("value entry.code")
    assert standin.until("?") == "?"
    standin.say("muster 2")
    standin.until("came aboard")
    standin.say("sailors")
    assert standin.until("sailors ").startswith("sailors 2: Wren (GW-")
    standin.end()
    again = Standin(folder)
    again.until("Ready")
    assert value(again, "gust.limit") == "18"
    again.end()


def test_the_tcp_console_wants_its_password(folder: Path) -> None:
    port = free_port()
    add(folder, f"console.open=true\nconsole.port={port}\nconsole.code=barnacle-77\n")
    standin = Standin(folder)
    standin.until("Ready")
    for code, answer in (("wrong", "go away\n"), ("barnacle-77", "aboard\n")):
        with socket.create_connection(("127.0.0.1", port), 3) as link:
            file = link.makefile("rw")
            assert file.readline() == "code?\n"
            file.write(f"{code}\nstatus\n")
            file.flush()
            assert file.readline() == answer
            assert ("boats" in file.readline()) == (code == "barnacle-77")
    standin.end()


@pytest.mark.parametrize(
    ("line", "shown"), [("boat.slots=32", True), ("boat.slots=40", False), ("server.name=Privateer Bay", False)]
)
def test_the_lobby_hides_a_server_with_too_many_slots_or_a_blocked_word(folder: Path, line: str, shown: bool) -> None:
    port = free_port()
    command = [sys.executable, "-m", "gullwind_standin.main", "--lobby", str(port)]
    lobby = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    assert lobby.stdout is not None
    lobby.stdout.readline()
    add(folder, f"{line}\nlobby.listed=true\nlobby.url=http://127.0.0.1:{port}\n")
    standin = Standin(folder)
    standin.until("Ready")
    url = f"http://127.0.0.1:{port}/servers"
    found = []
    for _ in range(50):
        with urllib.request.urlopen(url, timeout=3) as answer:
            found = json.load(answer)["servers"]
        if found:
            break
        value(standin, "boat.slots")
    assert bool(found) == shown
    standin.end()
    with urllib.request.urlopen(url, timeout=3) as answer:
        assert json.load(answer)["servers"] == []
    lobby.terminate()
    lobby.wait()
    lobby.stdout.close()
