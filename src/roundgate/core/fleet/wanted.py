"""The ports that a server should open with the values that its files hold."""

from __future__ import annotations

from typing import NamedTuple

from roundgate.core.files import ServerFiles
from roundgate.core.rulebook.conditions import broken_rules
from roundgate.core.rulebook.model import Probe


class WantedPort(NamedTuple):
    """A port that the server should open: its protocol, address (empty: any), number, and the setting that holds it.

    ``setting`` is empty where no setting does.
    """

    protocol: str
    address: str
    port: int
    setting: str
    probe: Probe | None = None


def wanted_ports(files: ServerFiles) -> list[WantedPort]:
    """Return the ports that the server should open with these files."""
    wanted: list[WantedPort] = []
    for port in files.book.server.port:
        if port.needs and broken_rules(files.names, {"needs": port.needs}):
            continue
        number = files.counting(port.setting) if port.setting else port.number
        address = files.counting_text(port.address) if port.address else port.bind
        if isinstance(number, int):
            wanted.append(WantedPort(port.protocol, address, number + port.plus, port.setting, port.probe))
    return wanted
