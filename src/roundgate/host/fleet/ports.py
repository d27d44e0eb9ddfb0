"""Ports that the servers of a site are promised, and those that two of them cannot both have."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from itertools import islice

from msgspec import Struct

from roundgate.core.checks.context import CheckContext
from roundgate.core.checks.places import PORT_SHARED
from roundgate.core.files import ServerFiles
from roundgate.core.findings import Finding, Place
from roundgate.core.fleet.ports import PortPromise, overlap
from roundgate.core.fleet.wanted import wanted_ports
from roundgate.core.next_step import typed_command
from roundgate.host.errors import Trouble
from roundgate.host.servers import Server
from roundgate.host.workspace import Workspace

_NAMED = 3
"""So many of the servers with the same port are named."""


class PlacedPort(Struct, frozen=True):
    """A port that a server is promised, and where its files say so."""

    promise: PortPromise
    place: Place


def ports_of(server: Server, files: ServerFiles) -> list[PortPromise]:
    """Return the ports that a server will open with these files."""
    pluses: dict[tuple[str, str], int] = {
        (port.setting, port.protocol): port.plus for port in server.book.server.port if port.setting
    }
    return [
        PortPromise(
            server.name,
            port.setting,
            pluses.get((port.setting, port.protocol), 0),
            port.port,
            port.protocol,
            port.address,
        )
        for port in wanted_ports(files)
    ]


def placed_ports(workspace: Workspace) -> list[PlacedPort]:
    """Return the ports of a server as its slate leaves them; none where its files or its rulebook cannot be read."""
    try:
        return place_ports(workspace.server, workspace.outcome(workspace.operations).after)
    except (Trouble, OSError):
        return []


def place_ports(server: Server, files: ServerFiles) -> list[PlacedPort]:
    """Return the ports that a server will open with these files, each with its place. Raises Trouble or OSError."""
    return [PlacedPort(promise, _place_of(promise, files)) for promise in ports_of(server, files)]


def _place_of(promise: PortPromise, files: ServerFiles) -> Place:
    if not promise.setting:
        return Place("")
    path, entry = files.path_of(files.book.setting[promise.setting]), files.entry(promise.setting)
    return CheckContext(promise.server, files, {}).entry_place(path, entry) if entry else Place(path)


def shared_ports(ports: Iterable[PlacedPort], checked: Collection[str]) -> Iterator[Finding]:
    """Find ports that a server of those ``checked`` is promised and that another one, or itself, is promised too."""
    by_number: dict[tuple[int, str], list[PlacedPort]] = {}
    for port in ports:
        by_number.setdefault((port.promise.port, port.promise.protocol), []).append(port)
    for (number, protocol), same in by_number.items():
        for port in same if len(same) > 1 else ():
            if port.promise.server in checked:
                others = list(islice(_others(port, same), _NAMED + 1))
                if others:
                    yield _finding(port, others, f"{number} ({protocol})")


def _others(port: PlacedPort, same: Sequence[PlacedPort]) -> Iterator[PortPromise]:
    """Yield who else is promised a port; of a server that is promised it twice, the first one says so."""
    before = True
    for other in same:
        if other is port:
            before = False
        elif (other.promise.server != port.promise.server or not before) and overlap(
            port.promise.address, other.promise.address
        ):
            yield other.promise


def _finding(port: PlacedPort, others: Sequence[PortPromise], number: str) -> Finding:
    own = port.promise
    twice = next((other for other in others if other.server == own.server), None)
    if twice is not None:
        cause = f"Port {number} is that of {twice.setting or 'another port'} too: the server can open it only once."
    else:
        names = ", ".join(other.server for other in others[:_NAMED])
        more = " and others" if len(others) > _NAMED else ""
        have = "has" if len(others) == 1 else "have"
        cause = f"{names}{more} {have} port {number} too: only one of them can run at a time."
    do = typed_command("fit ports", options=("--for", own.server, "--set"))
    return Finding(PORT_SHARED, "warning", port.place, cause, do, own.server, own.setting)


def other_ports(server: Server, checked: Collection[str]) -> Iterator[PlacedPort]:
    """Yield the ports of the servers of a site that are not among those ``checked``, as their files have them."""
    for name in server.site.file.server:
        if name not in checked:
            yield from placed_ports(Workspace(Server(server.site, name, lenient=True), []))
