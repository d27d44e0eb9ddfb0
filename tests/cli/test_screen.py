"""What a person reads: carets under the right place, tables that fit, and nothing that acts on the terminal."""

from __future__ import annotations

import io

import pytest

from roundgate.cli.screen import output
from roundgate.cli.screen.findings import count_words, say_findings
from roundgate.cli.screen.rounds import EXIT_CODES, RoundScreen
from roundgate.core.findings import Finding, Place


def shown(finding: Finding, capsys: pytest.CaptureFixture[str]) -> list[str]:
    say_findings([finding])
    return capsys.readouterr().out.rstrip("\n").split("\n")


def test_a_finding_is_one_block_with_its_place_its_cause_and_what_to_do(capsys: pytest.CaptureFixture[str]) -> None:
    place = Place("gullwind.properties", 14, 12, 2, "boat.slots=40")
    finding = Finding(
        "value-range", "error", place, "40 is above the most, 32.", "roundgate set regatta race.slots=32", "regatta"
    )
    assert shown(finding, capsys) == [
        "error  value-range  gullwind.properties:14:12  regatta",
        "  boat.slots=40",
        "             ^^ 40 is above the most, 32.",
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
    assert count_words({"error": 1, "warning": 2}) == "1 error, 2 warnings"
    assert count_words({}) == "nothing wrong"


def test_tables_line_up_leave_out_empty_columns_and_show_control_characters(capsys: pytest.CaptureFixture[str]) -> None:
    output.say_table(("server", "waits", "state"), [("harbour", "", "up"), ("r\x1b[2J", "", "down")])
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
    for message in (
        {"step": "stop", "mark": "begin", "said": ""},
        {"step": "stop", "mark": "wait", "said": "'stop' on the console", "seconds": 2.0},
        {"step": "stop", "mark": "end", "said": "0.051"},
        {"step": "proof", "mark": "note", "said": "race.slots is 24\x07"},
        {"outcome": "rewound", "said": "Not proven.", "do": "roundgate slate", "evidence": ["fatal: \x1b[31malloc"]},
    ):
        screen.show(message)
    assert screen.finish(7) == 3
    assert capsys.readouterr().out.split("\n")[:-1] == [
        "  stop      done in 51ms",
        "  proof     race.slots is 24\\x07",
        "Round 7 rewound: Not proven.",
        "  The server's last words:",
        "    | fatal: \\x1b[31malloc",
        "  do: roundgate slate",
    ]


def test_a_round_that_ends_without_a_word_needs_recovery(capsys: pytest.CaptureFixture[str]) -> None:
    assert RoundScreen().finish(7) == 4
    assert "roundgate rounds show 7" in capsys.readouterr().out


def test_every_outcome_has_its_exit_code() -> None:
    from typing import get_args

    from roundgate.host.rounds.options import Outcome

    assert set(get_args(Outcome)) == set(EXIT_CODES)
    assert {EXIT_CODES[one] for one in ("proven", "written", "done")} == {0}
    assert (EXIT_CODES["rewound"], EXIT_CODES["unfinished"], EXIT_CODES["busy"]) == (3, 4, 5)
