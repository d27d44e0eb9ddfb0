"""One round at work: its server, what it brings into force, and what it has seen."""

from __future__ import annotations

import contextlib
import sqlite3
from pathlib import Path

from msgspec import json

from roundgate.core.rounds import RoundOutcome, Step
from roundgate.host.asking.reader import ValueReader
from roundgate.host.consoles import console_of
from roundgate.host.consoles.protocol import Console
from roundgate.host.drivers import driver_of
from roundgate.host.masking import secrets_of, without
from roundgate.host.rounds.call_off import CallOff
from roundgate.host.rounds.journal import Journal, Listener
from roundgate.host.rounds.options import Options, RoundAborted
from roundgate.host.rounds.plans import PLANS
from roundgate.host.rounds.server_log import ServerLog, is_failure
from roundgate.host.servers import Server
from roundgate.host.site import make_private
from roundgate.host.store import RoundRow, Store, Waiting
from roundgate.host.workspace import Workspace


class Round:
    """One round at work."""

    def __init__(self, server: Server, store: Store, row: RoundRow, events: int | None = None) -> None:
        """Take hold of a round in the books; ``events`` is a handle to which the terminal listens."""
        self.server = server
        self.store = store
        self.row = row
        self.number = row.number
        self.options = json.decode(row.options, type=Options)
        self.plan = PLANS[self.options.kind]
        self.workspace = Workspace(server)
        """The server's files as the round saw them last."""
        self.driver = driver_of(server)
        self.console: Console = console_of(server, self.driver)
        self.call_off = CallOff()
        self.log = ServerLog(self.driver, self.call_off.handle)
        self.journal = Journal(store, row.number, Listener(events), self.without_secrets)
        self._reader: ValueReader | None = None
        self._secrets: set[str] = set()
        self.ran = bool(row.ran)
        """Whether the server was up when the round began."""
        self.planned = False
        """Whether anybody outside was told that the round is to come."""
        self.down_since: float | None = None
        """When the server was told to stop, in seconds since 1970; None where this process has not done so."""
        self.probes_until = 0.0
        """Until when (monotonic) a server without a ready sign, which this round has started, may take to answer."""
        self.saved_ahead: dict[str, str | None] = {}
        """The digests of files whose copies are durable already."""
        self.operations: list[Waiting] = []
        """What the round brings into force: claimed at its beginning, as it was reviewed."""

    @property
    def has_ready_sign(self) -> bool:
        """Whether the server says that it is ready, and its driver hears that."""
        return bool(self.server.book.server.ready) and self.driver.hears

    @property
    def reader(self) -> ValueReader:
        """What asks the running server for values; it asks a query once, until the server is restarted."""
        if self._reader is None:
            self._reader = ValueReader(self.server, self.console, self.server.read_started())
        return self._reader

    def forget_answers(self) -> None:
        """Ask the server again from now on: it is another process, or has been told something."""
        self._reader = None

    @property
    def folder(self) -> Path:
        """The folder that holds the round's snapshot."""
        return self.server.site.state / "rounds" / str(self.number)

    def claimed(self) -> list[Waiting]:
        """Return what the round brings into force, from the books; nothing where they cannot be read."""
        with contextlib.suppress(sqlite3.Error):
            return self.store.claimed(self.server.name, self.number)
        return []

    @property
    def where_saved(self) -> str:
        """Describe where a person finds what was saved."""
        return f"What was saved is in {self.folder}."

    def make_folder(self) -> Path:
        """Make the round's folder, for this user only."""
        make_private(self.server.site.state / "rounds")
        make_private(self.folder)
        return self.folder

    def look(self) -> Workspace:
        """Look at the server's files as they are now, and learn their secrets. Raises Trouble, BrokenRulebook."""
        # The secrets are learned at every look: an edit made by hand may have brought a new one.
        self.workspace = self.workspace.again()
        self.learn_secrets()
        return self.workspace

    def check_called_off(self, step: Step) -> None:
        """End the round here where it was called off. Raises RoundAborted."""
        if self.call_off.take():
            self.journal.note(step, "called off")
            raise RoundAborted(RoundOutcome.CALLED_OFF, "The round was called off; nothing was changed.")

    def is_failure(self, line: str) -> bool:
        """Return whether the rulebook calls a log line a failure."""
        return is_failure(line, self.server.book.server.failures)

    def evidence(self, most: int = 12) -> list[str]:
        """Return the last lines of the log, without the values of secrets."""
        with contextlib.suppress(Exception):  # whatever the files hold, the log is evidence
            self.look()
        return [self.without_secrets(line) for line in list(self.log.lines)[-most:]]

    def without_secrets(self, line: str) -> str:
        """Space out every secret in a line, old values and new ones: a server may log what it was given."""
        return without(line, self._secrets)

    def learn_secrets(self) -> None:
        """Remember every secret that is on disk or on the slate now; what was one at any time stays one."""
        waiting: list[Waiting] = []
        # Without the books the secrets on disk are known still, and the round must go on to bring the server up.
        with contextlib.suppress(sqlite3.Error):
            waiting = self.store.slate(self.server.name)
        self._secrets |= secrets_of(self.workspace, [entry.operation for entry in waiting])
