"""Rounds of many servers in waves: the next wave only begins when the last one is proven."""

from __future__ import annotations

import re
import select
import sys
import time
from collections.abc import Sequence
from typing import TYPE_CHECKING, Literal, NamedTuple

from roundgate.cli.screen.ctrl_c import CtrlC
from roundgate.cli.screen.output import echo, echo_table, is_terminal, plain, styled
from roundgate.cli.screen.rounds import EXIT_CODES
from roundgate.core.next_step import Advice, step_of
from roundgate.core.rounds import RoundOutcome
from roundgate.core.values.units import format_elapsed
from roundgate.host.errors import Trouble, WrongUsage, as_trouble
from roundgate.host.rounds.events import RoundEnded, StepBegun, StepDone, Waits
from roundgate.host.rounds.locking import held, refuse_broken_off
from roundgate.host.rounds.options import Options
from roundgate.host.rounds.process import RoundWindow, launch
from roundgate.host.servers import Server
from roundgate.host.store import Store

if TYPE_CHECKING:
    from rich.live import Live
    from rich.table import Table

_COLOURS = {"proven": "green", "done": "green", "written": "green", "not begun": "yellow", "waits": ""}
_REFUSED = "refused"


class PlannedRound(NamedTuple):
    """A server whose round is to begin in its turn."""

    server: Server
    options: Options


class Row:
    """How one server stands."""

    def __init__(self, wave: int, planned: PlannedRound) -> None:
        """Begin waiting."""
        self.wave = wave
        self.planned = planned
        self.state = "waits"
        self.message = ""
        self.do: Advice = ""
        self.evidence: Sequence[str] = ()
        self.code = 0
        self.window: RoundWindow | None = None
        self.began = 0.0
        self.took = 0.0
        self.ended = False

    @property
    def name(self) -> str:
        """The server's name."""
        return self.planned.server.name


def wave_sizes(text: str, many: int) -> list[int]:
    """Read ``1,3,rest`` or ``10%,50%,rest``: how many servers each wave has. What is left is a last wave.

    Raises WrongUsage.
    """
    sizes: list[int] = []
    parts = [word.strip() for word in text.split(",")] if text else ["rest"]
    for at, word in enumerate(parts):
        left = many - sum(sizes)
        if word.lower() == "rest" and at == len(parts) - 1:
            size = left
        elif match := re.fullmatch(r"(\d{1,6})(%?)", word):
            size = -(-many * int(match[1]) // 100) if match[2] else int(match[1])
            if not size:
                raise WrongUsage(f"A wave of '{word}' has no server.", "--waves 1,3,rest")
        else:
            raise WrongUsage(f"'{word}' is not a wave.", "--waves 1,3,rest    (or percent: 10%,50%,rest)")
        sizes.append(min(size, left))
    if sum(sizes) < many:
        sizes.append(many - sum(sizes))
    return [size for size in sizes if size]


def run_in_waves(planned: Sequence[PlannedRound], store: Store, *, waves: str, together: int, go_on: bool) -> int:
    """Run the rounds wave by wave, several at a time, and show all of them in one table. Give the exit code."""
    sizes = wave_sizes(waves, len(planned))
    rows: list[Row] = []
    is_called_off = False
    for wave, size in enumerate(sizes, 1):
        rows += [Row(wave, plan) for plan in planned[len(rows) : len(rows) + size]]
    with CtrlC() as ctrl_c:
        screen = _Screen(rows, ctrl_c)
        try:
            for wave in range(1, len(sizes) + 1):
                here = [row for row in rows if row.wave == wave]
                answer = _run_wave(here, store, together or len(here), screen)
                if answer == "leave":
                    screen.stop()
                    _left_alone(rows)
                    return 0
                is_called_off = answer == "call off"
                if is_called_off or (any(row.code for row in here) and not go_on):
                    break
        finally:
            screen.stop()
    for row in rows:
        if not row.ended:
            row.state = "not begun"
    why = "it was called off" if is_called_off else "a wave before failed"
    return _summary(rows, len(sizes), why)


def _run_wave(rows: Sequence[Row], store: Store, together: int, screen: _Screen) -> Answer:
    """Run one wave; return what a person wants who has pressed Ctrl-C."""
    waiting, running = list(rows), list[Row]()
    answer: Answer = "watch"
    while waiting or running:
        while waiting and len(running) < together:
            row = waiting.pop(0)
            if _begin(row, store, screen):
                running.append(row)
        if not running:
            continue
        sources: list[CtrlC | RoundWindow] = [screen.ctrl_c, *(row.window for row in running if row.window)]
        able, _, _ = select.select(sources, [], [], screen.pause)
        if screen.ctrl_c in able:
            pressed = _asked(running, screen)
            if pressed == "leave":
                return pressed
            if pressed == "call off":
                answer = pressed
                waiting.clear()  # those of this wave that wait for their turn too: "all" is what was asked for
        for row in [row for row in running if row.window in able]:
            _hear(row, store, screen)
        running = [row for row in running if not row.ended]
        screen.show()
    return answer


def _begin(row: Row, store: Store, screen: _Screen) -> bool:
    """Begin a server's round; return whether it runs."""
    row.began = time.monotonic()
    try:
        refuse_broken_off(row.planned.server, store)
        with held(row.planned.server, store):
            pass  # quickly told here; the round's own process takes the lock for good
        row.window = launch(row.planned.server, store, row.planned.options)
    except Exception as error:
        trouble = error if isinstance(error, Trouble) else as_trouble(error)
        if trouble is None:
            raise
        row.state, row.message, row.do, row.code, row.ended = (
            _REFUSED,
            trouble.what,
            trouble.do,
            trouble.exit_code,
            True,
        )
        screen.tell(row)
        return False
    row.state = f"round {row.window.number}"
    screen.tell(row)
    return True


def _hear(row: Row, store: Store, screen: _Screen) -> None:
    """Take what a round tells."""
    window = row.window
    assert window is not None
    events = window.some_events()
    for event in events or ():
        match event:
            case RoundEnded():
                row.state, row.message, row.do = str(event.outcome), event.message, event.do
                row.evidence = () if event.outcome.went_well else event.evidence
                row.code = EXIT_CODES[event.outcome]
            case StepBegun(step, _) | Waits(step, _, _) | StepDone(step, _):
                row.state = str(step)
    if events is not None:
        return
    row.ended, row.took = True, time.monotonic() - row.began
    window.close()
    if row.state not in set(RoundOutcome):
        known = store.round(window.number)
        outcome = RoundOutcome(known.outcome) if known is not None and known.outcome else RoundOutcome.UNFINISHED
        row.state, row.code = str(outcome), EXIT_CODES[outcome]
        row.message = known.message if known is not None and known.outcome else "It ended without a message."
    screen.tell(row)


Answer = Literal["watch", "leave", "call off"]
"""What Ctrl-C means: go on watching, leave the rounds to themselves, or call them off and begin no other."""


def _asked(running: Sequence[Row], screen: _Screen) -> Answer:
    """Ask what Ctrl-C should mean."""
    screen.stop()
    echo()
    if not sys.stdin.isatty():
        return "leave"
    answer = screen.ctrl_c.ask("[l]eave them running, [c]all them off, or go on [w]atching? ")
    if answer.startswith("c"):
        for row in running:
            if row.window is not None:
                row.window.call_off()
        echo("Asked them to stop; that works until a round begins to write. No other round begins.")
        return "call off"
    return "leave" if answer.startswith("l") else "watch"


def _left_alone(rows: Sequence[Row]) -> None:
    for row in rows:
        if row.window is not None and not row.ended:
            row.window.close()
            echo(f"{row.name}: the round goes on by itself: roundgate rounds show {row.window.number}")
    names = [row.name for row in rows if row.window is None and not row.ended]
    if names:
        echo(f"Not begun: {', '.join(names)}")


def _summary(rows: Sequence[Row], waves: int, why_left: str) -> int:
    """Print how each server ended, what went wrong and what to do; return the exit code.

    ``why_left`` says why some rounds were not begun, where some were not.
    """
    echo()
    table = [
        (
            str(row.wave) if waves > 1 else "",
            row.name,
            row.state,
            format_elapsed(row.took) if row.took else "",
            plain(row.message),
        )
        for row in rows
    ]
    echo_table(("wave", "server", "outcome", "took", "what"), table)
    for row in rows:
        if row.code:
            if row.evidence:
                echo(f"  The last words of {row.name}:")
                for line in row.evidence:
                    echo(f"    | {plain(line)}")
            if row.do:
                echo("\n".join(f"  {line}" for line in step_of(row.do).lines()))
    left = [row.name for row in rows if row.state == "not begun"]
    well = sum(1 for row in rows if row.ended and not row.code)
    if left:
        echo(f"{well} of {len(rows)} went well; not begun, because {why_left}: {', '.join(left)}")
    else:
        echo(f"{well} of {len(rows)} went well.")
    return max((row.code for row in rows), default=0) or int(bool(left))


class _Screen:
    """One table of all servers, redrawn at a terminal; elsewhere a line for each that begins or ends."""

    def __init__(self, rows: Sequence[Row], ctrl_c: CtrlC) -> None:
        self.rows = rows
        self.ctrl_c = ctrl_c
        self.pause = 0.25 if is_terminal() else None
        """Seconds after which the table is drawn again though nothing was heard."""
        self._live: Live | None = None

    def show(self) -> None:
        """Draw the table again."""
        if not is_terminal():
            return
        if self._live is None:
            from rich.console import Console
            from rich.live import Live

            self._live = Live(self._table(), console=Console(highlight=False), auto_refresh=False, transient=True)
            self._live.start()
        self._live.update(self._table(), refresh=True)

    def _table(self) -> Table:
        from rich.table import Table
        from rich.text import Text

        table = Table(box=None, pad_edge=False, header_style="bold", padding=(0, 2, 0, 0))
        for header in ("wave", "server", "state", "since"):
            table.add_column(header)
        for row in self.rows:
            since = row.took or (time.monotonic() - row.began if row.began else 0.0)
            colour = "red" if row.code else _COLOURS.get(row.state, "cyan")
            shown = format_elapsed(since) if since else ""
            table.add_row(str(row.wave), Text(row.name), Text(row.state, colour), shown)
        return table

    def tell(self, row: Row) -> None:
        """Print that a server's round begins or ends, where no table shows it."""
        if is_terminal():
            self.show()
            return
        if not row.ended:
            echo(f"{row.name}: {row.state} begins")
        else:
            echo(f"{row.name}: {styled(row.state, 'red' if row.code else 'green')}: {plain(row.message)}")

    def stop(self) -> None:
        """Take the table away, so that something else can be printed."""
        if self._live is not None:
            self._live.stop()
            self._live = None
