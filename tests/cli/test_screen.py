"""What a person reads: carets under the right place, tables that fit, and nothing that acts on the terminal."""

from __future__ import annotations

import csv
import io
from typing import get_args

import pytest
from msgspec import json

from roundgate.cli.screen import output
from roundgate.cli.screen.differences import describe_difference
from roundgate.cli.screen.facts import describe_fact, stored_fact
from roundgate.cli.screen.findings import describe_counts, echo_findings
from roundgate.cli.screen.review import describe_consequence
from roundgate.cli.screen.rounds import EXIT_CODES, RoundScreen
from roundgate.core.findings import Finding, Place
from roundgate.core.layers import DifferenceCode, LayerDifference
from roundgate.core.next_step import typed_command
from roundgate.core.review import Consequence, ConsequenceCode
from roundgate.core.rounds import (
    Fact,
    KeyGone,
    PortAnswers,
    PortOwned,
    PortsUnchecked,
    RoundOutcome,
    StayedUp,
    Step,
    ValueInForce,
    ValuesUnread,
    WorldKept,
)
from roundgate.host.rounds.events import Noted, Proved, RoundEnded, StepBegun, StepDone, Waits, read_event

SLOTS = typed_command("set", "regatta", "race.slots=32")


def shown(finding: Finding, capsys: pytest.CaptureFixture[str]) -> list[str]:
    echo_findings([finding])
    return capsys.readouterr().out.rstrip("\n").split("\n")


def test_a_finding_is_one_block_with_its_place_its_cause_and_what_to_do(capsys: pytest.CaptureFixture[str]) -> None:
    place = Place("gullwind.properties", 14, 12, 2, "boat.slots=40")
    finding = Finding("value-range", "error", place, "40 is above the maximum, 32.", SLOTS, "regatta")
    assert shown(finding, capsys) == [
        "error  value-range  gullwind.properties:14:12  regatta",
        "  boat.slots=40",
        "             ^^ 40 is above the maximum, 32.",
        "  do: roundgate set regatta race.slots=32",
    ]


@pytest.mark.parametrize(
    ("source", "column", "length"),
    [
        ("\u6e7e=40 x", 3, 2),
        ("a\tb=40", 5, 2),
        ("x" * 300 + "=40", 302, 2),
        ("short=40", 7, 500),
        ("e\u0301e\u0301=40", 6, 2),
        ("a=\x1b[31m40", 8, 2),
    ],
)
def test_the_caret_stands_under_what_it_means(
    source: str, column: int, length: int, capsys: pytest.CaptureFixture[str]
) -> None:
    _, line, caret, *_ = shown(Finding("c", "error", Place("f", 1, column, length, source), "cause"), capsys)
    assert "\x1b" not in line and len(line) < 140
    at = caret.index("^")
    columns = 0
    for char in line:
        if columns >= at and char == "4":
            break
        columns += 2 if char == "\u6e7e" else 0 if char == "\u0301" else 1
    assert columns == at, f"{line}\n{caret}"


def test_a_finding_without_a_line_still_says_what_and_where(capsys: pytest.CaptureFixture[str]) -> None:
    lines = shown(Finding("file-missing", "warning", Place("courses.txt"), "It is not there.", "", "regatta"), capsys)
    assert lines == ["warning  file-missing  courses.txt  regatta", "  It is not there."]


def test_counts_are_said_in_words() -> None:
    assert describe_counts({"error": 1, "warning": 2}) == "1 error, 2 warnings"
    assert describe_counts({}) == "nothing wrong"


def test_tables_line_up_leave_out_empty_columns_and_show_control_characters(capsys: pytest.CaptureFixture[str]) -> None:
    output.echo_table(("server", "waits", "state"), [("harbour", "", "up"), ("r\x1b[2J", "", "down")])
    lines = capsys.readouterr().out.split("\n")
    assert lines[:3] == ["server    state", "harbour   up", "r\\x1b[2J  down"]


def test_no_colour_where_it_is_not_wanted(monkeypatch: pytest.MonkeyPatch) -> None:
    class Terminal(io.StringIO):
        def isatty(self) -> bool:
            return True

    monkeypatch.setenv("TERM", "xterm")
    monkeypatch.delenv("NO_COLOR", raising=False)
    assert output.clean(output.styled("up", "green", Terminal())) == "\033[32mup\033[0m"
    assert output.styled("up", "green", io.StringIO()) == "up"
    monkeypatch.setenv("NO_COLOR", "1")
    assert output.styled("up", "green", Terminal()) == "up"
    monkeypatch.delenv("NO_COLOR")
    monkeypatch.setenv("TERM", "dumb")
    assert output.styled("up", "green", Terminal()) == "up"


def test_a_rounds_messages_are_told_as_they_come(capsys: pytest.CaptureFixture[str]) -> None:
    screen = RoundScreen()
    for event in (
        StepBegun(Step.STOP),
        Waits(Step.STOP, "'stop' on the console", 2.0),
        StepDone(Step.STOP, 0.051),
        Noted(Step.WRITE, "moved\x07"),
        Proved(ValueInForce("race.slots", "24", "start-log")),
        RoundEnded(RoundOutcome.REWOUND, "Not proven.", typed_command("slate"), ["fatal: \x1b[31malloc"]),
    ):
        screen.show(read_event(json.encode(event)))
    assert screen.finish(7) == 3
    assert capsys.readouterr().out.split("\n")[:-1] == [
        "  stop      done in 51ms",
        "  write     moved\\x07",
        "  proof     race.slots is 24, says its start log",
        "Round 7 rewound: Not proven.",
        "  The server's last words:",
        "    | fatal: \\x1b[31malloc",
        "  do: roundgate slate",
    ]


def test_a_round_that_ends_without_a_word_needs_recovery(capsys: pytest.CaptureFixture[str]) -> None:
    assert RoundScreen().finish(7) == 4
    assert "roundgate rounds show 7" in capsys.readouterr().out


def test_every_outcome_has_its_exit_code() -> None:
    assert set(RoundOutcome) == set(EXIT_CODES)
    assert {EXIT_CODES[outcome] for outcome in RoundOutcome if outcome.went_well} == {0}
    assert (EXIT_CODES[RoundOutcome.WRITTEN], EXIT_CODES[RoundOutcome.REWOUND]) == (0, 3)
    assert (EXIT_CODES[RoundOutcome.UNFINISHED], EXIT_CODES[RoundOutcome.BUSY]) == (4, 5)


def test_every_fact_difference_and_consequence_has_its_words() -> None:
    facts: list[Fact] = [
        PortOwned(4711, "udp", "", answered=True),
        PortAnswers(4711, "tcp", "play.saltmarsh.example", answered=False),
        ValueInForce("race.slots", "24", "console"),
        ValuesUnread(("a", "b")),
        WorldKept("tide.mode", "first-tide", "spring", None),
        KeyGone("a.ini:b", 7),
        PortsUnchecked("OSError"),
        StayedUp(90),
    ]
    assert {type(one) for one in facts} == set(get_args(Fact))
    assert [describe_fact(one) for one in facts] == [
        "owns port 4711 (udp) on any address and answers there by udp",
        "port 4711 (tcp) of play.saltmarsh.example answers",
        "race.slots is 24, says its console",
        "in the files, but not read back (the rulebook does not say how): a, b",
        "tide.mode is spring: the world first-tide was made with it; the default has no effect in it",
        "a.ini:b, written by round 7, is no longer in its file: the server does not know it, or took it out",
        "its ports were not checked, as its files could not be read (OSError)",
        "has stayed up for 1m30s",
    ]
    for fact in facts:
        assert stored_fact(json.encode(fact).decode()) == fact
    assert stored_fact("race.slots is 24") is None
    for code in DifferenceCode:
        assert "{" not in describe_difference(LayerDifference(code, "24", 7))
    for kind in ConsequenceCode:
        detail = {
            "advice": "less is more",
            "by": "x is 1",
            "text": "1 is none",
            "world": "w",
            "made": "1",
            "wanted": "2",
            "command": "./status.sh",
            "allowed": "yes",
            "server": "regatta",
        }
        words = describe_consequence(
            Consequence(kind, ("race.slots",), {**detail, "who": "Wren", "roster": "r", "what": "x"})
        )
        assert words.startswith(("race.slots: ", "Wren joins r: ", "Wren leaves r: ", "x"))
    unasked = Consequence(
        ConsequenceCode.COMMAND, ("race.slots",), {"command": "x", "allowed": "", "server": "regatta"}
    )
    assert describe_consequence(unasked).endswith("To allow it: roundgate rulebook allow regatta")


@pytest.mark.parametrize("sign", ["=", "+", "-", "@", "\t", "\r", "\t=", " ="])
def test_no_cell_of_a_csv_is_a_formula(capsys: pytest.CaptureFixture[str], sign: str) -> None:
    numbers = ["-3", "+4.5", "-1e-05", "-10%", "-"]
    cell = f"{sign}HYPERLINK(1)"
    output.echo_csv([("name", cell, "a=b", *numbers)])
    ((name, first, plain, *rest),) = csv.reader(io.StringIO(capsys.readouterr().out))
    assert (name, plain, rest) == ("name", "a=b", numbers), "what a spreadsheet does not calculate stays as it is"
    assert first.startswith("'") and first.endswith("HYPERLINK(1)")
