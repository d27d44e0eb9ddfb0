"""Edit: ``set``, ``reset``, ``add``, ``remove``, ``move`` put changes onto the slate; ``slate`` and ``discard``."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any

import typer
from msgspec.structs import replace

from roundgate.cli.complete import complete_server_or_name
from roundgate.cli.place import Standing
from roundgate.cli.screen.output import say, say_json, styled, warn
from roundgate.core.findings import Finding
from roundgate.core.slate import Operation, Outcome
from roundgate.host.servers import Server
from roundgate.host.store import Waiting

Words = Annotated[list[str], typer.Argument(help="[SERVER] NAME=VALUE...", autocompletion=complete_server_or_name)]
Json = Annotated[bool, typer.Option("--json", help="Print JSON.")]


def set_values(
    words: Words,
    now: Annotated[bool, typer.Option("--now", help="Also send it to the live console, at once.")] = False,
    here_only: Annotated[
        bool, typer.Option("--here-only", help="Where a file shares the value (YAML &), change this place alone.")
    ] = False,
) -> None:
    """Change settings. The change waits on the slate until 'apply'.

    Values as people say them: 10m, 5G, 90%, on, off. A secret is given by its name alone and is asked for.
    FILE:KEY=VALUE sets what no rulebook knows.
    """
    from roundgate.cli.setting import operations_of, send_live

    standing = Standing()
    word, rest = standing.split(words)
    servers = standing.several(word)
    planned = [(server, operations_of(server, rest)) for server in servers]
    for server, operations in planned:
        if here_only:
            operations = [replace(one, here_only=True) for one in operations]
        if now:
            operations = send_live(server, standing.store, operations)
        put(standing, server, operations)


def switch(
    words: Annotated[list[str], typer.Argument(help="[SERVER] NAME...", autocompletion=complete_server_or_name)],
    on: Annotated[
        bool | None, typer.Option("--on/--off", help="Let it count again as it stands, or comment it out.")
    ] = None,
) -> None:
    """Comment keys out with all that is in them, or let commented-out ones count again as they stand.

    NAME is a setting, or FILE:KEY. A setting that is commented out has its default.
    """
    from roundgate.cli.setting import switch_operation
    from roundgate.host.errors import WrongWords

    if on is None:
        raise WrongWords("On or off?", f"roundgate switch {' '.join(words)} --off    (or --on)")
    standing = Standing()
    word, names = standing.split(words)
    if not names:
        raise WrongWords("What shall be switched?", "roundgate switch SERVER NAME --off")
    for server in standing.several(word):
        put(standing, server, [switch_operation(server, standing.store, name, on=on) for name in names])


def rename(words: Annotated[list[str], typer.Argument(help="[SERVER] NAME NEW-NAME")]) -> None:
    """Give a key another name, in its place: its value, comment and order stay.

    NAME is a setting, or FILE:KEY; the new name is the last part alone.
    """
    from roundgate.cli.setting import rename_operation
    from roundgate.host.errors import WrongWords

    standing = Standing()
    *before, new = words
    word, names = standing.split(before)
    if len(names) != 1:
        raise WrongWords("A key and its new name are needed.", "roundgate rename SERVER FILE:KEY NEW-NAME")
    for server in standing.several(word):
        put(standing, server, [rename_operation(server, standing.store, names[0], new)])


def reset(words: Annotated[list[str], typer.Argument(help="[SERVER] NAME...")]) -> None:
    """Give settings their default again: the key's value becomes the default; an unknown key is taken out."""
    from roundgate.cli.setting import reset_operation

    standing = Standing()
    word, names = standing.split(words)
    for server in standing.several(word):
        put(standing, server, [reset_operation(server, name) for name in names])


def add(
    words: Annotated[list[str], typer.Argument(help="[SERVER] LIST ENTRY...")],
    at: Annotated[int | None, typer.Option(help="Put it at this number, from 1; else at the end.")] = None,
) -> None:
    """Add entries to a list, such as a course to the rotation."""
    _change_list(words, lambda server, _store, name, item: _list_operations().added(server, name, item, at))


def remove(words: Annotated[list[str], typer.Argument(help="[SERVER] LIST ENTRY...")]) -> None:
    """Remove entries from a list. A list never falls below its least."""
    _change_list(words, lambda server, store, name, item: _list_operations().removed(server, store, name, item))


def move(
    words: Annotated[list[str], typer.Argument(help="[SERVER] LIST ENTRY")],
    to: Annotated[int, typer.Option(help="The number it shall have, from 1.")],
) -> None:
    """Move an entry of a list to another place."""
    _change_list(words, lambda server, store, name, item: _list_operations().moved(server, store, name, item, to))


def _list_operations() -> Any:
    from roundgate.cli import listing

    return listing


def _change_list(words: list[str], make: Any) -> None:
    from roundgate.host.errors import WrongWords

    standing = Standing()
    word, rest = standing.split(words)
    if len(rest) < 2:
        raise WrongWords("A list and an entry are needed.", "roundgate add SERVER LIST ENTRY")
    name, *items = rest
    for server in standing.several(word):
        put(standing, server, [make(server, standing.store, name, item) for item in items])


def put(standing: Standing, server: Server, operations: Sequence[Operation], *, despite_errors: bool = False) -> None:
    """Check the slate with the operations on it, and put them there if they bring no error, or ``despite_errors``."""
    from roundgate.cli.screen.findings import say_findings
    from roundgate.cli.setting import new_findings
    from roundgate.core.findings import has_errors
    from roundgate.core.slate import name_of
    from roundgate.host.person import who

    findings: list[Finding]
    findings, outcome = new_findings(server, standing.store, operations)
    if findings and not despite_errors:
        say_findings(findings)
    if has_errors(findings) and not despite_errors:
        say("Nothing was put on the slate.")
        raise typer.Exit(1)
    standing.store.add_to_slate(server.name, operations, who())
    _say_put(standing, server, outcome, {name_of(one) for one in operations})


def _say_put(standing: Standing, server: Server, outcome: Outcome, names: set[str]) -> None:
    from roundgate.core.review import changes_in_words
    from roundgate.core.slate import name_of

    waiting = standing.store.slate(server.name)
    for change in changes_in_words(outcome):
        if change.name in names:
            arrow = "is so already:" if change.is_nothing else "->"
            say(f"{server.name}  {styled(change.name, 'bold')}: {change.before} {arrow} {change.after}")
    live = all(getattr(one.operation, "at_stop", False) for one in waiting if name_of(one.operation) in names)
    state = "in force now; it goes into the file at the next stop" if live else "not in force yet"
    say(f"  On the slate of {server.name}, {state} ({len(waiting)} waiting).")
    say(f"  next: roundgate apply {server.name}    (look first: roundgate slate {server.name})")


def slate(
    server: Annotated[str | None, typer.Argument(help="Which servers; all where left out.")] = None,
    as_json: Json = False,
) -> None:
    """What waits: each change, what it will mean, and the difference in the files."""
    from roundgate.cli.screen.review import as_json as review_json
    from roundgate.cli.screen.review import say_review
    from roundgate.cli.setting import gathered_now

    standing = Standing()
    results = []
    for one in standing.several(server, default_all=True):
        gathered = gathered_now(one, standing.store)
        if as_json:
            results.append({"server": one.name, **review_json(gathered)})
            continue
        if not gathered.review.changes and not gathered.differs:
            say(f"{one.name}: the slate is empty.")
            continue
        say(f"{styled(one.name, 'bold')}")
        say_review(gathered)
        say()
        say(f"  next: roundgate apply {one.name}    (or: roundgate discard {one.name})")
    if as_json:
        say_json(results)


def discard(words: Annotated[list[str] | None, typer.Argument(help="[SERVER] [NAME...]")] = None) -> None:
    """Take waiting changes back: those named, or all of a server's."""
    from roundgate.cli.setting import matching

    standing = Standing()
    word, names = standing.split(words or [])
    held = 0
    for server in standing.several(word, lenient=True):
        waiting = standing.store.slate(server.name)
        odd = [] if names else standing.store.odd_entries(server.name)
        asked = matching(server, waiting, names) if names else waiting
        gone = standing.store.take_off_slate([*(one.id for one in asked), *odd])
        left = len(waiting) + len(odd) - len(gone)
        say(f"{server.name}: {len(gone)} taken off the slate, {left} left.")
        held += _say_held(standing, server, [one for one in asked if one.id not in gone])
        if names and not asked:
            warn(f"  Nothing of that name waits; see: roundgate slate {server.name}")
            raise typer.Exit(1)
    if held:
        raise typer.Exit(1)


def _say_held(standing: Standing, server: Server, kept: Sequence[Waiting]) -> int:
    """Say what could not be taken back, for a round is bringing it into force; give the number."""
    from roundgate.core.slate import name_of

    still = {one.id for one in standing.store.slate(server.name)}
    held = [one for one in kept if one.id in still]
    if held:
        names = ", ".join(dict.fromkeys(name_of(one.operation) for one in held))
        say(f"  {names}: round {held[0].round} is bringing that into force.")
        say(f"  to call that round off: roundgate cancel {server.name}")
    elif kept:
        say(f"  {len(kept)} went into force meanwhile; to go back: roundgate rounds {server.name}")
    return len(kept)
