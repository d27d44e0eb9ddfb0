"""``roster first``: a fresh server's first admin, from its start to the proof, in one command."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

import typer

from roundgate.cli.rounding import agreed, apply_live_records, run_round, seconds
from roundgate.cli.screen.output import echo, plain
from roundgate.core.next_step import typed_command
from roundgate.core.rounds import RoundKind
from roundgate.host.drivers import driver_of
from roundgate.host.errors import Trouble, WrongUsage
from roundgate.host.patterns import search
from roundgate.host.rounds.options import Options

if TYPE_CHECKING:
    from roundgate.api.server import OpenServer
    from roundgate.cli.call import CallContext


def first_admin(context: CallContext, server: OpenServer, word: str, rank: str, within: str, *, yes: bool) -> None:
    """Start a server, wait for the first who comes in, and put them on its roster of admins.

    Raises WrongUsage, Trouble, or Exit where a round fails.
    """
    from roundgate.api.people import standings

    roster = _admin_roster(server, word)
    there = [standing for standing in standings(server) if standing.roster == roster]
    if there:
        name = there[0].record.value("name") or there[0].id
        raise WrongUsage(
            f"{roster} of {server.name} is not empty: {plain(name)} is on it.",
            typed_command("add", server.name, roster, "<name>"),
        )
    if not server.state().runs:
        _end_if(run_round(context, server.server, Options(kind=RoundKind.START)))
    echo(f"Join {server.name} now, as the one who is to be its admin. (Ctrl-C to give up.)")
    identifier, name = _who_comes(server, seconds(within))
    echo(f"{plain(name) or identifier} joined: {identifier}")
    if not agreed(f"Make {plain(name) or identifier} ({identifier}) the first of {roster} on {server.name}?", yes=yes):
        raise typer.Exit(1)
    _put(context, server, roster, identifier, name, rank)
    code = apply_live_records(context, server.server)
    if code is None:
        code = run_round(context, server.server, Options(kind=RoundKind.APPLY))
    _end_if(code)


def _admin_roster(server: OpenServer, word: str) -> str:
    from roundgate.api.people import roster_named

    if word:
        return roster_named(server, word)
    found = [name for name, roster in server.book.roster.items() if roster.meaning == "admin"]
    if not found:
        raise Trouble(f"The rulebook of {server.name} has no roster of admins.", "It needs one with meaning = 'admin'.")
    return found[0]


def _who_comes(server: OpenServer, wait: float) -> tuple[str, str]:
    """Wait for somebody to come in; give id and name. Raises Trouble where nobody does in time."""
    joined = server.book.server.joined
    if not joined:
        do = "It needs 'joined' in its table [server]."
        raise Trouble(f"The rulebook of {server.name} does not say how its log shows who joins.", do)
    driver = driver_of(server.server)
    until = time.monotonic() + wait
    try:
        driver.follow()
        while event := driver.next_event(until):
            if event["event"] == "exit":
                raise Trouble(f"{server.name} has ended.", typed_command("log", server.name))
            found = search(joined, str(event["text"])) if event["event"] == "line" else None
            if found:
                groups = found.groupdict()
                return groups.get("id") or groups.get("name") or found[0], groups.get("name") or ""
    finally:
        driver.close()
    raise Trouble(
        f"Nobody joined {server.name} in time.",
        typed_command("roster first", server.name, hint="--within waits longer"),
    )


def _put(context: CallContext, server: OpenServer, roster: str, identifier: str, name: str, rank: str) -> None:
    from roundgate.api.people import joining
    from roundgate.api.record_changes import RecordChanges
    from roundgate.cli.edit import put

    records = server.book.roster[roster].records
    arguments = [identifier, *([f"name={name}"] if name and "name" in server.book.records[records].field else [])]
    (newcomer,) = joining(context.site, server, records, arguments, rank)
    try:
        put(server, RecordChanges(server.workspace).added(records, newcomer.arguments), now=True)
    except WrongUsage as error:
        do = typed_command("add", server.name, records, identifier, "<field>=<value>")
        raise WrongUsage(error.what, error.do or do) from error


def _end_if(code: int) -> None:
    if code:
        raise typer.Exit(code)
