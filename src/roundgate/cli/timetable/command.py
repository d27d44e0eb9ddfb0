"""The timetable: ``timetable show``, ``skip`` and ``run``."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING, Annotated

import typer

from roundgate.cli.complete import after_server, complete_server
from roundgate.cli.opening import open_call
from roundgate.cli.screen.output import echo, echo_json, echo_table, plain
from roundgate.core.next_step import did_you_mean, typed_command
from roundgate.core.values.units import format_ahead
from roundgate.host.errors import UnknownName, WrongUsage

if TYPE_CHECKING:
    from roundgate.cli.call import CallContext
    from roundgate.cli.screen.outputs import TimetableOutput
    from roundgate.host.timetable.plan import PlannedEntry

_EXAMPLE = """  [timetable.nightly]
  do = "restart"
  at = ["05:00"]
  countdown = "10m\""""


def show(
    server: Annotated[
        str | None,
        typer.Argument(metavar="[SERVER]", help="Which servers; default: all.", autocompletion=complete_server),
    ] = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print JSON.")] = False,
) -> None:
    """Show each entry of the timetable, the next moment of it, and what became of the last."""
    context = open_call()
    rows = _rows(context, [opened.name for opened in context.several(server, default_all=True, lenient=True)])
    if as_json:
        echo_json(rows)
        return
    if not rows:
        echo(f"Nothing is planned. In roundgate.toml, for example:\n{_EXAMPLE}")
        return
    now = time.time()
    table = [
        (
            row.entry,
            row.server,
            row.do,
            f"{row.when} {row.zone}",
            _format_next(row, now),
            "" if row.last is None else f"{row.last_when} {row.last}{f': {plain(row.detail)}' if row.detail else ''}",
        )
        for row in rows
    ]
    echo_table(("entry", "server", "does", "when", "next", "last"), table)
    echo(f"To skip the next: roundgate timetable skip {rows[0].server} {rows[0].entry}")


def _format_next(row: TimetableOutput, now: float) -> str:
    if row.next is None:
        return "never"
    skip = " (skipped)" if row.skipped else ""
    return f"{row.next_when}, in {format_ahead(row.next - now)}{skip}"


def _rows(context: CallContext, names: list[str]) -> list[TimetableOutput]:
    from roundgate.cli.screen.outputs import TimetableOutput
    from roundgate.host.timetable.books import TimetableBooks
    from roundgate.host.timetable.looking import next_of

    site, now, rows = context.site, time.time(), []
    if not site.file.timetable:
        return []
    books = TimetableBooks(site)
    for name in names:
        for planned, at, is_skipped in next_of(site, name, now):
            last = books.last(name, planned.name, now)
            entry = planned.entry
            rows.append(
                TimetableOutput(
                    planned.name,
                    name,
                    entry.do,
                    entry.cron or " ".join([*entry.at, *entry.days]),
                    planned.zone_name,
                    at,
                    planned.clock(at, "%a %d %b %H:%M"),
                    is_skipped,
                    last.outcome if last is not None else None,
                    planned.clock(last.due, "%d %b %H:%M") if last is not None else "",
                    last.detail if last is not None else "",
                )
            )
    books.close()
    return rows


def skip(
    arguments: Annotated[
        list[str],
        after_server("ENTRY", "Such as: regatta nightly"),
    ],
    undo: Annotated[bool, typer.Option("--undo", help="Undo: run it after all.")] = False,
) -> None:
    """Skip the next run of an entry of the timetable, this one time."""
    from roundgate.host.timetable.books import TimetableBooks

    context = open_call()
    word, [entry] = context.after_server("timetable skip", arguments, "ENTRY")
    planned = _entry(context, entry)
    asked = [opened.name for opened in context.several(word, default_all=True, lenient=True)]
    names = [name for name in planned.servers if name in asked]
    if not names:
        raise WrongUsage(f"{entry} is not for {word}, but for {', '.join(planned.servers) or 'none'}.")
    now = time.time()
    books = TimetableBooks(context.site)
    for name in names:
        at = planned.next_moment(now)
        if at is None:
            echo(f"{name}: {entry} never occurs.")
            continue
        if undo:
            books.forget(name, entry, at)
        else:
            state = books.taken(name, entry, now).get(at)
            if state not in (None, "skip"):
                raise WrongUsage(f"{entry} of {name} has begun already.", typed_command("rounds cancel", name))
            books.write(name, entry, at, "skip")
        what = "takes place" if undo else "is skipped"
        echo(f"{name}: {entry} at {planned.clock(at, '%a %d %b %H:%M')} {what}.")
    books.close()


def _entry(context: CallContext, word: str) -> PlannedEntry:
    from roundgate.core.nearest import nearest
    from roundgate.host.timetable.plan import timetable_of

    known = {planned.name: planned for planned in timetable_of(context.site)}
    if word not in known:
        near = nearest(word, known)
        hint = did_you_mean(word, near) if near else f"Entries: {', '.join(known) or 'none'}"
        raise UnknownName(f"The timetable has no '{word}'.", hint)
    return known[word]


def run(
    unit: Annotated[bool, typer.Option("--unit", help="Print a systemd unit that runs it.")] = False,
) -> None:
    """Run the timetable of all servers of the site, until it is ended: for those that have no keeper.

    Where a keeper and this process both see to a server, each run still takes place once.
    """
    from roundgate.host.timetable.clock import clock_unit, run_clock

    context = open_call(quiet=True)
    if unit:
        echo(clock_unit(context.site).rstrip())
        return
    echo(f"Running the timetable of {context.site.file.site.name or context.site.folder.name}; Ctrl-C ends it.")
    run_clock(context.site.folder, lambda line: echo(plain(line)))
