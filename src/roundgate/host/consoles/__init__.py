"""The consoles: how a line reaches a running server, and how its answer comes back. One file each, one Protocol."""

from __future__ import annotations

from collections.abc import Callable

from roundgate.core.checks.rules import broken_rules
from roundgate.host.consoles.datagrams import DatagramConsole
from roundgate.host.consoles.packets import PacketConsole
from roundgate.host.consoles.pipe import PipeConsole
from roundgate.host.consoles.protocol import Console
from roundgate.host.consoles.stdin import StdinConsole
from roundgate.host.consoles.tcp import TcpLineConsole
from roundgate.host.drivers.protocol import Driver
from roundgate.host.errors import Trouble
from roundgate.host.servers import Server, stored_value

CONSOLES: dict[str, Callable[[Server, Driver], Console]] = {
    "stdin": StdinConsole,
    "tcp": TcpLineConsole,
    "packets": PacketConsole,
    "datagrams": DatagramConsole,
    "pipe": PipeConsole,
}


def _fitting(server: Server) -> str:
    """Tell which console to use where the site file does not say: the rulebook's where it is open, else stdin."""
    try:
        spec = server.book.server.console
        files = server.read_started()
    except Trouble:  # a broken rulebook must not keep a server from being stopped
        return "stdin"
    if spec is None:
        return "stdin"
    is_open = not spec.needs or not broken_rules(files.names, {"needs": spec.needs})
    has_password = not spec.password or stored_value(server, files, spec.password)
    return spec.kind if is_open and has_password else "stdin"


def console_of(server: Server, driver: Driver) -> Console:
    """Give the console that the site file names, else the one that fits."""
    return CONSOLES[server.entry.console or _fitting(server)](server, driver)
