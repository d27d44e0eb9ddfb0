"""The pages of ``rounds``: the list, and one round whole."""

from __future__ import annotations

import time
from collections.abc import Sequence
from typing import TYPE_CHECKING

from roundgate.cli.screen.facts import describe_fact, stored_fact
from roundgate.cli.screen.output import echo, echo_do, echo_json, plain, styled
from roundgate.cli.screen.rounds import echo_end
from roundgate.core.next_step import typed_command
from roundgate.core.rounds import Mark, RoundKind, RoundOutcome
from roundgate.core.values.units import format_elapsed
from roundgate.host.errors import WrongUsage
from roundgate.host.life import describe_event, life_of
from roundgate.host.rounds.locking import broken_off

if TYPE_CHECKING:
    from roundgate.cli.call import CallContext
    from roundgate.cli.screen.outputs import JournalOutput, RoundOutput
    from roundgate.host.store import JournalLine, RoundRow, Store


def summary_row(row: RoundRow) -> tuple[str, ...]:
    """Return the row of one round in the list."""
    changes = ", ".join(change[0] for change in row.changes[:3])
    more = f" and {len(row.changes) - 3} more" if len(row.changes) > 3 else ""
    when = time.strftime("%Y-%m-%d %H:%M", time.localtime(row.began))
    return (str(row.number), row.server, row.kind, when, row.by, row.outcome or "open", changes + more)


def table_rows(context: CallContext, rows: Sequence[RoundRow], servers: Sequence[str]) -> list[tuple[str, ...]]:
    """Return the rows of the list, the newest first; what servers did by themselves stands among their rounds."""
    found = [(row.began, summary_row(row)) for row in rows]
    for name in servers:
        for event in life_of(context.opened(name).server):
            when = time.strftime("%Y-%m-%d %H:%M", time.localtime(event["at"]))
            found.append((event["at"], ("", name, event["what"], when, "", "", f"(by itself) {describe_event(event)}")))
    return [row for _, row in sorted(found, key=lambda finding: finding[0], reverse=True)]


def round_output(store: Store, row: RoundRow) -> RoundOutput:
    """Return a round for JSON."""
    from roundgate.cli.screen.outputs import RoundChange, RoundOutput

    return RoundOutput(
        row.number,
        row.server,
        RoundKind(row.kind),
        row.by,
        row.began,
        row.ended,
        row.outcome or "open",
        row.message,
        [RoundChange(*change) for change in row.changes],
        list(row.evidence),
        [_journal_output(line) for line in store.journal(row.number)],
    )


def _journal_output(line: JournalLine) -> JournalOutput:
    from roundgate.cli.screen.outputs import JournalOutput

    fact = stored_fact(line.message) if line.mark == Mark.FACT else None
    message = describe_fact(fact) if fact is not None else line.message
    return JournalOutput(line.at, line.step, Mark(line.mark), message, fact)


def echo_round(context: CallContext, number: int, *, as_json: bool) -> None:
    """Print one round whole. Raises WrongUsage where there is none of this number."""
    row = context.store.round(number)
    if row is None:
        raise WrongUsage(f"There is no round {number}.", typed_command("rounds"))
    if as_json:
        echo_json(round_output(context.store, row))
        return
    when = time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(row.began))
    took = f", took {format_elapsed(row.ended - row.began)}" if row.ended else ""
    echo(f"{styled(f'Round {row.number}', 'bold')}  {row.kind} of {row.server} by {row.by}, {when}{took}")
    for name, before, after in row.changes:
        echo(f"  {name}: {plain(before)} -> {plain(after)}" if before else f"  {name}: {plain(after)}")
    journal = context.store.journal(number)
    if row.outcome and not journal:
        echo("  (its steps are no longer kept)")
    for line in journal:
        step = "proof" if line.mark == Mark.FACT else line.step
        echo(f"  {time.strftime('%H:%M:%S', time.localtime(line.at))}  {step:<9} {_describe_line(line)}")
    if row.outcome:
        echo_end(row.number, RoundOutcome(row.outcome), row.message, "", row.evidence)
    elif broken_off(context.opened(row.server).server, context.store):
        echo("It was interrupted.")
        echo_do(typed_command("rounds recover", row.server))
    else:
        echo("It is at work.")


def _describe_line(line: JournalLine) -> str:
    if line.mark == Mark.BEGIN:
        return f"begins {plain(line.message)}".rstrip()
    if line.mark == Mark.END:
        return f"done in {format_elapsed(float(line.message))}"
    fact = stored_fact(line.message) if line.mark == Mark.FACT else None
    return plain(line.message if fact is None else describe_fact(fact))
