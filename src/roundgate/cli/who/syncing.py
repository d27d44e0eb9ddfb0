"""``roster sync``: the rosters of all servers as the people book wants them, with one review for all."""

from __future__ import annotations

from typing import TYPE_CHECKING

import typer

from roundgate.cli.screen.output import echo, echo_next, echo_table, plain, warn
from roundgate.core.next_step import typed_command
from roundgate.core.operations.records import AddRecord, RemoveRecord, SetField
from roundgate.host.errors import Trouble

if TYPE_CHECKING:
    from collections.abc import Mapping

    from roundgate.api.people import Synced
    from roundgate.api.server import OpenServer
    from roundgate.cli.call import CallContext
    from roundgate.core.operations.base import Operation
    from roundgate.core.people.book import People
    from roundgate.core.people.rosters import Standing

_NAMED = 10
"""So many people are named; more are counted."""


def synchronize(context: CallContext, word: str, book: People, *, exact: bool, yes_really: bool) -> None:
    """Put onto the slates what makes the rosters as the book wants them. Raises Exit where a server cannot be done."""
    from roundgate.api.people import synced
    from roundgate.cli.edit import slated

    servers = context.servers(word)
    found = {server.name: synced(server, book, exact=exact) for server in servers}
    for server in servers:
        _echo_remarks(server, found[server.name], book, exact=exact)
    _echo_review(servers, found, book)
    done, failed, waiting = [], [], 0
    for server in servers:
        operations = found[server.name].operations
        if not operations:
            continue
        try:
            slated(server, operations, yes_really=yes_really)
        except typer.Exit:  # the others go on
            failed.append(server.name)
        except Trouble as error:
            warn(f"{server.name}: {error.what} {error.do}")
            failed.append(server.name)
        else:
            done.append(server.name)
            waiting += len(server.workspace.waiting)
    well = [server.name for server in servers if server.name not in (*done, *failed)]
    if well:
        echo(f"{', '.join(well)}: the rosters are as the people book wants them.")
    if done:
        names = ",".join(done)
        echo(
            f"On the {'slate' if len(done) == 1 else 'slates'} of {', '.join(done)}, not in force ({waiting} waiting)."
        )
        echo_next(typed_command("apply", names, hint=f"look first: roundgate slate {names}"))
    if failed:
        raise typer.Exit(1)


def _echo_remarks(server: OpenServer, found: Synced, book: People, *, exact: bool) -> None:
    """Print what the book names and the server does not have, and who is kept though the book does not want them."""
    for name in found.unknown:
        echo(f"{server.name}  has no roster '{name}'; the people book names it")
    for standing in found.unwanted[:_NAMED] if not exact else ():
        who = name_of(server, standing, book) or standing.id
        echo(f"{server.name}  {plain(who)} is on {standing.roster}, unwanted by the book: kept (--exact takes it off)")
    if len(found.unwanted) > _NAMED and not exact:
        echo(f"{server.name}  and {len(found.unwanted) - _NAMED} more, unwanted by the book: kept")


def _echo_review(servers: list[OpenServer], found: Mapping[str, Synced], book: People) -> None:
    """Print who joins, changes and leaves, by servers."""
    cells: dict[str, dict[str, list[str]]] = {}
    names: dict[str, str] = {}
    for server in servers:
        synced = found[server.name]
        known: dict[str, str] = {}
        for standing in (*synced.unwanted, *synced.standings):
            known[standing.id] = name_of(server, standing, book) or known.get(standing.id, "")
        ended = {(over.standing.roster, over.standing.id): over.end for over in synced.ended}
        rosters = {roster.records: name for name, roster in server.book.roster.items()}
        for operation in synced.operations:
            assert isinstance(operation, AddRecord | RemoveRecord | SetField)
            identifier, roster = operation.record, rosters[operation.set]
            key = book.named(identifier, server.book.kind)
            names[identifier] = book.people[key].name if key else known.get(identifier) or names.get(identifier, "")
            text = _describe_operation(
                operation, roster, server.book.roster[roster].rank, ended.get((roster, identifier), "")
            )
            cells.setdefault(identifier, {}).setdefault(server.name, []).append(text)
    if not cells:
        return
    columns = [server.name for server in servers if any(server.name in row for row in cells.values())]
    ordered = sorted(cells, key=lambda cell: (names[cell] == "", names[cell].lower(), cell))
    echo_table(
        ("name", "id", *columns),
        [
            (
                plain(names[person_id]),
                person_id,
                *("; ".join(cells[person_id].get(column, ())) or "-" for column in columns),
            )
            for person_id in ordered
        ],
    )


def _describe_operation(operation: Operation, roster: str, rank: str, end: str) -> str:
    if isinstance(operation, SetField):
        return f"{roster}: {operation.held_before or 'nothing'} -> {operation.stored}"
    if isinstance(operation, AddRecord):
        given = dict(operation.values).get(rank, "") if rank else ""
        return f"joins {roster}{f' as {given}' if given else ''}"
    return f"leaves {roster}{f', ended on {end}' if end else ''}"


def name_of(server: OpenServer, standing: Standing, book: People) -> str:
    """Return what somebody on a roster is called: by the people book, else by the file; empty where nothing says it."""
    key = book.named(standing.id, server.book.kind)
    return book.people[key].name if key else standing.record.value("name") or ""
