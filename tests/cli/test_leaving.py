"""Who leaves a question by Ctrl-C or Ctrl-D has meant to: nothing more is done, and no error is shown."""

from __future__ import annotations

import signal
import sys

import pytest

from conftest import SiteUnderTest, wait_for
from terminals import Terminal


@pytest.mark.parametrize("how", ["ctrl-d", "ctrl-c"])
@pytest.mark.parametrize(
    ("words", "question"),
    [(["apply", "regatta"], "[y/N]"), (["set", "regatta", "entry.code"], "not shown"), (["edit", "x"], "[g]ive up")],
)
def test_leaving_a_question_is_no_mistake_of_ours(
    regatta: SiteUnderTest, words: list[str], question: str, how: str
) -> None:
    regatta.ok("set", "race.slots=24")
    broken = regatta.folder / "x.json"
    broken.write_text("{}")
    editor = "sh -c 'echo { > $0'"
    words = [str(broken) if word == "x" else word for word in words]
    with Terminal([sys.executable, "-m", "roundgate", *words], regatta.folder, EDITOR=editor, VISUAL="") as terminal:
        terminal.until(question)
        if how == "ctrl-d":
            terminal.type("\x04")
        else:
            terminal.process.send_signal(signal.SIGINT)
        assert terminal.end() == 130, terminal.text
        assert "Stopped; nothing more was done." in terminal.text and "unexpected" not in terminal.text
    assert broken.read_text() == "{}"
    assert regatta.value("regatta", "boat.slots") == "16"


@pytest.mark.parametrize("how", ["ctrl-d", "ctrl-c"])
def test_a_round_goes_on_where_somebody_leaves_the_question_about_it(running: SiteUnderTest, how: str) -> None:
    running.ok("set", "race.slots=24")
    words = [sys.executable, "-m", "roundgate", "apply", "--yes", "--countdown", "4s"]
    with Terminal(words, running.folder) as terminal:
        terminal.until("restarts in")
        terminal.process.send_signal(signal.SIGINT)
        terminal.until("[c]all it off")
        if how == "ctrl-d":
            terminal.type("\x04")
        else:
            terminal.process.send_signal(signal.SIGINT)
        assert terminal.end() == 0, terminal.text
        assert "It goes on: roundgate rounds show" in terminal.text
    wait_for(lambda: running.value("regatta", "boat.slots") == "24")
    wait_for(lambda: "proven" in running.ok("rounds"))
