"""The options of a round, each on the real stand-in server: what it changes, and what the round does without it."""

from __future__ import annotations

import json
import sys
import time

import pytest

from background import rounds, status
from conftest import BOOK, SiteUnderTest
from roundgate.cli.rounding import moment, seconds
from roundgate.host.errors import WrongUsage


def with_book(site: SiteUnderTest, old: str, new: str) -> None:
    """Give the site a rulebook of its own with one thing changed."""
    assert old in BOOK
    folder = site.folder / "rulebooks"
    folder.mkdir()
    (folder / "gullwind.toml").write_text(BOOK.replace(old, new))


def test_keep_leaves_a_change_in_place_that_is_not_proven(site: SiteUnderTest) -> None:
    with_book(site, "range = [0, 40]", "range = [0, 90]")  # the server clamps at 40 without a word
    site.add("regatta", "gust.limit=20\n")
    site.ok("start")
    site.ok("set", "gust.limit=70")
    output = site.run("apply", "--yes", "--keep")
    assert "Kept as you asked, though not proven" in output.stdout and output.returncode == 0, output.stdout
    assert rounds(site)[0]["outcome"] == "written"
    assert site.value("regatta", "gust.limit") in ("70", "40"), "the server may have written its own value meanwhile"
    assert "the slate is empty" in site.ok("slate")


def test_silent_goes_on_where_the_players_cannot_be_told(site: SiteUnderTest) -> None:
    with_book(site, 'say = "say {text}"\n', "")
    site.add("regatta", "boat.slots=16\n")
    site.ok("start")
    site.ok("set", "race.slots=24")
    before = site.server_process("regatta")
    assert "could not be told" in site.fails(1, "apply", "--yes", "--countdown", "1s")
    assert site.server_process("regatta") == before
    assert "proven" in site.ok("apply", "--yes", "--countdown", "1s", "--silent")
    assert site.value("regatta", "boat.slots") == "24"


def test_start_brings_a_server_up_that_was_down(regatta: SiteUnderTest) -> None:
    regatta.ok("set", "race.slots=24")
    assert "proven" in regatta.ok("apply", "--yes", "--start")
    assert status(regatta)["state"] == "up" and regatta.value("regatta", "boat.slots") == "24"


def test_live_puts_into_force_at_once_and_into_the_file_at_the_next_stop(running: SiteUnderTest) -> None:
    before = running.server_process("regatta")
    running.ok("set", "race.laps=7")
    running.ok("apply", "--yes", "--live")
    assert running.server_process("regatta") == before, "no restart"
    assert "laps.count is 7" in running.ok("send", "value laps.count")
    assert running.value("regatta", "laps.count") != "7"
    running.ok("stop")
    assert running.value("regatta", "laps.count") == "7"


def test_what_the_server_leaves_behind_is_named_and_nothing_is_written(site: SiteUnderTest) -> None:
    home = site.add("regatta", "boat.slots=16\n", extra='grace = "1s"')
    launch = home / "launch.sh"
    launch.write_text(launch.read_text().replace("exec ", "sleep 300 >/dev/null 2>&1 </dev/null &\nexec ", 1))
    site.ok("start")
    site.ok("set", "race.slots=24")
    output = site.fails(1, "apply", "--yes")
    assert "The server left" in output and "sleep" in output and "behind" in output
    assert site.value("regatta", "boat.slots") == "16"


def test_a_damaged_copy_of_a_file_is_not_put_back(regatta: SiteUnderTest) -> None:
    regatta.ok("set", "race.slots=24")
    regatta.ok("apply", "--yes")
    [copy] = (regatta.folder / ".roundgate" / "rounds" / "1").glob("before-*gullwind.properties")
    copy.write_bytes(copy.read_bytes() + b"boat.slots=1\n")
    output = regatta.run("rounds", "rewind", "1", "--yes")
    assert output.returncode != 0 and "is damaged" in output.stdout + output.stderr
    assert regatta.value("regatta", "boat.slots") == "24"


@pytest.mark.parametrize("minutes", [-61, -2, 2, 61])
def test_a_time_of_day_is_the_next_one(minutes: int) -> None:
    now = time.time()
    typed = time.strftime("%H:%M", time.localtime(now + 60 * minutes))
    wanted = now + 60 * minutes + (24 * 3600 if minutes < 0 else 0)
    found = moment(typed)
    assert found is not None and found > now
    assert abs(found - wanted) < 3700, "within a minute, and an hour where the clocks change"


@pytest.mark.parametrize(("typed", "found"), [("0", 0), ("90", 90), ("1m30s", 90), ("30d", 30 * 24 * 3600)])
def test_a_wait_is_a_length_of_time(typed: str, found: float) -> None:
    assert seconds(typed) == found


@pytest.mark.parametrize("typed", ["31d", "-1s", "soon", "1e9", "nan"])
def test_a_wait_that_makes_no_sense_is_refused(typed: str) -> None:
    with pytest.raises(WrongUsage):
        seconds(typed)


def test_kill_is_only_used_when_asked_for(site: SiteUnderTest) -> None:
    site.add("regatta", trials="hang-at-stop\n", extra='grace = "0.3s"')
    site.ok("start")
    process = site.server_process("regatta")
    assert "SIGKILL" not in site.fails(1, "stop") and site.server_process("regatta") == process
    site.ok("stop", "--kill")
    assert site.server_process("regatta") is None


def test_a_restart_and_a_stop_leave_the_slate_alone(running: SiteUnderTest) -> None:
    running.ok("set", "race.slots=24")
    running.ok("restart")
    assert running.value("regatta", "boat.slots") == "16" and "race.slots: 16 -> 24" in running.ok("slate")
    running.ok("stop")
    assert running.value("regatta", "boat.slots") == "16" and "race.slots: 16 -> 24" in running.ok("slate")


SURPRISE = """import sys
print("up", flush=True)
for line in sys.stdin:
    if line.strip() == "stop":
        break
open("tide.properties", "w").write("low=5\\nhigh=9\\n")
"""
SURPRISE_BOOK = """
[rulebook]
name = "tide"
title = "A server that writes what it likes when it stops"

[file.core]
path = "tide.properties"
format = "properties"
about = "Its tides."

[setting.low]
file = "core"
key = "low"
type = "int"
about = "Low water."

[setting.high]
file = "core"
key = "high"
type = "int"
about = "High water."

[[rule]]
name = "order"
needs = "low < high"
say = "Low water is below high water."

[server]
ready = "^up"
stop = "stop"
"""


def test_what_is_wrong_only_after_the_stop_is_not_written(site: SiteUnderTest) -> None:
    """The change fits what is on disk; the server writes something else when it stops, and then it does not."""
    home = site.folder / "tide"
    home.mkdir()
    (home / "tide.properties").write_text("low=1\nhigh=9\n")
    (home / "tide.py").write_text(SURPRISE)
    (site.folder / "rulebooks").mkdir()
    (site.folder / "rulebooks" / "tide.toml").write_text(SURPRISE_BOOK)
    with (site.folder / "roundgate.toml").open("a") as file:
        start = json.dumps([sys.executable, "tide.py"])
        file.write(f'\n[server.tide]\nfolder = "tide"\nrulebook = "tide"\nstart = {start}\nwatch = "0.2s"\n')
    site.ok("start", "tide")
    site.ok("set", "tide", "high=4")
    output = site.fails(1, "apply", "tide", "--yes")
    assert "tide is up again" in output, output
    assert (home / "tide.properties").read_text() == "low=5\nhigh=9\n"
    assert "high: 9 -> 4" in site.ok("slate", "tide")
