"""The timetable, carried out by keepers, by the clock process, and by many who look at once."""

from __future__ import annotations

import json
import re
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Iterator
from typing import Any

import pytest

from cli.test_notices import told, webhook
from conftest import SiteUnderTest, wait_for
from peers import Hook
from roundgate.host.keeper.record import boot_mark

MINUTE = 'cron = "* * * * *"'


@pytest.fixture
def hook() -> Iterator[Hook]:
    hook = Hook()
    yield hook
    hook.close()


def early_in_the_minute(before: int = 48) -> None:
    """Wait for a moment at which no keeper looks: it does when a minute begins, and none must begin meanwhile."""
    wait_for(lambda: 3 < time.time() % 60 < before, 35)


def planned(site: SiteUnderTest, do: str, more: str = MINUTE, name: str = "tea") -> None:
    early_in_the_minute(38)  # time to start a server too, before its keeper has a look of its own
    told(site, f'[timetable.{name}]\ndo = "{do}"\n{more}')


def books(site: SiteUnderTest, statement: str, *values: object) -> list[tuple[Any, ...]]:
    with sqlite3.connect(site.folder / ".roundgate" / "timetable.sqlite") as db:
        return db.execute(statement, values).fetchall()


def tick_process(site: SiteUnderTest) -> subprocess.Popen[str]:
    words = [sys.executable, "-m", "roundgate.host.timetable", str(site.folder), "regatta"]
    return subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)


def tick(site: SiteUnderTest) -> str:
    """Look at the timetable once, as a keeper has it done."""
    output, _ = tick_process(site).communicate(timeout=60)
    return output


def known_before(site: SiteUnderTest, seconds: float) -> None:
    """Let the timetable be known since some time ago, with nothing done of it."""
    early_in_the_minute()
    path = site.folder / ".roundgate" / "timetable.sqlite"
    if not path.exists() or not books(site, "SELECT * FROM known"):
        tick(site)
    since = time.time() // 60 * 60 - 1 if seconds == 60 else time.time() - seconds
    books(site, "UPDATE known SET since = ?", since)
    books(site, "DELETE FROM moment")


def outcomes(site: SiteUnderTest) -> list[str]:
    return [row[0] for row in books(site, "SELECT outcome FROM moment ORDER BY due")]


def last(site: SiteUnderTest) -> dict[str, Any]:
    [row] = json.loads(site.ok("timetable", "--json"))
    found: dict[str, Any] = row
    return found


def test_a_keeper_restarts_its_server_when_it_is_time(site: SiteUnderTest, hook: Hook) -> None:
    """Announced before, at the minute, once; a keeper that is killed meanwhile makes no difference."""
    site.add("regatta")
    webhook(site, hook.url)
    site.ok("start")
    early_in_the_minute(38)
    at = time.localtime(time.time() + 60)
    told(
        site,
        f'[timetable.tea]\ndo = "restart"\nat = ["{time.strftime("%H:%M", at)}"]\ncountdown = "10s"\nreason = "tea"',
    )
    first = site.server_process("regatta")
    site.kill_keeper("regatta")
    assert f"next: restart at {time.strftime('%H:%M', at)}, in " in site.ok("status")
    wait_for(lambda: hook.events() == ["up-again", "planned", "going-down", "up-again"], 140)
    down = next(body for body in hook.bodies if body["event"] == "planned")
    assert down["message"] == f"regatta restarts at {time.strftime('%H:%M', at)}: tea."
    assert site.server_process("regatta") not in (first, None)
    wait_for(lambda: last(site)["last"] == "done", 20)
    assert re.fullmatch(r"round 2: .*", last(site)["detail"])
    assert re.search(r"The server restarts in \d+s: tea", site.ok("rounds", "show", "2"))
    assert len(json.loads(site.ok("rounds", "--json"))) == 2


def test_many_who_look_at_once_do_it_once(site: SiteUnderTest) -> None:
    site.add("regatta")
    planned(site, "send", f'{MINUTE}\nline = "say four bells"')
    site.ok("start")
    known_before(site, 60)
    processes = [tick_process(site) for _ in range(8)]
    output = "".join(process.communicate(timeout=60)[0] for process in processes)
    assert output.count("regatta: tea: done: sent") == 1, output
    wait_for(lambda: "four bells" in site.ok("log", "regatta"), 20)
    assert site.ok("log", "regatta").count("four bells") == 1
    assert outcomes(site) == ["done"]


@pytest.mark.parametrize("do", ["restart", "send"])
def test_nothing_is_done_to_a_server_that_is_down(site: SiteUnderTest, do: str) -> None:
    site.add("regatta")
    planned(site, do, MINUTE + ('\nline = "say tea"' if do == "send" else ""))
    known_before(site, 60)
    assert "regatta: tea: needless: regatta is down." in tick(site)
    assert outcomes(site) == ["needless"] and last(site)["last"] == "needless"


def test_what_waits_is_applied_and_nothing_is_not(site: SiteUnderTest) -> None:
    site.add("regatta")
    planned(site, "apply")
    known_before(site, 60)
    assert "regatta: tea: needless: Nothing waits." in tick(site)
    site.ok("set", "race.slots=20")
    known_before(site, 60)
    assert "regatta: tea: done: round 1: regatta is down" in tick(site)
    assert site.value("regatta", "boat.slots") == "20"


def test_a_check_sends_what_it_finds(site: SiteUnderTest, hook: Hook) -> None:
    home = site.add("regatta")
    webhook(site, hook.url, 'on = ["findings"]')
    planned(site, "check")
    known_before(site, 60)
    assert "regatta: tea: done: nothing wrong" in tick(site)
    (home / "gullwind.properties").write_text("boat.slots=400\n")
    known_before(site, 60)
    assert "regatta: tea: done: 1 finding" in tick(site)
    wait_for(lambda: len(hook.got) == 1, 20)
    message = hook.bodies[0]["message"]
    assert message.startswith("tea: 1 finding on regatta: gullwind.properties:1 ") and "400" in message


def test_a_backup_is_made_and_one_that_fails_is_told(site: SiteUnderTest, hook: Hook) -> None:
    home = site.add("regatta")
    webhook(site, hook.url, 'on = ["failed"]')
    planned(site, "backup", f"{MINUTE}\nwhole = true")
    known_before(site, 60)
    assert "regatta: tea: done: backup 1" in tick(site)
    assert "whole" in site.ok("backup", "list")
    for path in home.iterdir():
        path.unlink()
    known_before(site, 60)
    output = tick(site)
    assert "regatta: tea: failed: There is nothing to save" in output
    wait_for(lambda: len(hook.got) == 1, 20)
    assert hook.bodies[0]["message"].startswith("tea (backup) of regatta failed: There is nothing to save")


def test_a_round_that_is_refused_is_told(site: SiteUnderTest, hook: Hook) -> None:
    home = site.add("regatta")
    webhook(site, hook.url, 'on = ["failed"]')
    planned(site, "restart")
    site.ok("start")
    (home / "gullwind.properties").write_text("boat.slots=400\n")
    known_before(site, 60)
    assert "regatta: tea: failed: round 2: There are errors on disk" in tick(site)
    wait_for(lambda: len(hook.got) == 1, 20)
    assert "tea (restart) of regatta failed: round 2" in hook.bodies[0]["message"]
    assert "up" in site.ok("status", "regatta")


def test_what_was_missed_is_told_once_and_made_up_where_the_table_says_so(site: SiteUnderTest, hook: Hook) -> None:
    site.add("regatta")
    webhook(site, hook.url, 'on = ["missed"]')
    planned(site, "send", 'cron = "*/10 * * * *"\nline = "say tea"')
    known_before(site, 3 * 3600)
    tick(site)
    wait_for(lambda: len(hook.got) == 1, 20)
    told_of = re.search(r"tea \(send\) of regatta was missed (\d+) times, the last at ", hook.bodies[0]["message"])
    assert told_of is not None and int(told_of[1]) in (17, 18)
    assert outcomes(site).count("missed") == int(told_of[1])
    tick(site)
    text = (site.folder / "roundgate.toml").read_text()
    (site.folder / "roundgate.toml").write_text(text + 'make-up = "1h"\n')
    books(site, "DELETE FROM moment")
    books(site, "UPDATE known SET since = ?", time.time() - 3600)
    assert "regatta: tea: needless" in tick(site), "the last one is made up"
    assert outcomes(site).count("needless") == 1 and outcomes(site)[-1] == "needless"


def test_a_week_of_minutes_that_were_missed_is_one_message(site: SiteUnderTest, hook: Hook) -> None:
    site.add("regatta")
    webhook(site, hook.url, 'on = ["missed"]')
    planned(site, "send", 'cron = "* * * * *"\nline = "say tea"')
    known_before(site, 10 * 86400)
    tick(site)
    wait_for(lambda: len(hook.got) == 1, 20)
    told_of = re.search(r"was missed (\d+) times, the last at ", hook.bodies[0]["message"])
    assert told_of is not None and 11_510 < int(told_of[1]) < 11_525
    assert outcomes(site).count("missed") == int(told_of[1])
    tick(site)
    assert len(hook.got) == 1


@pytest.mark.parametrize("more", ["", 'make-up = "1h"\n'])
def test_what_a_process_that_died_had_begun_is_told_and_made_up_where_the_table_says_so(
    site: SiteUnderTest, hook: Hook, more: str
) -> None:
    site.add("regatta")
    webhook(site, hook.url, 'on = ["missed"]')
    at = time.time() // 60 * 60 - 1800
    cron = time.strftime("%M %H * * *", time.localtime(at))
    planned(site, "send", f'cron = "{cron}"\nline = "say tea"\n{more}')
    known_before(site, 60)
    with subprocess.Popen(["true"]) as gone:
        pass
    boot = boot_mark()
    row = ("regatta", "tea", at, "running", at, f"{gone.pid} 1 {boot}")
    books(site, "INSERT INTO moment VALUES (?, ?, ?, ?, ?, ?)", *row)
    shown = tick(site) + tick(site)
    wait_for(lambda: len(hook.got) == 1, 20)
    assert "was interrupted. It is " + ("made up for now." if more else "not made up for.") in hook.bodies[0]["message"]
    assert shown.count("regatta: tea: needless") == (1 if more else 0)
    assert outcomes(site) == (["needless"] if more else ["missed"])


def test_one_is_left_out_and_not_after_all(site: SiteUnderTest) -> None:
    site.add("regatta")
    planned(site, "send", 'at = ["05:00"]\nline = "say tea"')
    assert re.fullmatch(r"regatta: tea at \w{3} \d\d \w{3} 05:00 is skipped.\n", site.ok("timetable", "skip", "tea"))
    assert last(site)["skipped"] is True and "skipped" in site.ok("status")
    assert "takes place" in site.ok("timetable", "skip", "regatta", "tea", "--undo")
    assert last(site)["skipped"] is False
    assert "Did you mean tea?" in site.fails(2, "timetable", "skip", "tee")
    text = (site.folder / "roundgate.toml").read_text()
    (site.folder / "roundgate.toml").write_text(text.replace('at = ["05:00"]', MINUTE))
    known_before(site, 60)
    due = time.time() // 60 * 60
    books(site, "INSERT INTO moment VALUES ('regatta', 'tea', ?, 'skip', 0, '')", due)
    output = tick(site)
    assert dict(books(site, "SELECT due, outcome FROM moment"))[due] == "skipped"
    assert output == "" and "needless" not in outcomes(site)


def test_the_clock_process_sees_to_servers_that_no_keeper_holds(site: SiteUnderTest, hook: Hook) -> None:
    home = site.add("regatta")
    (home / "gullwind.properties").write_text("boat.slots=400\n")
    webhook(site, hook.url, 'on = ["findings"]')
    planned(site, "check")
    with subprocess.Popen(
        [sys.executable, "-m", "roundgate", "timetable", "run"], cwd=site.folder, stdout=subprocess.PIPE, text=True
    ) as process:
        wait_for(lambda: len(hook.got) == 1, 100)
        process.send_signal(signal.SIGTERM)
        output, _ = process.communicate(timeout=20)
    assert process.returncode == 0
    assert "regatta: tea: done: 1 finding" in output
    unit = site.ok("timetable", "run", "--unit")
    assert f"--site {site.folder} clock" in unit and "[Install]" in unit


def test_a_wait_for_an_empty_server_has_an_end(site: SiteUnderTest) -> None:
    site.add("regatta")
    site.ok("start")
    site.ok("send", "regatta", "muster 1")
    wait_for(lambda: "1 of " in site.ok("status"), 20)
    output = site.ok("restart", "--empty-timeout", "1s")
    assert "after 1s there are still 1 aboard; the round goes on" in output
    assert json.loads(site.ok("rounds", "--json"))[0]["outcome"] == "done"


def test_a_name_is_no_tag_and_a_tag_no_name(site: SiteUnderTest) -> None:
    """A server may be called as a tag with a letter before it."""
    site.add("xranked")
    site.add("regatta", extra='tags = ["ranked"]')
    planned(site, "check", f'{MINUTE}\nservers = ["xranked"]')
    told(site, '[cluster.fair]\nservers = ["xranked"]\nshares = ["race.laps"]')
    assert [row["server"] for row in json.loads(site.ok("timetable", "--json"))] == ["xranked"]
    assert [row["server"] for row in json.loads(site.ok("status", "@fair", "--json"))["servers"]] == ["xranked"]


def test_damaged_books_are_begun_anew(site: SiteUnderTest) -> None:
    site.add("regatta")
    planned(site, "check")
    tick(site)
    path = site.folder / ".roundgate" / "timetable.sqlite"
    path.write_bytes(b"no database at all" * 400)
    assert tick(site) == ""
    assert path.with_suffix(".damaged").exists()


@pytest.mark.parametrize(
    ("table", "words"),
    [
        ('do = "restart"', "[timetable.a]: it needs 'at'"),
        ('do = "restart"\nat = ["25:00"]', "'25:00' is not a time of day"),
        ('do = "restart"\nat = ["05:00"]\nzone = "Europe/Atlantis"', "'Europe/Atlantis' is not a time zone"),
        ('do = "restart"\ncron = "0 5 * *"', "is not a cron expression"),
        ('do = "restart"\nat = ["05:00"]\ncountdown = "soon"', "'soon' as 'countdown' is not a duration"),
        ('do = "restart"\nat = ["05:00"]\nservers = ["regata"]', "there is no server 'regata'"),
        ('do = "send"\nat = ["05:00"]', "'line' goes with do = \"send\""),
        ('do = "restart"\nat = ["05:00"]\nwait-at-most = "2h"', "goes with when-empty = true"),
        ('do = "reboot"\nat = ["05:00"]', "Invalid enum value 'reboot'"),
        ('do = "restart"\nat = "05:00"', "Expected `array`"),
    ],
)
def test_wrong_tables_are_told(site: SiteUnderTest, table: str, words: str) -> None:
    site.add("regatta")
    told(site, f"[timetable.a]\n{table}")
    assert words in site.fails(1, "timetable")
    assert tick_process(site).communicate(timeout=30)[0].strip(), "a keeper's log would say so"
