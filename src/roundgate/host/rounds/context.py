"""One round at work: its server, its journal, its options, and waiting that can be called off."""

from __future__ import annotations

import contextlib
import os
import select
import signal
import sqlite3
import time
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from types import FrameType
from typing import Any

from msgspec import json

from roundgate.host.consoles import console_of
from roundgate.host.consoles.protocol import Console
from roundgate.host.drivers import driver_of
from roundgate.host.masking import secrets_of, without
from roundgate.host.patterns import search
from roundgate.host.rounds.options import Options, RoundEnd
from roundgate.host.servers import Server
from roundgate.host.site import make_private
from roundgate.host.store import RoundRow, Store, Waiting
from roundgate.host.workspace import Workspace

_LINES_KEPT = 400
_MOST_UNTOLD = 1024 * 1024
"""Bytes that wait for a terminal that does not read; beyond that it is no longer told."""


class Round:
    """One round at work."""

    def __init__(self, server: Server, store: Store, row: RoundRow, events: int | None = None) -> None:
        """Take hold of a round in the books; ``events`` is a handle to which the terminal listens."""
        self.server = server
        self.store = store
        self.row = row
        self.number = row.number
        self.options = json.decode(row.options, type=Options)
        self.workspace = Workspace(server)
        """The server's files as the round saw them last."""
        self.events = events
        self._untold = b""
        if events is not None:
            os.set_blocking(events, False)
        self.driver = driver_of(server)
        self.console: Console = console_of(server, self.driver)
        self._secrets: set[str] = set()
        self.lines: deque[str] = deque(maxlen=_LINES_KEPT)
        self.exited = False
        self.exit_code: int | None = None
        """The exit code of the server's last end; None where it is not known."""
        self.ran = bool(row.ran)
        """Whether the server was up when the round began."""
        self.operations: list[Waiting] = []
        """What the round brings into force: claimed at its beginning, as it was reviewed."""
        self.marks: set[tuple[str, str]] = set()
        """The journal's steps and marks so far, in memory too: the way back must not hang on a disk that is full."""
        self.degraded = False
        """True once the way back has begun: a journal that cannot be written must not keep the server down."""
        self.calling_off, self._bell = os.pipe()
        for handle in (self.calling_off, self._bell):
            os.set_blocking(handle, False)

    @property
    def folder(self) -> Path:
        """The folder that holds the round's snapshot."""
        return self.server.site.state / "rounds" / str(self.number)

    def claimed(self) -> list[Waiting]:
        """Give what the round brings into force, from the books; nothing where they cannot be read."""
        with contextlib.suppress(sqlite3.Error):
            return self.store.claimed(self.server.name, self.number)
        return []

    @property
    def kept_words(self) -> str:
        """Say where a person finds what was saved."""
        return f"What was saved lies in {self.folder}."

    def make_folder(self) -> Path:
        """Make the round's folder, for this user only."""
        make_private(self.server.site.state / "rounds")
        make_private(self.folder)
        return self.folder

    def look(self) -> Workspace:
        """Look at the server's files as they are now, and learn their secrets. Raises Trouble, BrokenRulebook."""
        self.workspace = self.workspace.again()
        self.learn_secrets()
        return self.workspace

    # --- telling ---------------------------------------------------------------------------------------------------

    def tell(self, message: dict[str, Any]) -> None:
        """Tell the terminal, if one still listens."""
        if self.events is None:
            return
        self._untold += json.encode(message) + b"\n"
        try:
            while self._untold:
                self._untold = self._untold[os.write(self.events, self._untold) :]
        except BlockingIOError:  # a terminal that is paused; the round never waits for its window
            if len(self._untold) > _MOST_UNTOLD:
                self.events = None
        except OSError:
            self.events = None

    def stop_telling(self) -> None:
        """Close the terminal's window: what follows goes on by itself."""
        if self.events is not None:
            with contextlib.suppress(OSError):
                os.close(self.events)
            self.events = None

    def note(self, step: str, said: str, mark: str = "note") -> None:
        """Write a line into the journal and tell the terminal."""
        self.marks.add((step, mark))
        said = said if mark == "end" else self.without_secrets(said)
        try:
            self.store.write_journal(self.number, step, mark, said)
        except sqlite3.Error:
            if not self.degraded:
                raise
        self.tell({"step": step, "mark": mark, "said": said, "at": time.time()})

    def waits(self, step: str, what: str, seconds: float | None) -> None:
        """Tell the terminal what is waited for and how long it is likely to take, for its bar."""
        self.tell({"step": step, "mark": "wait", "said": what, "seconds": seconds})

    @contextmanager
    def step(self, name: str, said: str = "") -> Iterator[None]:
        """Take a step: written down before it is taken and after it is done."""
        self.note(name, said, "begin")
        began = time.monotonic()
        yield
        self.note(name, f"{time.monotonic() - began:.3f}", "end")

    # --- calling off -------------------------------------------------------------------------------------------------

    def heed_call_off(self) -> None:
        """From now on SIGUSR1 calls the round off."""

        def ring(_number: int, _frame: FrameType | None) -> None:
            with contextlib.suppress(OSError):
                os.write(self._bell, b"!")

        signal.signal(signal.SIGUSR1, ring)

    def check_called_off(self, step: str) -> None:
        """End the round here where it was called off. Raises RoundEnd."""
        if select.select([self.calling_off], [], [], 0)[0]:
            os.read(self.calling_off, 16)
            self.note(step, "called off")
            raise RoundEnd("called-off", "The round was called off; nothing was changed.")

    # --- waiting -------------------------------------------------------------------------------------------------

    def hear(self, until: float | None, *, heed: bool = False) -> dict[str, Any] | None:
        """Wait for the server's next word or end; keep its lines. None when the time (monotonic) is up.

        With ``heed`` the wait also ends when the round is called off.
        """
        event = self.driver.next_event(until, self.calling_off if heed else None)
        if event and event["event"] == "line":
            self.lines.append(str(event["text"]))
        if event and event["event"] == "exit":
            self.exited, self.exit_code = True, event["code"]
        return event

    def failure_in(self, line: str) -> bool:
        """Tell whether the rulebook calls a log line a failure."""
        return any(search(pattern, line) for pattern in self.server.book.server.failures)

    def evidence(self, most: int = 12) -> list[str]:
        """Give the last lines of the log, without the values of secrets."""
        with contextlib.suppress(Exception):  # whatever the files hold, the log is evidence
            self.look()
        return [self.without_secrets(line) for line in list(self.lines)[-most:]]

    def without_secrets(self, line: str) -> str:
        """Blank out every secret that stands in a line, old values and new ones: a server may log what it was given."""
        return without(line, self._secrets)

    def learn_secrets(self) -> None:
        """Remember every secret that is on disk or on the slate now; what was one at any time stays one."""
        waiting: list[Waiting] = []
        with contextlib.suppress(sqlite3.Error):
            waiting = self.store.slate(self.server.name)
        self._secrets |= secrets_of(self.workspace, [one.operation for one in waiting])
