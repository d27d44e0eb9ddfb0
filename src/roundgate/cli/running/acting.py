"""``now`` and ``keep``: what a running server does at once, and what of it is to stay."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from roundgate.cli.complete import complete_server_or_action
from roundgate.cli.opening import open_call
from roundgate.cli.screen.output import echo, echo_table, plain
from roundgate.core.next_step import typed_command
from roundgate.host.errors import Trouble, WrongUsage
from roundgate.host.site import is_server_word

if TYPE_CHECKING:
    from roundgate.host.servers import Server

_ALL = Annotated[bool, typer.Option("--all", help="Ask the server for all that can be read, not only what was sent.")]


def now(
    arguments: Annotated[
        list[str] | None,
        typer.Argument(metavar="[SERVER] [ACTION [VALUE...]]", autocompletion=complete_server_or_action),
    ] = None,
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Do not ask.")] = False,
) -> None:
    """Let a running server do something at once, at its console; no file is changed.

    The rulebook says what there is. Without ACTION, it is listed. A VALUE is checked before it is sent.
    """
    from roundgate.api.actions import action_of, line_of

    context = open_call()
    first, *others = arguments or [""]
    word, rest = (first, others) if is_server_word(context.site, first) else (None, list(arguments or ()))
    if not rest:
        for server in context.several(word):
            _list(server)
        return
    name, *given = rest
    sent = [(server, line_of(server, name, given)) for server in context.several(word)]
    for server, line in sent:
        _do(server, name, line, yes=yes or not action_of(server, name).asks)


def _list(server: Server) -> None:
    from roundgate.api.actions import usage

    if not server.book.action:
        echo(f"{server.name}: its rulebook has no actions.")
        return
    echo(f"{server.name}")
    echo_table(
        ("call", "what it does"),
        [(usage(server, action), server.book.action[action].about) for action in server.book.action],
    )


def _do(server: Server, name: str, line: str, *, yes: bool) -> None:
    """Send a line and say what came of it. Raises Trouble where the server is down, or refuses."""
    from roundgate.api.actions import action_of
    from roundgate.cli.rounding import agreed
    from roundgate.host.consoles import console_of
    from roundgate.host.drivers import driver_of
    from roundgate.host.patterns import search

    action = action_of(server, name)
    if not agreed(f"{server.name}: {action.about or line} It cannot be taken back. Go on?", yes=yes):
        raise typer.Exit(1)
    driver = driver_of(server)
    try:
        if not driver.state().runs:
            raise Trouble(f"{server.name} is down.", typed_command("start", server.name))
        console = console_of(server, driver)
        try:
            answer = console.exchange(line)
        finally:
            console.close()
    finally:
        driver.close()
    for received in answer:
        echo(f"  {plain(received)}")
    if action.refused and any(search(action.refused, received) for received in answer):
        raise Trouble(f"{server.name} refused: {line}", typed_command("log", server.name))
    if action.match and not any(search(action.match, received) for received in answer):
        raise Trouble(f"{server.name} received it, but does not confirm it: {line}", typed_command("log", server.name))
    outcome = "done" if action.match else "sent"
    echo(f"{server.name}  {outcome}: {line}. It changes no file, and a restart may undo it.")


def keep(
    arguments: Annotated[
        list[str] | None, typer.Argument(metavar="[SERVER] [NAME...]", autocompletion=complete_server_or_action)
    ] = None,
    everything: _ALL = False,
) -> None:
    """Put values that only the running server has onto the slate, so that they stay.

    Those are values that were sent to its console since its start; with --all, whatever it says that it has.
    """
    from roundgate.api.key_changes import ChangeOptions
    from roundgate.cli.edit import put
    from roundgate.cli.settings import ask_running
    from roundgate.core import values
    from roundgate.core.files import format_value, value_of

    context = open_call()
    word, names = context.split(arguments or [])
    server = context.open(context.one(word))
    state = server.state()
    if not state.runs:
        raise Trouble(f"{server.name} is down, so nothing is at its console.", typed_command("start", server.name))
    files = server.server.read().files
    held = dict(server.known(state).live or {})
    if everything:
        held |= ask_running(server.server, files)
    unknown = [name for name in names if name not in server.book.setting]
    if unknown:
        raise WrongUsage(f"{unknown[0]} is not a setting of {server.name}.", typed_command("show", server.name))
    found = {
        name: stored
        for name, stored in held.items()
        if (not names or name in names)
        and (spec := server.book.setting.get(name)) is not None
        and spec.file
        and not values.is_hidden(spec)
        and value_of(stored, spec) != files.counting(name)
    }
    if not found:
        echo(f"{server.name}: the files have all that the console has.")
        return
    maker = server.key_changes(ChangeOptions())
    shown = [f"{name}={format_value(stored, server.book.setting[name])}" for name, stored in found.items()]
    put(server, maker.operations_of(shown))
