"""The drivers: who starts and stops the server. One file each, one Protocol, and this registry."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from roundgate.host.drivers.protocol import Driver
    from roundgate.host.servers import Server

DRIVERS: dict[str, tuple[str, str]] = {
    "keeper": ("keeper", "KeeperDriver"),
    "systemd": ("systemd", "SystemdDriver"),
    "commands": ("commands", "CommandsDriver"),
    "self": ("self_restarting", "SelfRestartingDriver"),
    "requests": ("rented", "RequestsDriver"),
    "by-hand": ("rented", "ByHandDriver"),
}
"""Each by the word of the site file: its module here, which is imported when a server needs it, and its class."""


def driver_of(server: Server) -> Driver:
    """Return the driver that the site file names for a server."""
    module, kind = DRIVERS[server.entry.driver]
    made: Driver = getattr(import_module(f"roundgate.host.drivers.{module}"), kind)(server)
    return made
