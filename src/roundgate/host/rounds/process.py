"""A round's process: detached from the terminal, which is a window on it."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from collections.abc import Iterator
from typing import Any

from msgspec import json

from roundgate.host.person import who
from roundgate.host.rounds.options import Options
from roundgate.host.servers import Server
from roundgate.host.store import Store


class RoundWindow:
    """The terminal's view of a round that runs in a process of its own."""

    def __init__(self, number: int, process: subprocess.Popen[bytes], events: int) -> None:
        """Keep the round's number, its process and the handle that its words come from."""
        self.number = number
        self.process = process
        self._file = os.fdopen(events, "rb", buffering=0)
        self._rest = b""

    def messages(self) -> Iterator[dict[str, Any]]:
        """Give the round's words as they come, until its process ends."""
        while data := self._file.read(65536):
            *lines, self._rest = (self._rest + data).split(b"\n")
            for line in lines:
                yield json.decode(line)
        self.process.wait()

    def call_off(self) -> None:
        """Ask the round to end before it writes."""
        if self.process.poll() is None:
            self.process.send_signal(signal.SIGUSR1)

    def close(self) -> None:
        """Look away; the round goes on."""
        self._file.close()


def launch(server: Server, store: Store, options: Options) -> RoundWindow:
    """Open a round in the books and start its process."""
    number = store.open_round(server.name, options.kind, json.encode(options), who())
    store.note_round(number, process=os.getpid(), ran=None, changes=[])
    return _spawn(server, number, "run")


def launch_recovery(server: Server, number: int) -> RoundWindow:
    """Start a process that recovers a broken-off round."""
    return _spawn(server, number, "recover")


def _spawn(server: Server, number: int, verb: str) -> RoundWindow:
    ours, theirs = os.pipe()
    log = os.open(f"{server.state}/round-errors.log", os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
    try:
        process = subprocess.Popen(
            [sys.executable, "-m", "roundgate.host.rounds", verb, str(server.site.folder), str(number), str(theirs)],
            stdin=subprocess.DEVNULL,
            stdout=log,
            stderr=log,
            start_new_session=True,
            pass_fds=(theirs,),
            cwd="/",
        )
    finally:
        os.close(theirs)
        os.close(log)
    return RoundWindow(number, process, ours)
