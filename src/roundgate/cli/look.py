"""Look: ``status``, ``show`` and ``explain``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from roundgate.cli.complete import complete_server, complete_server_or_name
from roundgate.cli.opening import open_call
from roundgate.cli.screen.output import echo, echo_do, echo_json, echo_table, plain
from roundgate.core.next_step import typed_command
from roundgate.host.errors import WrongUsage

if TYPE_CHECKING:
    from roundgate.cli.call import CallContext
    from roundgate.host.servers import Server

Json = Annotated[bool, typer.Option("--json", help="Print JSON.")]


def status(
    server: Annotated[
        str | None,
        typer.Argument(metavar="[SERVER]", help="Which servers; default: all.", autocompletion=complete_server),
    ] = None,
    ask_list: Annotated[bool, typer.Option("--list", help="Query the public list of servers now.")] = False,
    as_json: Json = False,
) -> None:
    """Which servers are up and since when, who is on them, what waits on the slate, and what differs."""
    from roundgate.cli.server_state import states_of

    context = open_call()
    servers = context.several(server, default_all=True, lenient=True)
    if ask_list:
        from roundgate.host.lobby import look_at_list

        for asked in servers:
            look_at_list(asked, once=True)
    found = states_of(servers, context.store)
    if as_json:
        from roundgate.cli.screen.outputs import StatusOutput

        echo_json(StatusOutput(context.site.file.site.name, [state.output() for state in found]))
        return
    if not found:
        echo("This site has no server yet.")
        echo_do(typed_command("adopt", "", "<folder>"))
    rows = [state.row() for state in found]
    echo_table(("server", "state", "since", "players", "address", "waiting", "differs"), rows)
    for finding in found:
        for word in finding.remarks:
            echo(f"  {finding.server.name}  {plain(word.text)}")
        if ask_list and finding.listed is not None and finding.listed.shown:
            echo(f"  {finding.server.name}  the public list shows it")


def show(
    arguments: Annotated[
        list[str] | None, typer.Argument(metavar="[SERVER] [NAME|FILE]...", autocompletion=complete_server_or_name)
    ] = None,
    everything: Annotated[bool, typer.Option("--all", help="Advanced settings and unknown keys too.")] = False,
    advanced: Annotated[bool, typer.Option("--advanced", help="Advanced settings only.")] = False,
    file: Annotated[str | None, typer.Option(help="Only what is in this file.")] = None,
    search: Annotated[str | None, typer.Option(help="Only what has this word in name, key or meaning.")] = None,
    changed: Annotated[bool, typer.Option("--changed", help="Only what is not at its default.")] = False,
    ask: Annotated[bool, typer.Option("--ask", help="Ask the running server for values, where safe.")] = False,
    as_csv: Annotated[bool, typer.Option("--csv", help="Print a set of records as CSV.")] = False,
    as_json: Json = False,
) -> None:
    """The settings of a server: on disk, on the slate, running, and by default, where these differ.

    A name may be a group (race), a set of records (officers), or one of them (officers/Wren). FILE or FILE:KEY shows
    what is in a file, one of no server too.
    """
    from roundgate.api.record_addresses import names_records
    from roundgate.cli.changes.standalone import file_named, show_standalone
    from roundgate.cli.settings import ShowFilter, chosen_rows, echo_rows

    path = file_named(arguments or [])
    if path:
        if as_csv:
            raise WrongUsage("Only sets of records are printed as CSV.", typed_command("show", "", path))
        show_standalone(path, arguments or [], as_json=as_json)
        return
    context = open_call()
    word, names = context.split(arguments or [])
    results: list[Any] = []
    for server in context.several(word):
        opened = context.open(server)
        sets = [name for name in names if names_records(opened.workspace, name)]
        if sets:
            from roundgate.cli.screen import records as screen
        others = [name for name in names if name not in sets]
        if as_csv:
            if others or not sets:
                raise WrongUsage(
                    "Only sets of records are printed as CSV.",
                    typed_command("show", server.name, "<set>", options=("--csv",)),
                )
            screen.echo_records_csv(opened, sets)
            continue
        wanted = ShowFilter(others, everything or changed, advanced, file or "", search or "", changed)
        rows = chosen_rows(opened, wanted, ask=ask) if others or not sets else []
        if as_json:
            from roundgate.cli.screen.outputs import ShowOutput

            found = [screen.records_output(opened, name) for name in sets]
            results.append(ShowOutput(server.name, [row.output() for row in rows], found))
            continue
        for name in sets:
            screen.echo_records(opened, name)
        if others or not sets:
            echo_rows(server, rows, wanted)
    if as_json:
        echo_json(results)


def explain(
    arguments: Annotated[
        list[str], typer.Argument(metavar="[SERVER] NAME|FILE", autocompletion=complete_server_or_name)
    ],
    as_json: Json = False,
) -> None:
    """All there is to know of a setting or list, where it stands, or of a finding code."""
    from roundgate.cli.changes.standalone import file_named, show_standalone
    from roundgate.cli.explaining import code_page, echo_code, echo_page, page_of

    path = file_named(arguments)
    if path:
        show_standalone(path, arguments, as_json=as_json, verb="explain")
        return
    page = code_page(arguments[0]) if len(arguments) == 1 and "-" in arguments[0] else None
    if page is not None:
        echo_json([page]) if as_json else echo_code(page)
        return
    context = open_call()
    word, names = context.split(arguments)
    if not names:
        raise WrongUsage(
            "What should be explained?", typed_command("explain", word or "", "<name>", hint="or a finding's code")
        )
    servers = [_with(context, names[0])] if word is None else context.several(word)
    pages = [page_of(context.open(server), name) for server in servers for name in names]
    if as_json:
        echo_json(pages)
        return
    if word is None and len(context.names) > 1:
        echo(f"On {servers[0].name}; on another server: roundgate explain <server> {plain(names[0])}\n")
    for number, each in enumerate(pages):
        if number:
            echo()
        echo_page(each, context.opened(each.server).book)


def _with(context: CallContext, name: str) -> Server:
    """Return the server whose folder one stands in, else the first whose rulebook knows the name."""
    from roundgate.api.lookup import find_name

    try:
        return context.one(None)
    except WrongUsage:
        servers = context.several("@all")
        return next((server for server in servers if find_name(server.book, name)), servers[0])
