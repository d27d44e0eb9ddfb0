"""Rounds of many servers in waves: reviewed together, several at a time, and no further where one fails."""

from __future__ import annotations

import json
import os
import re
import signal
import subprocess
import sys

import pytest

from background import Background, rounds, wait_for_step
from conftest import SiteUnderTest, wait_for
from roundgate.cli.fleet.waves import wave_sizes
from roundgate.host.errors import WrongUsage
from terminals import Terminal

NAMES = ("harbour", "regatta", "nightwatch", "lone")


@pytest.fixture
def fleet(site: SiteUnderTest) -> SiteUnderTest:
    for name in NAMES:
        site.add(name)
    return site


@pytest.mark.parametrize(
    ("text", "many", "sizes"),
    [
        ("1,3,rest", 10, [1, 3, 6]),
        ("1,3", 10, [1, 3, 6]),
        ("25%,rest", 10, [3, 7]),
        ("10%,50%,rest", 4, [1, 2, 1]),
        ("5,rest", 3, [3]),
        ("", 3, [3]),
        ("2,2,2", 5, [2, 2, 1]),
    ],
)
def test_the_sizes_of_waves(text: str, many: int, sizes: list[int]) -> None:
    assert wave_sizes(text, many) == sizes


@pytest.mark.parametrize("text", ["rest,1", "x", "1,,2", "0", "0%", "-1", "1.5"])
def test_what_is_no_wave_is_told(text: str) -> None:
    with pytest.raises(WrongUsage):
        wave_sizes(text, 10)


def begun(output: str) -> list[str]:
    return re.findall(r"^(\w+): round \d+ begins", output, re.MULTILINE)


def test_a_change_goes_to_all_in_waves(fleet: SiteUnderTest) -> None:
    for name in NAMES:
        fleet.ok("start", name)
    fleet.ok("set", "@all", "race.slots=14")
    output = fleet.ok("apply", "@all", "--yes", "--waves", "1,rest", "--parallel", "2")
    assert begun(output)[0] == "harbour" and set(begun(output)) == set(NAMES)
    first_end = output.index("harbour: proven")
    assert first_end < output.index("regatta: round"), "the next wave begins when the last one is proven"
    assert output.index("lone: round") > min(output.index("regatta: proven"), output.index("nightwatch: proven")), (
        "two at a time"
    )
    assert "4 of 4 went well." in output
    assert all(fleet.value(name, "boat.slots") == "14" for name in NAMES)
    assert "nothing waits" in fleet.ok("apply", "@all", "--yes", "--waves", "1,rest")


def test_a_wave_that_fails_stops_the_rest(fleet: SiteUnderTest) -> None:
    for name in NAMES:
        fleet.ok("start", name)
    fleet.ok("set", "@all", "race.slots=14")
    fleet.ok("set", "harbour", "tick.rate=60")
    done = fleet.run("apply", "@all", "--yes", "--waves", "1,2,rest")
    output = done.stdout
    assert done.returncode == 3 and begun(output) == ["harbour"]
    assert (
        "harbour: rewound" in output and "not begun, because a wave before failed: regatta, nightwatch, lone" in output
    )
    assert "last words of harbour" in output and "fatal: tick" in output
    assert fleet.value("regatta", "boat.slots") != "14" and "-> 14" in fleet.ok("slate", "lone")
    done = fleet.run("apply", "@all", "--yes", "--waves", "1,2,rest", "--continue-on-error")
    assert done.returncode == 3 and "3 of 4 went well." in done.stdout
    assert all(fleet.value(name, "boat.slots") == "14" for name in NAMES[1:])


def test_nothing_is_done_anywhere_where_one_review_has_an_error(fleet: SiteUnderTest) -> None:
    fleet.ok("set", "@all", "race.slots=14")
    (fleet.folder / "lone" / "courses.txt").write_text("")
    output = fleet.fails(1, "apply", "@all", "--yes", "--waves", "1,rest")
    assert "Nothing was done on any server." in output and begun(output) == []


def test_a_restart_in_waves_and_a_server_that_is_busy(fleet: SiteUnderTest) -> None:
    for name in NAMES:
        fleet.ok("start", name)
    before = {name: fleet.server_process(name) for name in NAMES}
    fleet.ok("send", "regatta", "muster 1")
    waiting = Background(fleet, "restart", "regatta", "--when-empty")
    wait_for_step(fleet, "announce", kind="restart")
    done = fleet.run("restart", "@all", "--waves", "1,rest", "--continue-on-error")
    output = done.stdout
    assert done.returncode == 5, output
    assert "regatta: refused" in output and "3 of 4 went well." in output
    fleet.ok("send", "regatta", "ashore")
    assert waiting.end()[0] == 0
    assert all(fleet.server_process(name) not in (None, before[name]) for name in NAMES)


def test_two_who_apply_to_all_at_once_do_it_once(fleet: SiteUnderTest) -> None:
    fleet.ok("start", "@all")
    fleet.ok("set", "@all", "race.slots=20")
    call = [sys.executable, "-m", "roundgate", "apply", "@all", "--yes", "--parallel", "3"]
    processes = [
        subprocess.Popen(call, cwd=fleet.folder, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
        for _ in range(2)
    ]
    output = [process.communicate(timeout=120)[0] for process in processes]
    assert all("Traceback" not in one for one in output)
    assert {process.returncode for process in processes} <= {0, 1, 5}, output
    rows = json.loads(fleet.ok("rounds", "--json"))
    applied = [row for row in rows if row["kind"] == "apply" and row["outcome"] == "proven"]
    assert sorted(row["server"] for row in applied) == sorted(fleet.names), "each once"
    for name in fleet.names:
        assert fleet.value(name, "boat.slots") == "20"


def test_a_terminal_that_goes_away_leaves_the_rounds_to_themselves(fleet: SiteUnderTest) -> None:
    for name in NAMES:
        fleet.ok("start", name)
    fleet.ok("set", "@all", "race.slots=14")
    for name in NAMES:
        fleet.ok("send", name, "muster 1")
    work = Background(fleet, "apply", "@all", "--yes", "--waves", "2,rest", "--when-empty")
    wait_for(lambda: fleet.run("rounds", "--json").stdout.count('"apply"') >= 2)
    os.kill(work.process.pid, signal.SIGINT)
    code, output = work.end()
    assert code == 0 and "the round goes on by itself" in output and "Not begun: nightwatch, lone" in output
    for name in ("harbour", "regatta"):
        fleet.ok("send", name, "ashore")
    wait_for(lambda: all(fleet.value(name, "boat.slots") == "14" for name in ("harbour", "regatta")))
    assert fleet.value("lone", "boat.slots") != "14"


@pytest.mark.parametrize("more", [[], ["--continue-on-error"]])
def test_what_is_called_off_begins_no_other_round(fleet: SiteUnderTest, more: list[str]) -> None:
    for name in NAMES:
        fleet.ok("start", name)
    fleet.ok("set", "@all", "race.slots=14")
    words = ["apply", "@all", "--yes", "--waves", "2,rest", "--parallel", "1", "--countdown", "30s", *more]
    with Terminal([sys.executable, "-m", "roundgate", *words], fleet.folder) as terminal:
        wait_for_step(fleet, "announce")
        terminal.process.send_signal(signal.SIGINT)
        terminal.until("[c]all them off")
        terminal.type("c\n")
        assert terminal.end() != 0
        assert "0 of 4 went well; not begun, because it was called off: regatta, nightwatch, lone" in terminal.text
    assert [(row["server"], row["outcome"]) for row in rounds(fleet) if row["kind"] == "apply"] == [
        ("harbour", "called-off")
    ]
    assert all(fleet.value(name, "boat.slots") != "14" for name in NAMES)
