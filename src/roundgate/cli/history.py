"""The pages of ``rounds``: the list, and one round whole."""

from __future__ import annotations

import time
from collections.abc import Sequence
from typing import TYPE_CHECKING

from roundgate.cli.call import CallContext
from roundgate.cli.screen.facts import fact_words, stored_fact
from roundgate.cli.screen.output import plain, say, say_json, styled
from roundgate.cli.screen.rounds import say_end
from roundgate.core.rounds import Mark, RoundKind, RoundOutcome
from roundgate.core.values.units import say_took
from roundgate.host.errors import WrongWords
from roundgate.host.life import event_words, life_of
from roundgate.host.rounds.locking import broken_off
from roundgate.host.store import JournalLine, RoundRow, Store

if TYPE_CHECKING:
    from roundgate.cli.screen.outputs import JournalOutput, RoundOutput


def summary_row(row: RoundRow) -> tuple[str, ...]:
    """Give the row of one round in the list."""
    changes = ", ".join(change[0] for change in row.changes[:3])
    more = f" and {len(row.changes) - 3} more" if len(row.changes) > 3 else ""
    when = time.strftime("%Y-%m-%d %H:%M", time.localtime(row.began))
    return (str(row.number), row.server, row.kind, when, row.by, row.outcome or "open", changes + more)


def table_rows(context: CallContext, rows: Sequence[RoundRow], servers: Sequence[str]) -> list[tuple[str, ...]]:
    """Give the rows of the list, the newest first; what servers did by themselves stands among their rounds."""
    found = [(row.began, summary_row(row)) for row in rows]
    for name in servers:
        for event in life_of(context.opened(name).server):
            when = time.strftime("%Y-%m-%d %H:%M", time.localtime(event["at"]))
            found.append((event["at"], ("", name, event["what"], when, "", "", f"(by itself) {event_words(event)}")))
    return [row for _, row in sorted(found, key=lambda one: one[0], reverse=True)]


def round_output(store: Store, row: RoundRow) -> RoundOutput:
    """Give a round for JSON."""
    from roundgate.cli.screen.outputs import RoundChange, RoundOutput

    return RoundOutput(
        row.number,
        row.server,
        RoundKind(row.kind),
        row.by,
        row.began,
        row.ended,
        row.outcome or "open",
        row.said,
        [RoundChange(*change) for change in row.changes],
        list(row.evidence),
        [_journal_output(line) for line in store.journal(row.number)],
    )


def _journal_output(line: JournalLine) -> JournalOutput:
    from roundgate.cli.screen.outputs import JournalOutput

    fact = stored_fact(line.said) if line.mark == Mark.FACT else None
    said = fact_words(fact) if fact is not None else line.said
    return JournalOutput(line.at, line.step, Mark(line.mark), said, fact)


def say_round(context: CallContext, number: int, *, as_json: bool) -> None:
    """Print one round whole. Raises WrongWords where there is none of this number."""
    row = context.store.round(number)
    if row is None:
        raise WrongWords(f"There is no round {number}.", "roundgate rounds")
    if as_json:
        say_json(round_output(context.store, row))
        return
    when = time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(row.began))
    took = f", took {say_took(row.ended - row.began)}" if row.ended else ""
    say(f"{styled(f'Round {row.number}', 'bold')}  {row.kind} of {row.server} by {row.by}, {when}{took}")
    for name, before, after in row.changes:
        say(f"  {name}: {plain(before)} -> {plain(after)}" if before else f"  {name}: {plain(after)}")
    for line in context.store.journal(number):
        step = "proof" if line.mark == Mark.FACT else line.step
        say(f"  {time.strftime('%H:%M:%S', time.localtime(line.at))}  {step:<9} {_words(line)}")
    if row.outcome:
        say_end(row.number, RoundOutcome(row.outcome), row.said, "", row.evidence)
    elif broken_off(context.opened(row.server).server, context.store):
        say(f"It was broken off.\n  do: roundgate recover {row.server}")
    else:
        say("It is at work.")


def _words(line: JournalLine) -> str:
    if line.mark == Mark.BEGIN:
        return f"begins {plain(line.said)}".rstrip()
    if line.mark == Mark.END:
        return f"done in {say_took(float(line.said))}"
    fact = stored_fact(line.said) if line.mark == Mark.FACT else None
    return plain(line.said if fact is None else fact_words(fact))
