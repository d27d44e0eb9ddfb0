"""A round's process: detached from the terminal, which is a window on it."""

from __future__ import annotations

import contextlib
import os
import signal
import sys
from collections.abc import Iterator

from msgspec import json

from roundgate.host.drivers import driver_of
from roundgate.host.keeper.interpreter import own
from roundgate.host.keeper.record import birth_of
from roundgate.host.person import who
from roundgate.host.rounds.events import RoundEvent, read_event
from roundgate.host.rounds.locking import is_at_work
from roundgate.host.rounds.options import Options
from roundgate.host.servers import Server
from roundgate.host.store import RoundRow, Store


class RoundWindow:
    """The terminal's view of a round that runs in a process of its own."""

    def __init__(self, number: int, process: int, events: int) -> None:
        """Keep the round's number, its process and the handle that its messages come from."""
        self.number = number
        self.process = process
        self._file = os.fdopen(events, "rb", buffering=0)
        self._rest = b""

    def events(self) -> Iterator[RoundEvent]:
        """Yield what the round tells as it comes, until it has told its end."""
        while (several := self.some_events()) is not None:
            yield from several

    def some_events(self) -> list[RoundEvent] | None:
        """Wait for the next messages of the round, and return what they tell; None where it has told its end."""
        data = self._file.read(65536)
        if not data:
            return None
        *lines, self._rest = (self._rest + data).split(b"\n")
        return [read_event(line) for line in lines]

    def fileno(self) -> int:
        """Return the handle that can be read once the round has told something."""
        return self._file.fileno()

    def call_off(self) -> None:
        """Ask the round to end before it writes."""
        # It has ended, and its end is in the events.
        with contextlib.suppress(ProcessLookupError):
            os.kill(self.process, signal.SIGUSR1)

    def close(self) -> None:
        """Look away; the round goes on."""
        self._file.close()


def launch(server: Server, store: Store, options: Options) -> RoundWindow:
    """Open a round in the books and start its process. Whether the server is up is noted before anything else."""
    driver = driver_of(server)
    try:
        state = driver.state()
    finally:
        driver.close()
    # In the books before its process lives: a spawn that fails leaves a round that recovery can close.
    number = store.open_round(
        server.name,
        options.kind,
        json.encode(options),
        who(),
        ran=state.runs or state.restarting,
        process=os.getpid(),
        birth=birth_of(os.getpid()) or 0,
    )
    return _spawn(server, number, "run")


def launch_recovery(server: Server, number: int) -> RoundWindow:
    """Start a process that recovers a broken-off round."""
    return _spawn(server, number, "recover")


def _spawn(server: Server, number: int, verb: str) -> RoundWindow:
    """Start a round's process in a session of its own."""
    ours, theirs = os.pipe()
    # Only this end may reach the round's process. Were ours inherited too, the round would never see the terminal go.
    os.set_inheritable(theirs, True)
    log = _errors_log(server)
    stdio = [
        (os.POSIX_SPAWN_OPEN, 0, os.devnull, os.O_RDONLY, 0),
        (os.POSIX_SPAWN_DUP2, log, 1),
        (os.POSIX_SPAWN_DUP2, log, 2),
    ]
    command = own("roundgate.host.rounds", verb, str(server.site.folder), str(number), str(theirs))
    try:
        process = os.posix_spawn(sys.executable, command, os.environ, file_actions=stdio, setsid=True)
    finally:
        os.close(theirs)
        os.close(log)
    return RoundWindow(number, process, ours)


def _errors_log(server: Server) -> int:
    """Open the log of a round's own mistakes; on a full disk they are lost."""
    try:
        return os.open(f"{server.state}/round-errors.log", os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
    except OSError:
        return os.open(os.devnull, os.O_WRONLY)


def call_off(row: RoundRow) -> bool:
    """Ask a round to end before it writes; return whether there is anybody to ask."""
    if not is_at_work(row):
        return False
    handle = os.pidfd_open(row.process)
    try:
        signal.pidfd_send_signal(handle, signal.SIGUSR1)
    finally:
        os.close(handle)
    return True
