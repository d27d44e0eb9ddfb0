"""The drivers: who starts and stops the server. One file each, one Protocol, and this registry."""

from __future__ import annotations

from collections.abc import Callable

from roundgate.host.drivers.commands import CommandsDriver
from roundgate.host.drivers.keeper import KeeperDriver
from roundgate.host.drivers.protocol import Driver
from roundgate.host.drivers.self_restarting import SelfRestartingDriver
from roundgate.host.drivers.systemd import SystemdDriver
from roundgate.host.servers import Server

DRIVERS: dict[str, Callable[[Server], Driver]] = {
    "keeper": KeeperDriver,
    "systemd": SystemdDriver,
    "commands": CommandsDriver,
    "self": SelfRestartingDriver,
}


def driver_of(server: Server) -> Driver:
    """Give the driver that the site file names for a server."""
    return DRIVERS[server.entry.driver](server)
