"""The consoles: how a line reaches a running server, and how its answer comes back. One file each, one Protocol."""

from __future__ import annotations

from importlib import import_module

from roundgate.core.rulebook.conditions import broken_rules
from roundgate.host.consoles.protocol import Console
from roundgate.host.drivers.protocol import Driver
from roundgate.host.errors import Trouble
from roundgate.host.servers import Server, stored_value

CONSOLES: dict[str, tuple[str, str]] = {
    "stdin": ("stdin", "StdinConsole"),
    "tcp": ("tcp", "TcpLineConsole"),
    "packets": ("packets", "PacketConsole"),
    "datagrams": ("datagrams", "DatagramConsole"),
    "pipe": ("pipe", "PipeConsole"),
}
"""Each by the word of the site file: its module here, which is imported when a server needs it, and its class."""


def _fitting(server: Server) -> str:
    """Return which console to use where the site file does not say: the rulebook's where it is open, else stdin."""
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
    """Return the console that the site file names, else the one that fits."""
    module, kind = CONSOLES[server.entry.console or _fitting(server)]
    made: Console = getattr(import_module(f"roundgate.host.consoles.{module}"), kind)(server, driver)
    return made
