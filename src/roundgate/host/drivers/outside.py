"""Drivers for servers that something else holds: what they have in common is how the server is watched.

Its process is found by the rulebook's pattern of its command line, or by a command of the owner's; its output is in the
logs that the rulebook names. Nothing tells when either changes, so both are looked at again and again while a round
waits.
"""

from __future__ import annotations

import contextlib
import os
import select
import subprocess
import time
from collections import deque
from collections.abc import Sequence
from typing import Any

from msgspec import MsgspecError, Struct, json

from roundgate.host import machine
from roundgate.host.asking.commands import run_command
from roundgate.host.drivers.keeper_link import KeeperLink
from roundgate.host.drivers.protocol import RunState
from roundgate.host.errors import ConsoleCut, KeeperGone, Trouble
from roundgate.host.files import read_bytes, write_durably
from roundgate.host.keeper.child import copy_started
from roundgate.host.logs.tail import LogTail
from roundgate.host.patterns import search
from roundgate.host.servers import Server

UNSEEN = 0
"""In the place of a process that lives where this machine's processes cannot be seen, such as in a container."""
_REMEMBERED = "outside.json"


class _Seen(Struct, frozen=True):
    """What is remembered of a server between two commands: its process, and when it was ready."""

    process: int
    born: float
    ready: float | None = None


class OutsideDriver:
    """Watches a server that something else holds."""

    counts_players = False
    kind = ""
    """The driver's name in the site file."""
    pause = 0.05
    """Seconds between two looks."""

    def __init__(self, server: Server) -> None:
        """Look at nothing yet."""
        self.server = server
        self.events: deque[dict[str, Any]] = deque()
        self._follows = False
        self._log = LogTail(server)
        self._last: int | None = None
        self._ready: float | None = None
        self._is_stopping = False
        """Whether it was told to end: what comes then has not been ready yet."""
        self._former: KeeperLink | None = None
        """A keeper that held the server before it had this driver."""

    @property
    def hears(self) -> bool:
        """See Driver: it reads the logs that the rulebook names."""
        return bool(self.server.book.server.logs)

    # --- what a driver of this sort says of itself --------------------------------------------------------------

    def start_it(self) -> str:
        """Let the server be started. Give an empty text, or why that could not be done."""
        raise NotImplementedError

    def stop_it(self) -> str:
        """Stop the server in the driver's own way; describe that way, empty where it has none. Raises Trouble."""
        return ""

    def process(self) -> int | None:
        """Return the server's process, ``UNSEEN`` where it runs and cannot be seen, None where it does not run."""
        found = machine.running_in(self.server.run_in, self.server.book.server.process)
        return min(found) if found else None

    # --- see Driver -----------------------------------------------------------------------------------------------

    def state(self, within: float | None = None) -> RunState:
        """See Driver."""
        process = self.process()
        if process is None:
            return RunState()
        # The number alone is not enough: the host may have started another process that got the same one.
        born = _born(process)
        seen = self._remembered()
        is_same = seen is not None and (seen.process, round(seen.born)) == (process, round(born))
        if not self.hears:  # nothing will ever say that it is ready
            return RunState(process=process, started=born or None, ready=born or time.time())
        ready = self._ready or (seen.ready if seen is not None and is_same else None)
        is_known = self._is_stopping or is_same
        if not is_known:  # it was started by whoever holds it: what is on disk now is what it has read
            copy_started(self.server.keeper_config())
            self._remember(process, born)
        return RunState(process=process, started=born or None, ready=ready if is_known else born or time.time())

    def post_state(self) -> None:
        """See Driver: it is asked when the answer is wanted."""

    def posted_state(self, until: float) -> RunState:
        """See Driver."""
        return self.state()

    def open(self) -> None:
        """See Driver."""

    def start(self) -> None:
        """See Driver. Raises Trouble."""
        self._dismiss_former_keeper()
        self.forget()
        copy_started(self.server.keeper_config())
        self.server.remember_book()
        trouble = self.start_it()
        if trouble:
            raise Trouble(f"{self.server.name}: {trouble}.", "Correct its table in the site file.")
        self._follows = True

    def forget(self) -> None:
        """Forget what was heard: another process comes now."""
        self._log.skip()
        self.events.clear()
        self._ready, self._last, self._is_stopping = None, None, True

    def expect_stop(self) -> None:
        """See Driver."""
        self._last = self.process()
        self._is_stopping = True
        self._tell_former_keeper()

    def _tell_former_keeper(self) -> None:
        """Have a keeper let the server end: one that held it before the site file named another driver would take the
        end for a crash, and start it again. It leaves once the server is down.
        """
        # Where none is there, which is so nearly always, nobody has to be told.
        with contextlib.suppress(KeeperGone):
            self._former = KeeperLink(self.server.state)
            self._former.ask("stopping", how="now")

    def _dismiss_former_keeper(self) -> None:
        if self._former is not None:
            with contextlib.suppress(KeeperGone):
                self._former.ask("leave")
            self._former.close()
            self._former = None

    def stop_failed(self, *, for_good: bool) -> None:
        """See Driver: whoever holds the server decides what becomes of it."""

    def send(self, text: str) -> None:
        """See Driver. Raises ConsoleCut: its standard input is somebody else's."""
        raise ConsoleCut(
            f"The standard input of {self.server.name} is not Round Gate's: its driver is '{self.kind}'.",
            "Give its rulebook a [server.console], or use the driver 'keeper'.",
        )

    def signal(self, name: str) -> None:
        """See Driver. Raises Trouble."""
        import signal

        process = self.process()
        if process == UNSEEN:
            raise Trouble(f"{self.server.name}: its process cannot be seen, so it can be sent no {name}", "")
        number = getattr(signal, name, None)
        if not isinstance(number, signal.Signals):
            raise Trouble(f"{self.server.name}: there is no signal '{name}'.", "Correct 'signals' in the rulebook.")
        if process is not None:
            # It has ended by itself, which is what the signal was for.
            with contextlib.suppress(ProcessLookupError):
                os.kill(process, number)

    def follow(self) -> None:
        """See Driver."""
        if not self._follows:
            self._log.skip()
        self._follows = True
        if self._last is None:
            self._last = self.process()

    def next_event(self, until: float | None, also: int | None = None) -> dict[str, Any] | None:
        """See Driver."""
        while True:
            if not self.events:
                self._look()
            if self.events:
                return self.events.popleft()
            left = None if until is None else until - time.monotonic()
            if left is not None and left <= 0:
                return None
            wait = self.pause if left is None else min(self.pause, left)
            # Whoever holds the server tells nobody of its end or its words, so both are looked at again after a short
            # pause.
            if select.select([] if also is None else [also], [], [], wait)[0]:
                return None

    def pledge(self, round: int) -> None:
        """See Driver: nobody else is told."""

    def lease(self, round: int | None, *, up: bool = False) -> None:
        """See Driver: nobody else is told."""

    def close(self) -> None:
        """See Driver."""
        self._dismiss_former_keeper()
        self._log.close()

    def leave(self) -> None:
        """See Driver."""
        self.close()

    def _look(self) -> None:
        """Gather what has happened since the last look."""
        pattern = self.server.book.server.ready
        process = self.process()
        for line in self._log.lines():
            self.events.append({"event": "line", "text": line})
            if self._ready is None and process is not None and pattern and search(pattern, line):
                self._ready = time.time()
                self._remember(process, self._ready)
                self.events.append({"event": "ready"})
        if self._last is not None and process != self._last:
            self.events.append({"event": "exit", "code": None, "restart-in": None})
        self._last = process

    def _remembered(self) -> _Seen | None:
        try:
            raw = read_bytes(f"{self.server.state}/{_REMEMBERED}")
            return json.decode(raw, type=_Seen) if raw else None
        except (OSError, MsgspecError):
            return None

    def _remember(self, process: int, ready: float) -> None:
        # Where it cannot be kept, the next command looks for the ready sign in the log again.
        with contextlib.suppress(OSError):
            seen = _Seen(process, _born(process), ready)
            write_durably(f"{self.server.state}/{_REMEMBERED}", json.encode(seen))

    def run(self, command: Sequence[str], within: float) -> tuple[int, str]:
        """Run a command of the owner's in the server's folder; return its exit code and what it said, cut short.

        Raises Trouble where it cannot be run, or does not end in time.
        """
        try:
            code, output = run_command(command, self.server.folder, within)
        except subprocess.TimeoutExpired as error:
            what = f"'{' '.join(command)}' did not end within {within:g} s"
            raise Trouble(f"{self.server.name}: {what}.", "Correct its table in the site file.") from error
        except OSError as error:
            what = f"'{command[0]}' cannot be run: {(error.strerror or str(error)).lower()}"
            raise Trouble(f"{self.server.name}: {what}.", "Correct its table in the site file.") from error
        return code, output.decode("utf-8", "replace").strip()[-500:]


def _born(process: int) -> float:
    return 0.0 if process == UNSEEN else machine.started_at(process) or 0.0
