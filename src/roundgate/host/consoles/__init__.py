"""The consoles: how a line reaches a running server, and how its answer comes back. One file each, one Protocol."""

from __future__ import annotations

from collections.abc import Callable

from roundgate.host.consoles.protocol import Console
from roundgate.host.consoles.stdin import StdinConsole
from roundgate.host.consoles.tcp import TcpLineConsole
from roundgate.host.drivers.protocol import Driver
from roundgate.host.errors import Trouble
from roundgate.host.servers import Server

CONSOLES: dict[str, Callable[[Server, Driver], Console]] = {"stdin": StdinConsole, "tcp": TcpLineConsole}


def console_of(server: Server, driver: Driver) -> Console:
    """Give the console that the site file names. Raises Trouble where there is no such kind."""
    kind = server.entry.console
    if kind not in CONSOLES:
        raise Trouble(f"'{kind}' is no kind of console.", f"Write one of {', '.join(CONSOLES)} in the site file.")
    return CONSOLES[kind](server, driver)
