"""What a running server does at once (``now``), what of it stays (``keep``), and what it keeps by itself."""

from __future__ import annotations

import json
import sys
from pathlib import Path

import pytest

from conftest import SiteUnderTest
from terminals import Terminal


def test_an_action_checks_its_value_sends_it_and_changes_no_file(running: SiteUnderTest) -> None:
    before = running.text("regatta"), running.text("regatta", "courses.txt")
    output = running.ok("now", "regatta", "course", "The Narrows")
    assert "course is The Narrows" in output and "It changes no file" in output
    assert (running.text("regatta"), running.text("regatta", "courses.txt")) == before
    assert "course=Narow: 'Narow' does not" in running.fails(1, "now", "regatta", "course", "Narow")
    assert "regatta refused: course Long Reach" in running.fails(1, "now", "regatta", "course", "Long Reach")
    assert "done: course Harbour Mile" in running.ok("now", "course", "course=Harbour Mile")


@pytest.mark.parametrize(
    ("code", "words", "expected"),
    [
        (2, ["regatta", "cours", "x"], "Did you mean course?"),
        (2, ["regatta", "course"], "'course' needs course"),
        (2, ["regatta", "course", "The Narrows", "Harbour Mile"], "takes no more arguments"),
        (2, ["regatta", "course", "course=The Narrows", "course=Harbour Mile"], "is given twice"),
        (1, ["regatta", "ashore", "x; stop"], "Nothing was sent"),
    ],
)
def test_what_an_action_does_not_take(running: SiteUnderTest, code: int, words: list[str], expected: str) -> None:
    assert expected in running.fails(code, "now", *words)
    assert "up" in running.ok("status")


def test_actions_are_listed_with_their_calls(regatta: SiteUnderTest) -> None:
    output = regatta.ok("now", "regatta")
    assert "roundgate now regatta course COURSE" in output and "Goes to another course at once." in output
    assert "regatta is down" in regatta.fails(1, "now", "regatta", "save")


def test_an_answer_that_does_not_confirm_is_no_success(running: SiteUnderTest) -> None:
    assert "does not confirm it: ashore Nobody" in running.fails(1, "now", "regatta", "ashore", "Nobody")
    running.ok("send", "regatta", "muster 1")
    assert "done: ashore Wren" in running.ok("now", "regatta", "ashore", "Wren")


def test_keep_puts_what_only_the_server_has_onto_the_slate(running: SiteUnderTest) -> None:
    assert "the files have all that the console has" in running.ok("keep")
    assert "roundgate keep regatta race.laps" in running.ok("send", "regatta", "value laps.count 7")
    running.ok("send", "regatta", "value heat.size 4")  # nobody notes that; only the server knows
    assert "race.laps: " in running.ok("keep", "regatta", "race.laps")
    output = running.ok("keep", "--all")
    assert "race.heat: 8 -> 4" in output
    running.ok("apply", "--yes")
    assert running.value("regatta", "laps.count") == "7" and running.value("regatta", "heat.size") == "4"
    assert "the files have all that the console has" in running.ok("keep", "--all")
    assert "is not a setting" in running.fails(2, "keep", "regatta", "race.lap")


def test_a_value_that_the_server_keeps_in_a_database_is_changed_at_its_console_alone(running: SiteUnderTest) -> None:
    output = running.fails(1, "set", "club.honour=5")
    assert "keeps club.honour in its database honours.db" in output and "--now" in output
    assert "The server keeps it in its database" in running.ok("set", "club.honour=5", "--now")
    assert "5" in running.ok("show", "club.honour", "--ask")
    assert "says otherwise" not in running.ok("show", "club.honour", "--ask")
    running.ok("restart")
    assert "honour is 5" in running.ok("send", "regatta", "honour")
    [page] = json.loads(running.ok("explain", "club.honour", "--json"))
    assert page["kept-in"] == "its database honours.db" and page["file"] == ""


def test_a_value_that_can_only_be_looked_at_is_never_sent(running: SiteUnderTest) -> None:
    book = running.folder / "rulebooks"
    book.mkdir()
    (book / "looked.toml").write_text(
        '[rulebook]\nname = "looked"\nlayers = ["gullwind"]\n[setting."club.honour"]\n'
        'live = { set = "", read = "honour", match = \'^honour is (?P<value>.*)$\' }\n'
    )
    file = running.folder / "roundgate.toml"
    file.write_text(file.read_text().replace('rulebook = "gullwind"', 'rulebook = "looked"'))
    for more in ((), ("--now",)):
        assert "can be read there, but not set" in running.fails(1, "set", "club.honour=5", *more)


def test_the_console_at_a_terminal_completes_remembers_and_shows_the_log(running: SiteUnderTest) -> None:
    with Terminal([sys.executable, "-m", "roundgate", "console", "regatta"], running.folder) as console:
        console.until("regatta>", at_cursor=True)
        console.type("status\r")
        console.until("0 of 16 boats")
        console.type("cour\t")
        console.until("regatta> course", at_cursor=True)
        console.type(" The Narrows\r")
        console.until("course is The Narrows")
        console.type("\x1b[A\x1b[A")
        console.until("regatta> status", at_cursor=True)
        console.type("\x03\x04")
        assert console.end() == 0
    history = running.folder / ".roundgate" / "servers" / "regatta" / "console-history"
    assert "+status" in history.read_text() and history.stat().st_mode & 0o077 == 0


def test_a_secret_that_is_typed_is_not_remembered(running: SiteUnderTest, tmp_path: Path) -> None:
    from roundgate.cli.running.prompting import _History

    kept = tmp_path / "history"
    history = _History(kept, {"barnacle-77"})
    history.store_string("value console.code barnacle-77")
    history.store_string("status")
    assert "barnacle" not in kept.read_text() and "status" in kept.read_text()
