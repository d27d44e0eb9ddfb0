"""A round as it goes: each step in a line, a bar for what is waited for, and the end in words."""

from __future__ import annotations

import sys
import time
from typing import Any

from roundgate.cli.screen.output import has_colour, is_terminal, plain, say, styled
from roundgate.core.values.units import say_seconds, say_took
from roundgate.host.store import RoundRow

EXIT_CODES = {
    "proven": 0,
    "unread": 0,
    "written": 0,
    "done": 0,
    "refused": 1,
    "busy": 5,
    "called-off": 1,
    "failed": 1,
    "rewound": 3,
    "lost": 3,
    "unfinished": 4,
}
_COLOURS = {
    "proven": "green",
    "unread": "green",
    "written": "green",
    "done": "green",
    "rewound": "yellow",
    "lost": "red",
    "unfinished": "red",
}
_WIDTH = 30


class RoundScreen:
    """Prints a round's messages as they come."""

    def __init__(self) -> None:
        """Print nothing yet."""
        self.wait = ""
        self.wait_began = 0.0
        self.wait_seconds: float | None = None
        self.end: dict[str, Any] | None = None

    def show(self, message: dict[str, Any]) -> None:
        """Print one message."""
        if "outcome" in message:
            self._clear()
            self.end = message
        elif message["mark"] == "wait":
            self.wait, self.wait_seconds, self.wait_began = message["said"], message["seconds"], time.monotonic()
            self.tick()
        else:
            self._clear()
            self._show_line(message)

    def _show_line(self, message: dict[str, Any]) -> None:
        step, said, mark = f"{message['step']:<9}", message["said"], message["mark"]
        if mark == "end":
            self.wait = ""
            say(f"  {step} done in {say_took(float(said))}")
        elif mark == "note":
            say(f"  {step} {plain(said)}")
        elif said:
            say(f"  {step} {plain(said)} ...")

    def tick(self) -> None:
        """Draw the bar of what is waited for, on a terminal only."""
        if not self.wait or not is_terminal():
            return
        gone = time.monotonic() - self.wait_began
        if self.wait_seconds:
            full = min(_WIDTH, int(_WIDTH * gone / self.wait_seconds))
            bar = "#" * full + "." * (_WIDTH - full)
            words = f"{say_seconds(int(gone))} of about {say_seconds(max(1, round(self.wait_seconds)))}"
        else:
            bar, words = "." * _WIDTH, say_seconds(int(gone))
        sys.stdout.write(f"\r  {bar} {plain(self.wait)}, {words} " + ("\033[K" if has_colour() else ""))
        sys.stdout.flush()

    def _clear(self) -> None:
        if self.wait and is_terminal():
            sys.stdout.write("\r" + ("\033[K" if has_colour() else " " * 79 + "\r"))

    def finish(self, number: int, row: RoundRow | None = None) -> int:
        """Print the end; give the exit code. ``row`` is what the books say where the round itself said nothing."""
        if self.end is None and row is not None and row.outcome:
            return say_end(number, row.outcome, row.said, "", row.evidence)
        if self.end is None:
            say(f"Round {number} ended without a word.")
            say(f"  do: roundgate rounds show {number}")
            return EXIT_CODES["unfinished"]
        return say_end(number, self.end["outcome"], self.end["said"], self.end["do"], self.end["evidence"])


def say_end(number: int, outcome: str, said: str, do: str, evidence: list[str]) -> int:
    """Print how a round ended, and the evidence; give the exit code."""
    say(f"Round {number} {styled(outcome, _COLOURS.get(outcome, 'yellow'))}: {plain(said)}")
    if evidence and outcome not in ("proven", "unread", "done"):
        say("  The server's last words:")
        for line in evidence:
            say(f"    | {plain(line)}")
    if do:
        say(f"  do: {do}")
    return EXIT_CODES[outcome]
