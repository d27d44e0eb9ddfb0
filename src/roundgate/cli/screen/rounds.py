"""A round as it goes: each step in a line, a bar for what is waited for, and the end."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from roundgate.cli.screen.facts import describe_fact
from roundgate.cli.screen.output import echo, echo_do, is_terminal, plain, styled
from roundgate.core.next_step import Advice, step_of, typed_command
from roundgate.core.rounds import RoundOutcome
from roundgate.core.values.units import format_elapsed
from roundgate.host.rounds.events import Noted, Proved, RoundEnded, RoundEvent, StepBegun, StepDone, Waits

if TYPE_CHECKING:
    from rich.progress import Progress

    from roundgate.host.store import RoundRow

EXIT_CODES = {
    RoundOutcome.PROVEN: 0,
    RoundOutcome.UNREAD: 0,
    RoundOutcome.WRITTEN: 0,
    RoundOutcome.DONE: 0,
    RoundOutcome.REFUSED: 1,
    RoundOutcome.BUSY: 5,
    RoundOutcome.CALLED_OFF: 1,
    RoundOutcome.FAILED: 1,
    RoundOutcome.REWOUND: 3,
    RoundOutcome.LOST: 3,
    RoundOutcome.UNFINISHED: 4,
}
_COLOURS = {
    **dict.fromkeys(
        (RoundOutcome.PROVEN, RoundOutcome.UNREAD, RoundOutcome.WRITTEN, RoundOutcome.DONE),
        "green",
    ),
    RoundOutcome.LOST: "red",
    RoundOutcome.UNFINISHED: "red",
}


class RoundScreen:
    """Prints a round's events as they come."""

    def __init__(self) -> None:
        """Print nothing yet."""
        self._bar: Progress | None = None
        self.end: RoundEnded | None = None

    def show(self, event: RoundEvent) -> None:
        """Print one event."""
        if isinstance(event, Waits):
            self._start_bar(event)
            return
        self.pause()
        match event:
            case RoundEnded():
                self.end = event
            case StepDone(step, seconds):
                echo(f"  {step:<9} done in {format_elapsed(seconds)}")
            case StepBegun(step, words):
                if words:
                    echo(f"  {step:<9} {plain(words)} ...")
            case Noted(step, words):
                echo(f"  {step:<9} {plain(words)}")
            case Proved(fact):
                echo(f"  {'proof':<9} {plain(describe_fact(fact))}")

    def _start_bar(self, event: Waits) -> None:
        """Show what is waited for, on a terminal only."""
        self.pause()
        if not is_terminal():
            return
        from roundgate.cli.screen.bar import wait_bar

        self._bar = wait_bar(plain(event.message), event.seconds)

    def pause(self) -> None:
        """Take the bar away, so that something else can be printed."""
        if self._bar is not None:
            self._bar.stop()
            self._bar = None

    def finish(self, number: int, row: RoundRow | None = None) -> int:
        """Print the end; return the exit code. ``row`` is what the books say where the round itself said nothing."""
        self.pause()
        if self.end is None and row is not None and row.outcome:
            return echo_end(number, RoundOutcome(row.outcome), row.message, "", row.evidence)
        if self.end is None:
            echo(f"Round {number}: its process ended without a message. The keeper of a server that is up finishes it.")
            echo_do(typed_command("rounds recover", row.server) if row else typed_command("rounds show", "", number))
            return EXIT_CODES[RoundOutcome.UNFINISHED]
        return echo_end(number, self.end.outcome, self.end.message, self.end.do, self.end.evidence)


def echo_end(number: int, outcome: RoundOutcome, message: str, do: Advice, evidence: Sequence[str]) -> int:
    """Print how a round ended, and the evidence; return the exit code."""
    echo(f"Round {number} {styled(outcome, _COLOURS.get(outcome, 'yellow'))}: {plain(message)}")
    if evidence and not outcome.went_well:
        echo("  The server's last words:")
        for line in evidence:
            echo(f"    | {plain(line)}")
    for line in step_of(do).lines():
        echo(f"  {line}")
    return EXIT_CODES[outcome]
