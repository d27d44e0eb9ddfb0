"""Ports of a rented server: whether something answers there, for nothing more can be seen from here."""

from __future__ import annotations

import socket

from roundgate.host.rented.address import parse_address
from roundgate.host.site_file.tables import ServerEntry

_WITHIN = 5.0


def address_of(entry: ServerEntry) -> str:
    """Return the machine on which a rented server's ports are."""
    return entry.address or parse_address(entry.folder).host


def answers(entry: ServerEntry, port: int) -> bool:
    """Return whether somebody takes a TCP connection on a port there."""
    try:
        with socket.create_connection((address_of(entry), port), _WITHIN):
            return True
    except OSError:
        return False
