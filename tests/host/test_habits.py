"""Habits of real servers that the stand-in has too, each asked for in its sea trials."""

from __future__ import annotations

import signal
import subprocess
import sys
import time

import pytest

from conftest import SiteUnderTest, free_port, wait_for

CORE = "server.name=Saltmarsh Regatta\nboat.slots=16\nheat.size=8\n"
LAYER = """[rulebook]
name = "{name}"
layers = ["gullwind"]
{more}
"""


def with_layer(site: SiteUnderTest, more: str, trials: str, *, extra: str = "", core: str = CORE) -> None:
    """Make a site with one server, whose rulebook has a layer of its own."""
    (site.folder / "rulebooks").mkdir()
    (site.folder / "rulebooks" / "habits.toml").write_text(LAYER.format(name="habits", more=more))
    site.add("regatta", core, trials=trials, extra=extra)
    file = site.folder / "roundgate.toml"
    file.write_text(file.read_text().replace('rulebook = "gullwind"', 'rulebook = "habits"'))


def test_a_word_that_it_misses_is_said_again(site: SiteUnderTest) -> None:
    with_layer(site, '[server]\nstop-again = "0.3s"\n', "stop-missed 2\n", extra='grace = "300s"')
    site.ok("start")
    began = time.monotonic()
    output = site.ok("stop")
    assert "regatta is down" in output and "SIGTERM" not in output and time.monotonic() - began < 150


def test_it_wants_two_signals(site: SiteUnderTest) -> None:
    with_layer(site, '[server]\nstop = ""\nsignals = ["SIGINT 0.4s", "SIGINT"]\n', "signals-needed 2\n")
    site.ok("start")
    assert "regatta is down" in site.ok("stop")


def test_it_wants_a_terminal(site: SiteUnderTest) -> None:
    with_layer(site, "", "wants-terminal\n")
    site.ok("start")
    assert "0 of 16 boats" not in site.ok("send", "regatta", "status")
    site.ok("stop")  # by its signal: it does not read its console
    file = site.folder / "roundgate.toml"
    file.write_text(file.read_text().replace('watch = "0.2s"', 'watch = "0.2s"\nterminal = true'))
    site.ok("start")
    assert "0 of 16 boats" in site.ok("send", "regatta", "status")
    assert "SIGTERM" not in site.ok("stop")


def test_it_closes_its_console_and_is_stopped_by_its_signal(site: SiteUnderTest) -> None:
    with_layer(site, "", "closes-console\n", extra='grace = "2s"')
    site.ok("start")
    site.ok("set", "race.slots=20")
    assert "race.slots is 20, says its start log" in site.ok("apply", "--yes")
    assert "regatta is down" in site.ok("stop")


def test_a_failure_that_it_prints_ends_the_wait_at_once_though_it_stays_alive(site: SiteUnderTest) -> None:
    with_layer(site, "", "", extra='start-within = "300s"')
    site.ok("start")
    before = site.value("regatta", "boat.slots")
    (site.folder / "regatta" / "sea-trials.txt").write_text("fails-and-stays\n")
    site.ok("set", "race.slots=20")
    began = time.monotonic()
    output = site.run("apply", "--yes").stdout
    assert "its log says: ERROR bad config" in output and time.monotonic() - began < 150
    assert site.value("regatta", "boat.slots") == before


@pytest.mark.parametrize("seconds", ["0.8"])
def test_it_answers_late(site: SiteUnderTest, seconds: str) -> None:
    port = free_port()
    core = f"{CORE}console.open=true\nconsole.port={port}\nconsole.code=barnacle-77\n"
    with_layer(site, "", f"answer-seconds {seconds}\n", core=core)
    site.ok("start")
    output = site.ok("set", "race.laps=7", "--now")
    assert "race.laps is 7 now, read back from the console" in output
    assert "done: course" in site.ok("now", "regatta", "course", "The Narrows")


def test_it_says_nothing_of_being_ready(site: SiteUnderTest) -> None:
    with_layer(site, '[server]\nready = ""\n', "quiet-start\nstart-seconds 0.5\n")
    assert "proven to be" in site.ok("start")
    site.ok("set", "server.name=Tide House")
    assert "server.name is Tide House, says its console" in site.ok("apply", "--yes")


def last_wave(site: SiteUnderTest) -> int:
    words = (site.folder / "regatta" / "logs" / "latest.log").read_text().split("Wave ")
    return int(words[-1].split()[0]) if len(words) > 1 else 0


@pytest.mark.parametrize("terminal", ["", "terminal = true"])
def test_it_dies_where_nobody_hears_it_and_outlives_its_keeper(site: SiteUnderTest, terminal: str) -> None:
    with_layer(site, "", "dies-on-broken-pipe\n", extra=terminal)
    site.ok("start")
    site.kill_keeper("regatta", with_guard=True)
    server, before = site.server_process("regatta"), last_wave(site)
    assert server is not None
    wait_for(lambda: last_wave(site) > before + 3)
    assert site.server_process("regatta") == server
    assert "0 of 16 boats" in site.ok("send", "regatta", "status")
    assert f"Wave {before + 2}" in site.ok("log", "regatta", "--lines", "100000")
    site.ok("stop")


def test_the_stand_in_really_dies_of_a_broken_pipe(site: SiteUnderTest) -> None:
    with_layer(site, "", "dies-on-broken-pipe\n")
    words = [sys.executable, "-m", "gullwind_standin.main", "--folder", "."]
    with subprocess.Popen(
        words, cwd=site.folder / "regatta", stdin=subprocess.DEVNULL, stdout=subprocess.PIPE
    ) as process:
        assert process.stdout is not None
        while not process.stdout.readline().startswith(b"Wave"):
            assert process.poll() is None
        process.stdout.close()
        assert process.wait(20) == -signal.SIGPIPE
