"""Rosters, the lists of people that servers keep: ``roster show``, ``sync``, ``import`` and ``first``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from roundgate.cli.complete import after_server, complete_server, complete_server_first
from roundgate.cli.opening import open_call
from roundgate.cli.screen.output import echo, echo_do, echo_json, echo_table, plain
from roundgate.cli.who.people import Json, book_of, format_when, harmless
from roundgate.core.next_step import typed_command
from roundgate.host.errors import Trouble, UnknownName

if TYPE_CHECKING:
    from roundgate.api.server import OpenServer
    from roundgate.cli.call import CallContext


def show(
    arguments: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[SERVER [ROSTER]]", help="Such as: regatta guests", autocompletion=complete_server_first
        ),
    ] = None,
    as_json: Json = False,
) -> None:
    """Show who is on which roster (admins, guests, bans) of which server; with ROSTER, when they were last seen too."""
    context = open_call()
    word, given = context.after_server("roster show", arguments, "[ROSTER]")
    if given:
        _one_roster(context, word, given[0], as_json=as_json)
    else:
        _matrix(context, context.readable(word or "@all"), as_json=as_json)


def sync(
    server: Annotated[
        str, typer.Argument(metavar="[SERVER]", help="Which servers; default: all.", autocompletion=complete_server)
    ] = "@all",
    exact: Annotated[bool, typer.Option("--exact", help="Also take off whom the book does not want.")] = False,
    yes_really: Annotated[
        bool, typer.Option("--force", help="With --exact: even the last admin of a server, or yourself.")
    ] = False,
) -> None:
    """Put onto the slates what makes the rosters as the people book wants them.

    Whom the book does not want, on a roster on which it wants others, is reported and kept, unless --exact.
    """
    from roundgate.cli.who.syncing import synchronize

    context = open_call()
    synchronize(context, server, book_of(context), exact=exact, yes_really=yes_really)


def import_text(
    arguments: Annotated[
        list[str],
        after_server("ROSTER FILE", "Such as: regatta guests list.txt"),
    ],
) -> None:
    """Put the ids that a text holds onto a roster: a list, CSV, JSON, a chat; - is standard input.

    What only looks like an id is reported and left out.
    """
    context = open_call()
    word, [roster, file] = context.after_server("roster import", arguments, "ROSTER", "FILE")
    _import(context, word, roster, file)


def first(
    arguments: Annotated[
        list[str] | None,
        after_server("[ROSTER]", "Such as: regatta officers"),
    ] = None,
    as_rank: Annotated[str, typer.Option("--as", metavar="RANK", help="The rank of the first admin.")] = "",
    within: Annotated[str, typer.Option(help="How long to wait for somebody to join.")] = "10m",
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Do not ask.")] = False,
) -> None:
    """Start a fresh server, wait for you to join, and make you its admin: for when nobody is yet."""
    from roundgate.cli.changes.first_admin import first_admin

    context = open_call()
    word, given = context.after_server("roster first", arguments, "[ROSTER]")
    first_admin(context, context.server(word), given[0] if given else "", as_rank, within, yes=yes)


def _matrix(context: CallContext, servers: list[OpenServer], *, as_json: bool) -> None:
    """Print people by servers, and what each is there."""
    from roundgate.api.people import standings
    from roundgate.core.people.until import end_on
    from roundgate.host.people.book import places_of

    book = book_of(context)
    cells: dict[str, dict[str, list[str]]] = {}
    names: dict[str, str] = {}
    for server in servers:
        places = places_of(server.server)
        for standing in standings(server):
            key = book.named(standing.id, server.book.kind)
            end = standing.until or (end_on(book.people[key], standing.roster, places) if key else "")
            place = standing.roster + (f":{standing.rank}" if standing.rank else "") + (f" until {end}" if end else "")
            cells.setdefault(standing.id, {}).setdefault(server.name, []).append(place)
            names[standing.id] = (
                book.people[key].name if key else names.get(standing.id) or standing.record.value("name") or ""
            )
    if as_json:
        from roundgate.cli.screen.outputs import RosterOutput

        echo_json([RosterOutput(person_id, names[person_id], found) for person_id, found in cells.items()])
        return
    if not cells:
        echo("Nobody is on any roster.")
        return
    columns = [server.name for server in servers]
    ordered = sorted(cells.items(), key=lambda pair: (names[pair[0]] == "", names[pair[0]].lower(), pair[0]))
    rows = [
        (plain(names[person_id]), person_id, *(", ".join(found.get(column, [])) or "-" for column in columns))
        for person_id, found in ordered
    ]
    echo_table(("name", "id", *columns), rows)


def _one_roster(context: CallContext, word: str | None, name: str, *, as_json: bool) -> None:
    """Print who is on one roster of servers, what they are there, until when, and when they were seen."""
    from roundgate.api.people import roster_named, seen_everywhere, standings
    from roundgate.cli.screen.outputs import StandingOutput
    from roundgate.cli.who.syncing import name_of
    from roundgate.core.people.until import end_on
    from roundgate.host.people.book import places_of

    book, output = book_of(context), []
    servers = context.readable(word)
    seen = seen_everywhere(servers)
    for server in servers:
        roster, places = roster_named(server, name), places_of(server.server)
        for standing in standings(server):
            if standing.roster != roster:
                continue
            key = book.named(standing.id, server.book.kind)
            end = standing.until or (end_on(book.people[key], roster, places) if key else "")
            last = seen.get(server.name, {}).get(standing.id)
            output.append(
                StandingOutput(
                    server.name,
                    standing.id,
                    name_of(server, standing, book) or (last.name if last is not None else ""),
                    standing.rank,
                    end,
                    last.last if last is not None else 0.0,
                    key,
                )
            )
    if as_json:
        echo_json(output)
        return
    if not output:
        names = ",".join(server.name for server in servers)
        echo("Nobody is on it.")
        echo_do(typed_command("add", names, name, "<name>"))
        return
    rows = [
        (row.server, harmless(row.name), row.id, row.rank, row.until, format_when(row.last), row.person)
        for row in output
    ]
    echo_table(("server", "name", "id", "as", "until", "last seen", "in the book"), rows)


def _import(context: CallContext, word: str | None, name: str, file: str) -> None:
    """Put the ids that a text holds onto a roster."""
    import sys
    from pathlib import Path

    from roundgate.api.people import imported
    from roundgate.cli.edit import put

    server = context.server(word)
    if name not in server.book.roster:
        raise UnknownName(
            f"{server.name} has no roster '{name}'.", f"Rosters: {', '.join(server.book.roster) or 'none'}"
        )
    try:
        text = sys.stdin.read() if file == "-" else Path(file).read_text("utf-8", "replace")
    except OSError as error:
        raise Trouble(f"{file} cannot be read: {(error.strerror or str(error)).lower()}.") from error
    found = imported(server, book_of(context), name, text)
    for doubtful in found.doubtful:
        echo(f"{server.name}  skipped, because it is not written like an id: {plain(doubtful)}")
    if found.there:
        echo(f"{server.name}  {len(found.there)} of them are on {name} already")
    if found.operations:
        put(server, found.operations)
    else:
        echo(f"{server.name}: nobody new for {name} is in that text.")
