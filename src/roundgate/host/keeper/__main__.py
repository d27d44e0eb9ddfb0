"""The keeper's loop: wait for the server's words, its end, and visitors; nothing is polled.

    python -m roundgate.host.keeper STATE-FOLDER READY-HANDLE

It begins by listening, then closes READY-HANDLE, and ends when it is told to leave.
"""

from __future__ import annotations

import contextlib
import os
import selectors
import signal
import socket
import subprocess
import sys
import time
from typing import Any

from roundgate.host.keeper.child import Child
from roundgate.host.keeper.log import ConsoleLog
from roundgate.host.keeper.orders import read_orders
from roundgate.host.keeper.visitors import Visitor, is_welcome, listen


class Keeper:
    """One server's keeper."""

    def __init__(self, state: str, umask: int) -> None:
        """Open the socket, the log and the bell that rings when a child ends."""
        self.state = state
        self.orders = read_orders(state)
        self.child = Child(self.orders, umask)
        self.listener = listen(state)
        self.log = ConsoleLog(os.path.join(state, "console.log"))
        self.visitors: list[Visitor] = []
        self.restart_at: float | None = None
        self.leaving = False
        self.selector = selectors.DefaultSelector()
        self.selector.register(self.listener, selectors.EVENT_READ, self._welcome)
        self._bell()

    def _bell(self) -> None:
        ring, bell = os.pipe()
        for handle in (ring, bell):
            os.set_blocking(handle, False)
        signal.set_wakeup_fd(bell, warn_on_full_buffer=False)
        signal.signal(signal.SIGCHLD, lambda *_: None)
        for sign in (signal.SIGHUP, signal.SIGINT):
            signal.signal(sign, signal.SIG_IGN)
        self.selector.register(ring, selectors.EVENT_READ, lambda: self._rung(ring))

    def run(self) -> None:
        """Keep, until told to leave."""
        while not self.leaving:
            wait = None if self.restart_at is None else max(0.0, self.restart_at - time.monotonic())
            for key, _ in self.selector.select(wait):
                key.data()
            if self.restart_at is not None and time.monotonic() >= self.restart_at:
                self.restart_at = None
                self._start()

    # --- the server --------------------------------------------------------------------------------------------

    def _start(self) -> str:
        if self.child.runs:
            return "the server runs already"
        self.restart_at = None
        try:
            self.child.take(read_orders(self.state))
            self.child.start()
        except OSError as error:
            self.child.process = None
            return f"it cannot be started: {error.strerror}: {error.filename or self.child.orders['command'][0]}"
        self.selector.register(self.child.output(), selectors.EVENT_READ, self._hear)
        self._tell_all({"event": "started", "process": self.child.process and self.child.process.pid})
        return ""

    def _hear(self) -> None:
        lines = self.child.read_lines()
        if lines is None:
            self.selector.unregister(self.child.output())
        for line in lines or ():
            self._heard(line)

    def _heard(self, line: bytes) -> None:
        self.log.write(line)
        is_ready = self.child.heed(line)
        self._tell_all({"event": "line", "text": line.decode("utf-8", "replace")})
        if is_ready:
            self._tell_all({"event": "ready"})

    def _rung(self, ring: int) -> None:
        with contextlib.suppress(BlockingIOError):
            os.read(ring, 4096)
        process = self.child.process
        if process is None or process.poll() is None:
            return
        self._drain()
        self.child.reap()
        pause = None if self._leased() else self._plan_restart()
        self._tell_all({"event": "exit", "code": self.child.exit_code, "restart-in": pause})

    def _plan_restart(self) -> float | None:
        pause = self.child.pause_before_restart()
        self.restart_at = None if pause is None else time.monotonic() + pause
        return pause

    def _drain(self) -> None:
        """Hear the server's last words before its output is closed."""
        while lines := self.child.read_lines():
            for line in lines:
                self._heard(line)
        if self.child.rest:
            self._heard(self.child.rest)
        with contextlib.suppress(KeyError, ValueError):
            self.selector.unregister(self.child.output())

    # --- visitors ----------------------------------------------------------------------------------------------

    def _welcome(self) -> None:
        connection, _ = self.listener.accept()
        if not is_welcome(connection):
            connection.close()
            return
        visitor = Visitor(connection)
        self.visitors.append(visitor)
        self.selector.register(connection, selectors.EVENT_READ, lambda: self._listen_to(visitor))

    def _listen_to(self, visitor: Visitor) -> None:
        visitor.flush()
        messages = visitor.read()
        if messages is None:
            self._goodbye(visitor)
        for message in messages or ():
            visitor.tell({"answer": self._do(visitor, message)})

    def _goodbye(self, visitor: Visitor) -> None:
        self.selector.unregister(visitor.connection)
        visitor.connection.close()
        self.visitors.remove(visitor)
        if visitor.round is not None:
            self._recover(visitor.round)

    def _recover(self, number: int) -> None:
        """A round ended without a word: let it be recovered, so that the server is not down until someone looks."""
        with contextlib.suppress(OSError):
            subprocess.Popen(
                [*self.orders["recover"], str(number)],
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                start_new_session=True,
            )

    def _leased(self) -> bool:
        return any(visitor.round is not None for visitor in self.visitors)

    def _tell_all(self, event: dict[str, Any]) -> None:
        for visitor in self.visitors:
            if visitor.follows:
                visitor.tell(event)

    def _do(self, visitor: Visitor, message: dict[str, Any]) -> Any:
        ask = message.get("ask")
        if ask == "state":
            return self._state()
        if ask == "start":
            self.child.crashes, self.child.gave_up = 0, False
            return self._start()
        if ask == "send":
            return self.child.send(str(message.get("text", "")))
        return self._do_more(visitor, str(ask), message)

    def _do_more(self, visitor: Visitor, ask: str, message: dict[str, Any]) -> Any:
        if ask == "follow":
            visitor.follows = bool(message.get("on", True))
        elif ask == "signal":
            self.child.signal(str(message.get("name")))
        elif ask == "stopping":  # whoever stops the server says so first, or its end would count as a crash
            self.child.exit_wanted, self.restart_at = True, None
        elif ask == "lease":
            visitor.round, self.restart_at = message.get("round"), None
            if message.get("up") and not self.child.runs:
                self._plan_restart()  # it ended between the round's last look and its letting go
        elif ask == "leave":
            self.leaving = not self.child.runs
        else:
            return f"unknown: {ask}"
        return ""

    def _state(self) -> dict[str, Any]:
        child = self.child
        return {
            "process": child.process.pid if child.process else None,
            "started": child.started if child.runs else None,
            "ready": child.ready,
            "exit-code": child.exit_code,
            "crashes": child.crashes,
            "gave-up": child.gave_up,
            "restarting": self.restart_at is not None,
            "players": len(child.players),
            "keeper": os.getpid(),
        }


def main() -> None:
    """Run the keeper of the state folder that the arguments name."""
    umask = os.umask(0o077)  # what the keeper writes is private; the server keeps the mask it would have had
    os.chdir("/")
    state, ready = sys.argv[1], int(sys.argv[2])
    try:
        keeper = Keeper(state, umask)
    except OSError as error:
        os.write(ready, f"{error.strerror}\n".encode())
        raise SystemExit(1) from error
    os.close(ready)
    with contextlib.suppress(socket.error):
        keeper.run()


if __name__ == "__main__":
    main()
