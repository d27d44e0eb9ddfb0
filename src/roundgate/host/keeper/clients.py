"""Those who talk to the keeper: one connection each, JSON lines both ways, this user (or root) only.

Whatever a client sends, the keeper goes on: what makes no sense ends that client's connection, and nothing else.
"""

from __future__ import annotations

import contextlib
import json
import os
import socket
import struct
from typing import Any

from roundgate.host.keeper.config import socket_address

_MOST_UNSENT = 4 * 1024 * 1024
_MOST_UNREAD = 1024 * 1024


class Client:
    """One connection."""

    def __init__(self, connection: socket.socket) -> None:
        """Talk without blocking."""
        connection.setblocking(False)
        self.connection = connection
        self.rest = b""
        self.unsent = b""
        self.waits_to_write = False
        self.follows = False
        self.round: int | None = None
        """The round that holds the server through this connection."""
        self.pledged: int | None = None
        """The round that has to be recovered should the connection end, though it does not hold the server yet."""

    def read(self) -> list[dict[str, Any]] | None:
        """Return the messages that have come; None when the client has gone or talks nonsense."""
        try:
            data = self.connection.recv(65536)
        except BlockingIOError:
            return []
        except OSError:
            return None
        if not data:
            return None
        *lines, self.rest = (self.rest + data).split(b"\n")
        # A client that sends no line break must not fill the keeper's memory.
        if len(self.rest) > _MOST_UNREAD:
            return None
        try:
            messages = [json.loads(line) for line in lines if line]
        except (ValueError, RecursionError):
            return None
        return messages if all(isinstance(message, dict) for message in messages) else None

    def tell(self, message: dict[str, Any]) -> None:
        """Send a message, now or as soon as the client reads; one that never reads is cut off."""
        self.unsent += json.dumps(message).encode() + b"\n"
        self.flush()

    def flush(self) -> None:
        """Send what waits."""
        try:
            while self.unsent:
                self.unsent = self.unsent[self.connection.send(self.unsent) :]
        except BlockingIOError:
            if len(self.unsent) > _MOST_UNSENT:
                # The loop sees the end of the connection and forgets the client; here it may still be on the list.
                with contextlib.suppress(OSError):
                    self.connection.shutdown(socket.SHUT_RDWR)
        except OSError:
            self.unsent = b""


def listen(state: str) -> socket.socket:
    """Open the socket, for this user only; whoever listens holds the lock, so an old socket is a dead one's."""
    listener = socket.socket(socket.AF_UNIX)
    address, handle = socket_address(state)
    # The mask, and not chmod after bind: between the two anybody could connect.
    before = os.umask(0o177)
    try:
        # A dead keeper's socket would keep the name, and bind does not replace it.
        with contextlib.suppress(FileNotFoundError):
            os.unlink(os.path.join(state, "keeper.sock"))
        listener.bind(address)
    except BaseException:
        listener.close()
        raise
    finally:
        os.umask(before)
        os.close(handle)
    listener.listen(16)
    listener.setblocking(False)
    return listener


def socket_mark(state: str) -> tuple[int, int] | None:
    """Return what tells the socket's file from any other: its device and inode; None where there is none."""
    try:
        found = os.stat(os.path.join(state, "keeper.sock"))
    except OSError:
        return None
    return found.st_dev, found.st_ino


def is_welcome(connection: socket.socket) -> bool:
    """Return whether the other end belongs to this user or to root."""
    _, user, _ = struct.unpack("3i", connection.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, 12))
    return user in (os.getuid(), 0)
