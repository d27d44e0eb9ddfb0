"""Talking to a keeper, and starting one."""

from __future__ import annotations

import contextlib
import os
import select
import signal
import socket
import sys
import time
from collections import deque
from typing import Any

from msgspec import json

from roundgate.core.next_step import typed_command
from roundgate.host.errors import KeeperGone, KeeperSilent
from roundgate.host.keeper.config import socket_address
from roundgate.host.keeper.interpreter import own

_ANSWER_WITHIN = 30.0
_ACCEPTS_WITHIN = 3.0
"""Seconds for a keeper to take a connection; where many wait already, it hangs."""
_REOPENS_WITHIN = 10.0
"""Seconds for a keeper to reopen its socket after somebody deleted it."""


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
                self.socket.settimeout(_ACCEPTS_WITHIN)
                self.socket.connect(address)
                self.socket.settimeout(None)
            finally:
                os.close(handle)
        except OSError as error:
            self.socket.close()
            raise KeeperGone("No keeper answers.", typed_command("start")) from error

    def close(self) -> None:
        """Hang up."""
        self.socket.close()

    def ask(self, ask: str, within: float = _ANSWER_WITHIN, **more: Any) -> Any:
        """Ask and wait for the answer, so many seconds. Raises KeeperGone where the keeper dies or does not answer."""
        self.post(ask, **more)
        return self.answer(time.monotonic() + within)

    def post(self, ask: str, **more: Any) -> None:
        """Ask, and leave the answer for later. Raises KeeperGone."""
        try:
            self.socket.sendall(json.encode({"ask": ask, **more}) + b"\n")
        except OSError as error:
            raise KeeperGone("The keeper has gone.", typed_command("status")) from error

    def answer(self, until: float) -> Any:
        """Wait for the answer to what was asked, until a moment of the monotonic clock. Raises KeeperGone.

        Raises KeeperSilent.
        """
        while True:
            message = self._receive(max(0.0, until - time.monotonic()))
            if message is None:
                raise KeeperSilent("The keeper does not answer.", typed_command("status"))
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
            raise KeeperGone("The connection to the keeper was cut.", typed_command("status")) from error
        if not data:
            raise KeeperGone("The keeper has gone.", typed_command("status"))
        return data


def connect(state: str) -> KeeperLink:
    """Connect to the keeper of a state folder. One whose socket was deleted opens it again; a dead one that had
    something to look after is replaced by a new one, which takes the server over. Raises KeeperGone.
    """
    try:
        return KeeperLink(state)
    except KeeperGone:
        from roundgate.host.keeper.lock import lock_holder  # a keeper that answers needs none of it
        from roundgate.host.keeper.record import current_record, needs_keeper

        holder = lock_holder(state)
        if holder is not None:
            return _reopened(state, holder)
        if not (needs_keeper(current_record(state)) and os.access(f"{state}/orders.json", os.R_OK)):
            raise
    return start_keeper(state)


def _reopened(state: str, holder: int) -> KeeperLink:
    """Have a keeper reopen its socket, and connect."""
    # It may have died since its lock was looked at; that shows when nobody answers below.
    with contextlib.suppress(ProcessLookupError, PermissionError):
        os.kill(holder, signal.SIGHUP)
    until = time.monotonic() + _REOPENS_WITHIN
    while True:
        try:
            return KeeperLink(state)
        except KeeperGone:
            if time.monotonic() > until:
                raise
            time.sleep(0.01)  # the socket's coming cannot be awaited without watching the folder


def start_keeper(state: str) -> KeeperLink:
    """Start a keeper in a session of its own and wait until it listens; its configuration is in the state folder.

    Where another one was faster, that one is it. Raises KeeperGone where it cannot start.
    """
    from roundgate.host.keeper.lock import lock_holder

    told, ready = os.pipe()
    os.set_inheritable(ready, True)
    nothing = [(os.POSIX_SPAWN_OPEN, handle, os.devnull, os.O_RDWR, 0) for handle in (0, 1, 2)]
    command = own("roundgate.host.keeper", state, str(ready))
    try:
        os.posix_spawn(sys.executable, command, os.environ, file_actions=nothing, setsid=True)
    finally:
        os.close(ready)
    with os.fdopen(told, "rb") as file:
        trouble = file.read().decode("utf-8", "replace").strip()
    holder = lock_holder(state) if trouble else None
    if trouble and holder is None:
        raise KeeperGone(f"The keeper could not start: {trouble}.", typed_command("status"))
    return KeeperLink(state) if holder is None else _reopened(state, holder)
