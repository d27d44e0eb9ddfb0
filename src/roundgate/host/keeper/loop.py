"""The keeper's loop: wait for the server's output, its end, and clients; nothing is polled."""

from __future__ import annotations

import contextlib
import os
import resource
import selectors
import signal
import socket
import time
from collections.abc import Callable
from functools import partial
from typing import Any

from roundgate.host.keeper.child import LATE_STOP, STEADY, Child
from roundgate.host.keeper.clients import Client, is_welcome, listen, socket_mark
from roundgate.host.keeper.clock import WallClock
from roundgate.host.keeper.config import read_config
from roundgate.host.keeper.crashes import write_event
from roundgate.host.keeper.errands import Errands
from roundgate.host.keeper.heir import become_heir, bury, end_all, inherited, name_of, parent_of
from roundgate.host.keeper.lock import take_lock
from roundgate.host.keeper.log import ConsoleLog
from roundgate.host.keeper.record import current_record, needs_keeper, write_record
from roundgate.host.keeper.recovery import ORPHANED, Recovery

_MOST_CLIENTS = 64
_SEEK_PAUSE = 0.05
_ENDS_WITHIN = 2.0
"""Seconds that a process which a failed start has left behind is given to end by itself."""
_SPARE_HANDLES = 32
"""Handles kept free for the server's pipes, its process, the log and a recovery."""


class Keeper:
    """One server's keeper."""

    def __init__(self, state: str, umask: int) -> None:
        """Take the lock, open the socket and the log. Raises OSError where another keeper has the lock."""
        self.state = state
        # First of all: two keepers of one server would each start it after a crash.
        self.lock = take_lock(state)
        become_heir()
        self.child = Child(read_config(state), umask)
        self.selector = selectors.DefaultSelector()
        self.listener: socket.socket | None = None
        self.at: tuple[int, int] | None = None
        """The file of the socket."""
        self._listen()
        self.log = ConsoleLog(os.path.join(state, "console.log"))
        self.clients: list[Client] = []
        self.round: int | None = None
        """The round that holds the server, also after its process has died."""
        self.wanted = False
        self.stopper: Client | None = None
        """Who has said that the server is about to end, until it has ended."""
        self.restart_at: float | None = None
        self.before: set[int] = set()
        """What was inherited before the last start."""
        self.recoveries: dict[int, Recovery] = {}
        """By the round: one may still be on its way out of its process while another round dies."""
        self.leaving = False
        self.errands = Errands(self.selector)
        self.clock = WallClock(state, lambda: self.child.config, self.errands.run)
        limit, _ = resource.getrlimit(resource.RLIMIT_NOFILE)
        self.most_clients = max(4, min(_MOST_CLIENTS, limit - _SPARE_HANDLES))
        self._bell()

    def _listen(self) -> None:
        fresh = listen(self.state)
        if self.listener is not None:
            while self._welcome():  # whoever has called at the old one is not left standing there
                pass
            self.selector.unregister(self.listener)
            self.listener.close()
        self.listener, self.at = fresh, socket_mark(self.state)
        self.selector.register(self.listener, selectors.EVENT_READ, self._welcome)

    def _bell(self) -> None:
        """Let SIGHUP reopen the socket, where somebody deleted it. One that is there stays as it is."""
        ring, bell = os.pipe()
        for handle in (ring, bell):
            os.set_blocking(handle, False)
        signal.set_wakeup_fd(bell, warn_on_full_buffer=False)
        signal.signal(signal.SIGHUP, lambda *_: None)
        signal.signal(signal.SIGCHLD, lambda *_: None)
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        self.selector.register(ring, selectors.EVENT_READ, lambda: self._rung(ring))

    def _rung(self, ring: int) -> None:
        # Several rings in a row may have been emptied by the first look.
        with contextlib.suppress(BlockingIOError):
            if signal.SIGCHLD in os.read(ring, 4096):
                bury(self._known())
        with contextlib.suppress(OSError):
            if self.at is None or socket_mark(self.state) != self.at:
                self._listen()

    def _known(self) -> set[int]:
        """Return the children that somebody waits for; all others were inherited."""
        trials = {trial.process.pid for trial in self.recoveries.values() if trial.process is not None}
        return self.child.own | self.errands.processes | trials

    # --- the loop ------------------------------------------------------------------------------------------------

    def run(self) -> None:
        """Keep, until told to leave."""
        while not self.leaving:
            for client in self.clients:
                if client.waits_to_write != bool(client.unsent):
                    client.waits_to_write = bool(client.unsent)
                    events = selectors.EVENT_READ | (selectors.EVENT_WRITE if client.unsent else 0)
                    self.selector.modify(client.connection, events, self._hearing(client))
            for key, _ in self.selector.select(self._wait()):
                if self.selector.get_map().get(key.fd) is key:  # what came before it may have closed it
                    key.data()
            self._do_what_is_due()

    def _wait(self) -> float:
        recoveries_at = [recovery.due for recovery in self.recoveries.values()]
        # Nobody tells when a PID file is written.
        seek_at = None if self.child.seeks_until is None else time.monotonic() + _SEEK_PAUSE
        due = [moment for moment in (self.restart_at, seek_at, *recoveries_at) if moment is not None]
        return min(self.clock.wait(), max(0.0, min(due, default=float("inf")) - time.monotonic()))

    def _do_what_is_due(self) -> None:
        self.clock.look()
        now = time.monotonic()
        if self.restart_at is not None and now >= self.restart_at:
            self.restart_at = None
            self._start_again()
        if self.child.seeks_until is not None:
            self._seek()
        for recovery in self.recoveries.values():
            if recovery.due is not None and now >= recovery.due:
                recovery.begin()
                if recovery.ended is not None:
                    ended = partial(self._recovery_ended, recovery)
                    self.selector.register(recovery.ended, selectors.EVENT_READ, ended)

    def _note(self) -> None:
        """Write down how it stands, for a new keeper."""
        write_record(self.state, self.child.record(self.wanted, self.round))

    # --- the server ----------------------------------------------------------------------------------------------

    def take_over(self) -> None:
        """Take over from a keeper that died: its server, the start it owed, and the round that held it."""
        record = current_record(self.state)
        if record is None or not needs_keeper(record):
            return
        self.wanted = record["wanted"]
        if self.child.take_over(record):
            self._watch()
        elif self.wanted and record["round"] is None:
            self._write_event("crash")
            self._plan_restart()
        if record["round"] is not None:
            self._plan_recovery(record["round"], ORPHANED)
        self._note()

    def _watch(self) -> None:
        assert self.child.ended is not None
        self.selector.register(self.child.ended, selectors.EVENT_READ, self._ended)
        if self.child.output() >= 0:
            self.selector.register(self.child.output(), selectors.EVENT_READ, self._hear)

    def _start(self) -> str:
        """Start the server. Give an empty text, or why that cannot be done."""
        if self.child.runs:
            return "the server runs already"
        self.restart_at = None
        self.before = set(inherited(self._known()))
        try:
            trouble = self.child.take(read_config(self.state))
            if trouble:
                return trouble
            self.child.start()
        except (OSError, ValueError) as error:
            name = getattr(error, "filename", None) or self.child.config["command"][0]
            return f"it cannot be started: {getattr(error, 'strerror', None) or error}: {name}"
        self.wanted = True
        self._watch()
        self._note()
        self._tell_all({"event": "started", "process": self.child.process})
        return ""

    def _start_again(self) -> None:
        """Start after a crash. What keeps it from starting, such as a lack of handles, may pass: try again later."""
        trouble = self._start()
        if trouble and not self.child.runs:
            self._write_event("cannot-start", [trouble])
            self._plan_restart()
        elif not self.child.config["ready"]:
            self._write_event("up-again")
            self._notify("up-again")

    def _hear(self) -> None:
        lines = self.child.read_lines()
        if lines is None:
            self.selector.unregister(self.child.output())
        for line in lines or ():
            self._heard(line)

    def _heard(self, line: bytes) -> None:
        self.log.write(line)
        players = len(self.child.players)
        is_ready = self.child.note_line(line)
        self._tell_all({"event": "line", "text": line.decode("utf-8", "replace")})
        if is_ready:
            self._tell_ready()
        if is_ready or len(self.child.players) != players:
            self._note()

    def _tell_ready(self) -> None:
        if self.child.crashes or self.child.was_stopped_late:
            self._write_event("up-again", [])
            self._notify("up-again")
            self.child.was_stopped_late = False
        self._tell_all({"event": "ready"})

    def _seek(self) -> None:
        """Look for the server that its start command has left in the background."""
        found = self.child.find_in_background(self._known())
        if found and self.child.ended is not None:
            self.selector.register(self.child.ended, selectors.EVENT_READ, self._ended)
            self._note()
            if self.child.ready:
                self._tell_ready()
        elif found is False:
            self._ended()

    def _ended(self) -> None:
        handle, output = self.child.ended, self.child.output()
        # Before the process is reaped, which closes the pipe: the last lines often say why it ended.
        self._drain()
        if handle is not None and self.child.goes_into_background():
            self.selector.unregister(handle)
            return
        was_up = self.child.ready is not None or self.child.exit_wanted or time.time() - self.child.started > STEADY
        if not self.child.reap():
            return
        left = [] if was_up or not self._leased() else self._end_what_is_left()
        self.stopper = None
        for stream in (handle, output):
            # Its output may have ended, and been unregistered, before the process did.
            with contextlib.suppress(KeyError, ValueError):
                if stream is not None:
                    self.selector.unregister(stream)
        pause = None if self._leased() else self._after_end()
        self._note()
        # After the record is written: whoever hears of the end may ask a new keeper next.
        self._tell_all({"event": "exit", "code": self.child.exit_code, "restart-in": pause, "left": left})

    def _end_what_is_left(self) -> list[str]:
        """End what a start that failed has left in the background; name it."""
        names, seen = [], set(self.before)
        # One that has ended by itself, or by us, may have left another one meanwhile.
        while found := [process for process in inherited(self._known()) if process not in seen]:
            seen.update(found)
            left = [process for process in found if parent_of(process)]
            names += [name_of(process) for process in left]
            end_all(left, _ENDS_WITHIN)
        return names

    def _after_end(self) -> float | None:
        """The server ended, and no round holds it: decide whether it is started again."""
        if self.child.exit_wanted:
            self.wanted = False
            return None
        self.child.was_stopped_late = self.child.stop_failed
        what = "late-stop" if self.child.stop_failed else "crash"
        self._write_event(what)
        pause = self._plan_restart()
        self._notify("gave-up" if self.child.gave_up else what, comes_back=pause is not None)
        return pause

    def _write_event(self, what: Any, last_lines: list[str] | None = None) -> None:
        lines = list(self.child.last_words) if last_lines is None else last_lines
        write_event(self.state, {"at": time.time(), "what": what, "code": self.child.exit_code, "words": lines})

    def _notify(self, what: str, *, comes_back: bool = True) -> None:
        """Send a notice of what happened to the server."""
        call = self.child.config.get("notify")  # a keeper of an earlier version was told nothing of it
        if call:
            code = "" if self.child.exit_code is None else str(self.child.exit_code)
            self.errands.run([*call, what, code, "back" if comes_back else "down"])

    def _plan_restart(self) -> float | None:
        pause = self.child.pause_before_restart()
        self.restart_at = None if pause is None else time.monotonic() + pause
        if self.child.gave_up:
            self.wanted = False
            self._write_event("gave-up", [])
        return pause

    def _drain(self) -> None:
        """Hear the server's last words before its output is closed; a process it left behind may go on talking."""
        for _ in range(64):
            lines = self.child.read_lines() if self.child.output() >= 0 else None
            if not lines:
                break
            for line in lines:
                self._heard(line)
        if self.child.rest:
            self._heard(self.child.rest)
            self.child.rest = b""

    # --- clients -------------------------------------------------------------------------------------------------

    def _welcome(self) -> bool:
        """Take the next connection that waits; return whether there was one."""
        assert self.listener is not None
        try:
            connection, _ = self.listener.accept()
        except OSError:
            return False
        if len(self.clients) >= self.most_clients or not is_welcome(connection):
            connection.close()
            return True
        client = Client(connection)
        self.clients.append(client)
        self.selector.register(connection, selectors.EVENT_READ, self._hearing(client))
        return True

    def _hearing(self, client: Client) -> Callable[[], None]:
        return lambda: self._listen_to(client)

    def _listen_to(self, client: Client) -> None:
        client.flush()
        messages = client.read()
        if messages is None:
            self._goodbye(client)
        for message in messages or ():
            client.tell({"answer": self._do(client, message)})

    def _goodbye(self, client: Client) -> None:
        self.selector.unregister(client.connection)
        client.connection.close()
        self.clients.remove(client)
        if client is self.stopper and client.round is None:
            # It died, or was interrupted, before the server ended. That may come still; an end much later is a crash.
            self._stopping(None, "late")
        # A round's connection ended without letting go of the server, so its process has died.
        number = client.pledged if client.round is None else client.round
        if number is not None and number not in self.recoveries and not self._held_by_a_round():
            self._plan_recovery(number)

    def _plan_recovery(self, number: int, wait: float = 0.0) -> None:
        self.round = number
        self.recoveries[number] = Recovery(self.child.config["recover"], number, wait)

    def _recovery_ended(self, recovery: Recovery) -> None:
        assert recovery.ended is not None
        self.selector.unregister(recovery.ended)
        if recovery.end():
            del self.recoveries[recovery.round]
            if not self._leased():
                self.round = None
                if self.wanted and not self.child.runs and self.restart_at is None:
                    self._after_end()
            self._note()

    def _held_by_a_round(self) -> bool:
        return any(client.round is not None for client in self.clients)

    def _leased(self) -> bool:
        return self._held_by_a_round() or any(not recovery.let_go for recovery in self.recoveries.values())

    def _tell_all(self, event: dict[str, Any]) -> None:
        for client in self.clients:
            if client.follows:
                client.tell(event)

    def _do(self, client: Client, message: dict[str, Any]) -> Any:
        ask = message.get("ask")
        if ask == "state":
            return self._state()
        if ask == "start":
            self.child.crashes, self.child.gave_up = 0, False
            return self._start()
        if ask == "send":
            return self.child.send(str(message.get("text", "")))
        if ask == "signal":
            return self.child.signal(str(message.get("name")))
        return self._do_more(client, str(ask), message)

    def _do_more(self, client: Client, ask: str, message: dict[str, Any]) -> Any:
        if ask == "follow":
            client.follows = bool(message.get("on", True))
        elif ask == "stopping":
            self._stopping(client, str(message.get("how", "now")))
        elif ask == "lease":
            self._lease(client, message.get("round"), up=bool(message.get("up")))
        elif ask == "pledge":
            pledged = message.get("round")
            client.pledged = pledged if isinstance(pledged, int) else None
        elif ask == "leave":
            self.leaving = not self.child.runs
        else:
            return f"unknown: {ask[:80]}"
        return ""

    def _stopping(self, client: Client | None, how: str) -> None:
        """Whoever stops the server says so first, or its end would count as a crash, and takes it back on failure.

        now: it is about to end. failed: it did not, and is to run on. late: it did not, and may still end for good.
        """
        self.stopper = client if how == "now" and self.child.runs else None
        self.restart_at = None if how == "now" else self.restart_at
        until = {"now": float("inf"), "late": time.monotonic() + LATE_STOP}
        # Without a limit for "late", a crash days later would pass for the stop.
        self.child.exit_wanted_until = until.get(how, 0.0)
        self.child.stop_failed = how == "failed"

    def _lease(self, client: Client, round: Any, *, up: bool) -> None:
        before, client.round = client.round, round if isinstance(round, int) else None
        self.restart_at = None
        if client.round is not None:
            self.round = client.round
            recovery = self.recoveries.get(client.round)
            if recovery is not None and recovery.process is None:
                del self.recoveries[client.round]  # the round lives after all, or its recovery has come by itself
        else:
            if before in self.recoveries:
                self.recoveries[before].let_go = True
            self.round, self.wanted, client.pledged = None, up, None
            if up and not self.child.runs:
                self._after_end()  # it ended between the round's last look and its letting go
        self._note()

    def _state(self) -> dict[str, Any]:
        child = self.child
        return {
            "process": child.process,
            "started": child.started if child.runs else None,
            "ready": child.ready,
            "exit-code": child.exit_code,
            "crashes": child.crashes,
            "gave-up": child.gave_up,
            "restarting": self.restart_at is not None,
            "players": len(child.players),
            "keeper": os.getpid(),
            "round": self.round,
            "recovering": max((one.tries for one in self.recoveries.values() if not one.let_go), default=None),
            "slow-patterns": child.slow_patterns,
        }


def keep(state: str, umask: int, ready: int | None) -> int:
    """Be the keeper of a state folder until told to leave; return the exit code."""
    try:
        keeper = Keeper(state, umask)
    except OSError as error:
        if ready is not None:
            os.write(ready, f"{error.strerror}\n".encode())
        return 1
    keeper.take_over()
    if ready is not None:
        os.close(ready)
    keeper.run()
    return 0
