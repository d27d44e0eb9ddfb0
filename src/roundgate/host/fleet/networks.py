"""Ports of processes in a network namespace of their own, which the tables of this one do not show.

Source: proc(5), ``/proc/PID/net/tcp`` and its brothers; namespaces(7).
"""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import suppress
from ipaddress import IPv4Address, IPv6Address
from pathlib import Path
from typing import NamedTuple

_LISTENS = b"0A"
_TABLES = ("tcp", "tcp6", "udp", "udp6")


class BoundSocket(NamedTuple):
    """A socket that has a port: of TCP one that listens, of UDP one that is bound."""

    protocol: str
    address: str
    port: int
    mark: str
    """The name that a process's handle of it has."""


def network_elsewhere(process: int) -> str:
    """Return mark of a process's network namespace, where it is not ours; empty where it is, or is hidden from us."""
    try:
        found = Path(f"/proc/{process}/ns/net").readlink()
        return "" if found == Path("/proc/self/ns/net").readlink() else str(found)
    except OSError:
        return ""


def sockets_near(process: int) -> Iterator[BoundSocket]:
    """Yield the sockets in the network namespace of a process; none where it has ended."""
    for table in _TABLES:
        try:
            with open(f"/proc/{process}/net/{table}", "rb") as file:
                rows = file.read().splitlines()[1:]
        except OSError:
            continue
        for row in rows:
            _, local, _, state, *_, inode = row.split()[:10]
            if table.startswith("udp") or state == _LISTENS:
                address, _, port = local.partition(b":")
                yield BoundSocket(table[:3], _address(address), int(port, 16), f"socket:[{inode.decode()}]")


def _address(digits: bytes) -> str:
    """Read an address: words of four bytes, each in the machine's order."""
    raw = bytes.fromhex(digits.decode())
    if sys.byteorder == "little":
        raw = b"".join(raw[at : at + 4][::-1] for at in range(0, len(raw), 4))
    return str(IPv4Address(raw) if len(raw) == 4 else IPv6Address(raw))


def sockets_of(process: int) -> list[BoundSocket]:
    """Return the sockets with a port that a process holds."""
    held = set()
    # It has ended, or is another user's.
    with suppress(OSError):
        for handle in Path(f"/proc/{process}/fd").iterdir():
            with suppress(OSError):  # it has just been closed
                held.add(str(handle.readlink()))
    return [found for found in sockets_near(process) if found.mark in held]
