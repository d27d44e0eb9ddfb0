"""Talking to a keeper, and starting one."""

from __future__ import annotations

import os
import select
import socket
import sys
import time
from collections import deque
from typing import Any

from msgspec import json

from roundgate.host.errors import KeeperGone
from roundgate.host.keeper.orders import Orders, socket_address, write_orders


class KeeperLink:
    """One connection to a keeper. Answers come in the order of the questions; events come in between."""

    def __init__(self, state: str) -> None:
        """Connect. Raises KeeperGone where no keeper answers."""
        self.socket = socket.socket(socket.AF_UNIX)
        self.rest = b""
        self.events: deque[dict[str, Any]] = deque()
        try:
            address, handle = socket_address(state)
            try:
                self.socket.connect(address)
            finally:
                os.close(handle)
        except OSError as error:
            self.socket.close()
            raise KeeperGone("No keeper answers.", "roundgate start") from error

    def close(self) -> None:
        """Hang up."""
        self.socket.close()

    def ask(self, ask: str, **more: Any) -> Any:
        """Ask and wait for the answer. Raises KeeperGone where the keeper dies meanwhile."""
        try:
            self.socket.sendall(json.encode({"ask": ask, **more}) + b"\n")
        except OSError as error:
            raise KeeperGone("The keeper has gone.", "roundgate status") from error
        while True:
            message = self._receive(30.0)
            if message is None:
                raise KeeperGone("The keeper does not answer.", "roundgate status")
            if "answer" in message:
                return message["answer"]
            self.events.append(message)

    def next_event(self, until: float | None, also: int | None = None) -> dict[str, Any] | None:
        """Wait for the next event, until a moment of the monotonic clock, or until the handle ``also`` can be read.

        Gives None when the time is up or ``also`` has something. Raises KeeperGone where the keeper dies.
        """
        if self.events:
            return self.events.popleft()
        wait = None if until is None else max(0.0, until - time.monotonic())
        return self._receive(wait, also)

    def _receive(self, wait: float | None, also: int | None = None) -> dict[str, Any] | None:
        end = None if wait is None else time.monotonic() + wait
        while b"\n" not in self.rest:
            left = None if end is None else max(0.0, end - time.monotonic())
            handles = [self.socket.fileno(), *([] if also is None else [also])]
            able, _, _ = select.select(handles, [], [], left)
            if self.socket.fileno() not in able:
                return None
            data = self._read()
            self.rest += data
        line, _, self.rest = self.rest.partition(b"\n")
        message: dict[str, Any] = json.decode(line)
        return message

    def _read(self) -> bytes:
        try:
            data = self.socket.recv(65536)
        except OSError as error:
            raise KeeperGone("The connection to the keeper was cut.", "roundgate status") from error
        if not data:
            raise KeeperGone("The keeper has gone.", "roundgate status")
        return data


def start_keeper(orders: Orders) -> KeeperLink:
    """Start a keeper in a session of its own and wait until it listens. Raises KeeperGone where it cannot start."""
    write_orders(orders)
    told, ready = os.pipe()
    os.set_inheritable(ready, True)
    nothing = [(os.POSIX_SPAWN_OPEN, handle, os.devnull, os.O_RDWR, 0) for handle in (0, 1, 2)]
    words = [sys.executable, "-m", "roundgate.host.keeper", orders["state"], str(ready)]
    try:
        os.posix_spawn(sys.executable, words, os.environ, file_actions=nothing, setsid=True)
    finally:
        os.close(ready)
    with os.fdopen(told, "rb") as file:
        trouble = file.read().decode("utf-8", "replace").strip()
    if trouble:
        raise KeeperGone(f"The keeper could not start: {trouble}.", "roundgate status")
    return KeeperLink(orders["state"])
