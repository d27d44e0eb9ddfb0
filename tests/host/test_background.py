"""Servers that go into the background: held by their PID file, or ended with what to do where they have none."""

from __future__ import annotations

import json
import os
import signal
from pathlib import Path

import psutil
import pytest

from conftest import SiteUnderTest, is_alive, wait_for

# A program that forks as daemons do: out of the terminal, out of the session, its output closed.
FORKS = """import os, sys
silent, session, pidfile, number = sys.argv[1] == "silent", sys.argv[2] == "session", sys.argv[3], sys.argv[4]
if os.fork():
    os._exit(0)
if session:
    os.setsid()
    if os.fork():
        os._exit(0)
if pidfile:
    with open(pidfile, "w") as file:
        file.write((number or str(os.getpid())) + "\\n")
nothing = os.open(os.devnull, os.O_RDWR)
for handle in (0, 1, 2) if silent else (0,):
    os.dup2(nothing, handle)
os.execv("./real.sh", ["./real.sh"])
"""


def forking(
    site: SiteUnderTest, *, silent: bool = True, session: bool = True, pidfile: str = "sea.pid", number: str = ""
) -> Path:
    """Add a server whose start script goes into the background."""
    extra = 'pidfile = "sea.pid"\n' if pidfile else ""
    home = site.add("regatta", "boat.slots=16\n", extra=f'start-within = "10s"\n{extra}')
    (home / "launch.sh").rename(home / "real.sh")
    (home / "fork.py").write_text(FORKS)
    words = ["silent" if silent else "talks", "session" if session else "same", pidfile or "''", number or "''"]
    (home / "launch.sh").write_text(f"#!/bin/sh\nexec python3 fork.py {' '.join(words)}\n")
    (home / "launch.sh").chmod(0o755)
    return home


@pytest.mark.parametrize("silent", [True, False], ids=["silent", "talks"])
@pytest.mark.parametrize("session", [True, False], ids=["own session", "same session"])
def test_a_server_that_goes_into_the_background_is_held_by_its_pidfile(
    site: SiteUnderTest, silent: bool, session: bool
) -> None:
    home = forking(site, silent=silent, session=session)
    site.ok("start")
    process = site.server_process("regatta")
    assert process is not None and (home / "sea.pid").read_text().strip() == str(process)
    assert json.loads(site.ok("status", "--json"))["servers"][0]["process"] == process
    site.ok("set", "race.slots=24")
    assert "in force" in site.ok("apply", "--yes") or silent
    assert site.value("regatta", "boat.slots") == "24" and not psutil.pid_exists(process)
    after = site.server_process("regatta")
    assert after is not None and after != process
    os.kill(after, signal.SIGKILL)
    wait_for(lambda: json.loads(site.ok("status", "--json"))["servers"][0]["process"] not in (None, after))
    wait_for(lambda: json.loads(site.ok("status", "--json"))["servers"][0]["state"] == "up")
    again = site.server_process("regatta")
    assert again is not None
    site.ok("stop")
    assert not psutil.pid_exists(again) and site.server_process("regatta") is None
    assert json.loads(site.ok("status", "--json"))["servers"][0]["state"] == "down"


def test_a_keeper_that_dies_takes_a_server_in_the_background_over_again(site: SiteUnderTest) -> None:
    forking(site)
    site.ok("start")
    process = site.server_process("regatta")
    site.kill_keeper("regatta")
    wait_for(lambda: site.keeper_process("regatta") is not None)
    assert json.loads(site.ok("status", "--json"))["servers"][0]["process"] == process
    site.ok("restart")
    assert site.server_process("regatta") not in (None, process)


@pytest.mark.parametrize("pidfile", ["", "other.pid"])
def test_a_start_that_fails_leaves_no_server_in_the_background(site: SiteUnderTest, pidfile: str) -> None:
    """Without a PID file, or with one that is not written, the start says what to do."""
    home = forking(site, pidfile=pidfile)
    output = site.fails(1, "start")
    assert "in the background, which was ended now" in output and "PID file" in output
    assert "did not come up" in output and site.server_process("regatta") is None
    (home / "launch.sh").write_text("#!/bin/sh\nexec ./real.sh\n")
    site.ok("start")
    assert site.server_process("regatta") is not None


PASSES_ON = """import os, time
if os.fork():
    os._exit(0)
os.setsid()
time.sleep(0.3)
if os.fork():
    os._exit(0)
os.setsid()
os.execv("./real.sh", ["./real.sh"])
"""
LOOKS_SLOWLY = """import sys, time
if any("roundgate.host.keeper" in word for word in sys.orig_argv):
    from roundgate.host.keeper import loop
    def slow(known, quick=loop.inherited):
        found = quick(known)
        time.sleep(0.6)
        return found
    loop.inherited = slow
"""


def test_a_process_that_ends_while_the_keeper_looks_hides_none_that_it_has_left(
    site: SiteUnderTest, monkeypatch: pytest.MonkeyPatch
) -> None:
    home = forking(site, pidfile="")
    (home / "fork.py").write_text(PASSES_ON)
    (site.folder / "changed").mkdir()
    (site.folder / "changed" / "sitecustomize.py").write_text(LOOKS_SLOWLY)
    monkeypatch.setenv("PYTHONPATH", str(site.folder / "changed"))
    assert "in the background, which was ended now" in site.fails(1, "start")
    assert site.server_process("regatta") is None


def test_a_pidfile_that_names_somebody_elses_process_is_not_believed(site: SiteUnderTest) -> None:
    """The server's user writes it: what it names must descend from the keeper, or it would be ended in our name."""
    bystander = psutil.Popen(["sleep", "100"])
    try:
        forking(site, number=str(bystander.pid))
        site.fails(1, "start")
        site.run("stop", "--kill")
        assert is_alive(bystander) and site.server_process("regatta") is None
    finally:
        bystander.kill()
        bystander.wait()


def test_what_a_server_leaves_behind_does_not_stay_as_a_dead_process(site: SiteUnderTest) -> None:
    home = site.add("regatta", "boat.slots=16\n")
    script = (home / "launch.sh").read_text()
    (home / "launch.sh").write_text(script.replace("exec ", "(sh -c 'sleep 0.2 & sleep 0.3 &' &)\nexec "))
    site.ok("start")
    keeper = psutil.Process(site.keeper_process("regatta"))
    process = site.server_process("regatta")
    wait_for(lambda: [child.pid for child in keeper.children()] == [process])
