"""What is promised on this machine, and what is free: ``fit``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from roundgate.cli.complete import complete_server
from roundgate.cli.opening import open_call
from roundgate.cli.screen.output import echo, echo_json, echo_table, styled
from roundgate.cli.screen.plots import Image
from roundgate.core.next_step import typed_command
from roundgate.host.errors import WrongUsage

if TYPE_CHECKING:
    from roundgate.api.fit import Survey
    from roundgate.api.server import OpenServer
    from roundgate.cli.call import CallContext
    from roundgate.cli.screen.outputs import FitOutput
    from roundgate.core.fleet.ports import PortPromise

Servers = Annotated[
    list[str] | None,
    typer.Argument(metavar="[SERVER]...", help="Which servers; default: all.", autocompletion=complete_server),
]
Json = Annotated[bool, typer.Option("--json", help="Print JSON.")]


def everything(servers: Servers = None, as_json: Json = False) -> None:
    """Show which ports, how much memory and which cores are promised, and what clashes. The exit code is 1 then."""
    _show(open_call(), servers, ("ports", "memory", "cores"), as_json=as_json)


def ports(
    servers: Servers = None,
    for_server: Annotated[
        str, typer.Option("--for", metavar="SERVER", help="Find the next free block for this server.")
    ] = "",
    start: Annotated[int, typer.Option("--from", min=0, max=65535, help="With --for: not below this.")] = 0,
    put_there: Annotated[bool, typer.Option("--set", help="With --for: put the block onto the slate.")] = False,
    as_json: Json = False,
) -> None:
    """Show the ports that servers are promised, and which clash; or find a free block of them for a server."""
    context = open_call()
    if for_server:
        _free_ports(context, for_server, start, put_there=put_there, as_json=as_json)
        return
    if start or put_there:
        raise WrongUsage("--from and --set belong to --for.", typed_command("fit ports", options=("--help",)))
    _show(context, servers, ("ports",), as_json=as_json)


def memory(servers: Servers = None, as_json: Json = False) -> None:
    """Show how much memory the servers may take, and whether the machine has it."""
    _show(open_call(), servers, ("memory",), as_json=as_json)


def cores(
    servers: Servers = None,
    give: Annotated[int, typer.Option("--give", min=0, help="How many to give to each server.")] = 0,
    spare: Annotated[int, typer.Option("--spare", min=0, help="With --give: how many to leave to the machine.")] = 0,
    image: Image = "",
    as_json: Json = False,
) -> None:
    """Show which servers share which cores; or deal the cores out."""
    context = open_call()
    if give:
        _give_cores(context, [server.name for server in _meant(context, servers)], give, spare)
    elif spare:
        raise WrongUsage("--spare belongs to --give.", typed_command("fit cores", options=("--help",)))
    _show(context, servers, ("cores",), image, as_json=as_json, fails=not give)


def _meant(context: CallContext, words: list[str] | None) -> list[OpenServer]:
    return list({server.name: server for word in words or ["@all"] for server in context.readable(word)}.values())


def _show(
    context: CallContext,
    words: list[str] | None,
    topics: tuple[str, ...],
    image: str = "",
    *,
    as_json: bool,
    fails: bool = True,
) -> None:
    """Print what is promised. Raises Exit with 1 where not all of it can be kept, if that ``fails``."""
    from roundgate.api.fit import survey

    found = survey(_meant(context, words))
    if image:
        from roundgate.cli.fleet.picture import draw_cores

        draw_cores(found, image)
    elif as_json:
        echo_json(_output(found))
    else:
        for part, show in (("ports", _echo_ports), ("memory", _echo_memory), ("cores", _echo_cores)):
            if part in topics:
                show(found)
    if fails and not found.fits:
        raise typer.Exit(1)


def _free_ports(context: CallContext, name: str, start: int, *, put_there: bool, as_json: bool) -> None:
    from roundgate.api.fit import ports_for
    from roundgate.cli.edit import put

    server = context.server(name)
    block = ports_for(context.readable("@all"), server, start)
    assignments = [f"{setting}={port}" for setting, port in block.items()]
    if as_json:
        echo_json(block)
    elif put_there:
        put(server, server.key_changes().operations_of(assignments))
    else:
        echo_table(("setting", "port"), [(setting, str(port)) for setting, port in block.items()])
        echo(f"  to take them: roundgate set {server.name} {' '.join(assignments)}    (or add --set)")


def _give_cores(context: CallContext, names: list[str], give: int, spare: int) -> None:
    from roundgate.api.fit import cores_given
    from roundgate.cli.edit import put

    servers = [context.opened(name) for name in names]
    others = [server for server in context.readable("@all") if server.name not in names]
    for server, operations in cores_given(servers, give, spare, others):
        put(server, operations)


def _gigabytes(size: int) -> str:
    return f"{size / 2**30:.1f} GB"


def _echo_ports(found: Survey) -> None:
    echo(styled("ports", "bold"))
    wrong: dict[PortPromise, list[str]] = {}
    for clash in found.clashes:
        for one, other in ((clash.one, clash.other), (clash.other, clash.one)):
            wrong.setdefault(one, []).append(f"{other.server} has it too ({other.setting or 'always'})")
    rows = []
    for promise in sorted(found.ports, key=lambda port: (port.port, port.protocol, port.server)):
        notes = wrong.get(promise, [])
        foreign = found.foreign.get((promise.port, promise.protocol))
        notes = [*notes, *([f"held now by {foreign}"] if foreign else [])]
        name = promise.setting + (f" + {promise.plus}" if promise.plus else "")
        rows.append((str(promise.port), promise.protocol, promise.address, promise.server, name, "; ".join(notes)))
    echo_table(("port", "protocol", "address", "server", "setting", "clash"), rows) if rows else echo("  none promised")


def _echo_memory(found: Survey) -> None:
    echo(styled("memory", "bold"))
    rows = [
        (promise.server, _gigabytes(promise.size) if promise.size else "not limited", promise.setting)
        for promise in sorted(found.memory, key=lambda promise: -(promise.size or 0))
    ]
    echo_table(("server", "may take", "setting"), rows)
    total, has = found.promised, found.machine.memory
    beyond = f": {_gigabytes(total - has)} too much" if total > has else ""
    echo(f"  {_gigabytes(total)} promised of {_gigabytes(has)}{beyond}")


def _echo_cores(found: Survey) -> None:
    from roundgate.core.fleet.cores import core_ranges, mask

    echo(styled("cores", "bold"))
    rows = []
    for server_cores in found.cores:
        shared = sorted(
            {other for servers in found.shared.values() if server_cores.server in servers for other in servers}
        )
        others = [other for other in shared if other != server_cores.server]
        beyond = found.beyond.get(server_cores.server)
        notes = [f"shares cores with {', '.join(others)}"] if others else []
        notes += [f"the machine has no core {core_ranges(beyond)}"] if beyond else []
        shown = core_ranges(server_cores.cores) if server_cores.cores is not None else "all"
        rows.append(
            (
                server_cores.server,
                shown,
                mask(server_cores.cores) if server_cores.cores is not None else "",
                "; ".join(notes),
            )
        )
    echo_table(("server", "cores", "mask", "clash"), rows)
    nodes = "; ".join(f"node {at}: {core_ranges(node)}" for at, node in enumerate(found.machine.nodes))
    taken = frozenset(core for promise in found.cores for core in promise.cores or ())
    free = core_ranges(found.machine.cores - taken) or "none"
    echo(f"  the machine has {len(found.machine.cores)} ({nodes}); not promised to any server: {free}")


def _output(found: Survey) -> FitOutput:
    from roundgate.cli.screen.outputs import FitOutput, PortOutput, SharesOutput

    clashing: dict[PortPromise, list[str]] = {}
    for clash in found.clashes:
        clashing.setdefault(clash.one, []).append(clash.other.server)
        clashing.setdefault(clash.other, []).append(clash.one.server)
    ports = [
        PortOutput(
            promise.server,
            promise.setting,
            promise.port,
            promise.protocol,
            promise.address,
            clashing.get(promise, []),
            found.foreign.get((promise.port, promise.protocol)),
        )
        for promise in found.ports
    ]
    memory = {promise.server: promise.size for promise in found.memory}
    shares = [
        SharesOutput(promise.server, memory[promise.server], None if promise.cores is None else sorted(promise.cores))
        for promise in found.cores
    ]
    nodes = [sorted(node) for node in found.machine.nodes]
    return FitOutput(found.fits, ports, shares, found.machine.memory, found.promised, nodes)
