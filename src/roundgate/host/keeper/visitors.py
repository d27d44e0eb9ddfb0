"""Those who talk to the keeper: one connection each, JSON lines both ways, this user (or root) only."""

from __future__ import annotations

import contextlib
import json
import os
import socket
import struct
from typing import Any

from roundgate.host.keeper.orders import socket_address

_MOST_UNSENT = 4 * 1024 * 1024


class Visitor:
    """One connection."""

    def __init__(self, connection: socket.socket) -> None:
        """Talk without blocking."""
        connection.setblocking(False)
        self.connection = connection
        self.rest = b""
        self.unsent = b""
        self.follows = False
        self.round: int | None = None

    def read(self) -> list[dict[str, Any]] | None:
        """Give the messages that have come; None when the visitor has gone or talks nonsense."""
        try:
            data = self.connection.recv(65536)
        except BlockingIOError:
            return []
        except OSError:
            return None
        if not data:
            return None
        *lines, self.rest = (self.rest + data).split(b"\n")
        try:
            return [json.loads(line) for line in lines if line]
        except ValueError:
            return None

    def tell(self, message: dict[str, Any]) -> None:
        """Send a message, now or as soon as the visitor reads; one that never reads is cut off."""
        self.unsent += json.dumps(message, ensure_ascii=False).encode() + b"\n"
        self.flush()

    def flush(self) -> None:
        """Send what waits."""
        try:
            while self.unsent:
                self.unsent = self.unsent[self.connection.send(self.unsent) :]
        except BlockingIOError:
            if len(self.unsent) > _MOST_UNSENT:
                self.connection.shutdown(socket.SHUT_RDWR)
        except OSError:
            self.unsent = b""


def listen(state: str) -> socket.socket:
    """Open the keeper's socket, for this user only. Raises OSError where another keeper has it."""
    listener = socket.socket(socket.AF_UNIX)
    address, handle = socket_address(state)
    before = os.umask(0o177)
    try:
        if not _answers(address):
            with contextlib.suppress(FileNotFoundError):
                os.unlink(os.path.join(state, "keeper.sock"))
        listener.bind(address)
    finally:
        os.umask(before)
        os.close(handle)
    listener.listen(16)
    listener.setblocking(False)
    return listener


def _answers(address: str) -> bool:
    with socket.socket(socket.AF_UNIX) as trial:
        try:
            trial.connect(address)
        except OSError:
            return False
    return True


def is_welcome(connection: socket.socket) -> bool:
    """Tell whether the other end belongs to this user or to root."""
    _, user, _ = struct.unpack("3i", connection.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, 12))
    return user in (os.getuid(), 0)
