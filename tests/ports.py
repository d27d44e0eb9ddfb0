"""Ports for servers under test."""

from __future__ import annotations

import itertools
import os
import socket

_PORTS = itertools.count(os.getpid() * 37)
"""In a module of its own: pytest loads ``conftest`` twice, and two counters would give one port twice."""
_FIRST, _EACH = 10_500, 1_300
"""Below the ports that the system gives to whoever asks for any; a span for each worker."""


def free_port() -> int:
    """Return a port that nobody has now, and that no other test of this run is given."""
    worker = int(os.environ.get("PYTEST_XDIST_WORKER", "gw0").removeprefix("gw")) % 16
    while True:
        port = _FIRST + worker * _EACH + next(_PORTS) % _EACH
        with socket.socket() as stream, socket.socket(type=socket.SOCK_DGRAM) as packets:
            try:
                stream.bind(("127.0.0.1", port))
                packets.bind(("127.0.0.1", port))
            except OSError:
                continue
            return port
