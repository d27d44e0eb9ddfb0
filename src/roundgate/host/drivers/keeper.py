"""The default driver: Round Gate's own keeper holds the server."""

from __future__ import annotations

import contextlib
import time
from collections import deque
from typing import Any

import msgspec

from roundgate.core.next_step import typed_command
from roundgate.host.drivers.keeper_link import KeeperLink, connect, start_keeper
from roundgate.host.drivers.protocol import RunState
from roundgate.host.errors import ConsoleCut, KeeperGone, KeeperSilent, Trouble
from roundgate.host.keeper.config import write_config
from roundgate.host.logs.tail import LogTail
from roundgate.host.patterns import search
from roundgate.host.servers import Server

_PAUSE = 0.05
"""Seconds between two looks at a log file."""
_AT_LEAST = 0.5
"""Seconds that a new keeper is given for an answer, however little is left."""


class KeeperDriver:
    """Talks to the keeper of one server, and starts the keeper when the server is to start."""

    counts_players = True
    kind = "keeper"

    def __init__(self, server: Server) -> None:
        """Connect to nothing yet."""
        self.server = server
        self._link: KeeperLink | None = None
        self._log: LogTail | None = None
        """Where a server writes that has gone into the background: the keeper hears nothing of it."""
        if server.goes_into_background and server.book.server.logs:
            self._log = LogTail(server)
        self._heard: deque[dict[str, Any]] = deque()

    @property
    def hears(self) -> bool:
        """See Driver: it holds the server's output."""
        return True

    def _connected(self) -> KeeperLink:
        if self._link is None:
            self._link = connect(self.server.state)
        return self._link

    def state(self, within: float | None = None) -> RunState:
        """See Driver."""
        try:
            return self._asked_state(within)
        except KeeperSilent:
            raise
        except KeeperGone:  # it died just now: a new one takes its place
            self.close()
            return self._asked_state(within)

    def _asked_state(self, within: float | None) -> RunState:
        try:
            link = self._connected()
        except KeeperSilent:
            raise
        except KeeperGone:
            return RunState()
        answer = link.ask("state") if within is None else link.ask("state", within)
        return msgspec.convert(answer, RunState)

    def post_state(self) -> None:
        """Ask how it stands, and leave the answer for ``posted_state``: so many servers are asked at once."""
        with contextlib.suppress(KeeperGone):
            self._connected().post("state")

    def posted_state(self, until: float) -> RunState:
        """Return the answer. Raises KeeperSilent where none comes until a moment of the monotonic clock."""
        if self._link is None:
            return RunState()
        try:
            return msgspec.convert(self._link.answer(until), RunState)
        except KeeperSilent:
            raise
        except KeeperGone:  # it died just now: a new one takes its place
            self.close()
            return self.state(max(_AT_LEAST, until - time.monotonic()))

    def open(self) -> None:
        """See Driver."""
        try:
            self._connected()
        except KeeperGone:
            write_config(self.server.keeper_config())
            self._link = start_keeper(self.server.state)

    def start(self) -> None:
        """See Driver. Raises Trouble."""
        self.open()
        write_config(self.server.keeper_config())
        self.server.remember_book()
        if self._log is not None:
            self._log.skip()
            self._heard.clear()
        trouble = self._connected().ask("start")
        self._connected().events.clear()  # what was heard of an earlier process says nothing of this one
        if trouble:
            raise Trouble(f"{self.server.name}: {trouble}.", "Correct 'start' in the site file, or the start script.")

    def stop_it(self) -> str:
        """See Driver: it has the rulebook's ways alone."""
        return ""

    def expect_stop(self) -> None:
        """See Driver."""
        self._connected().ask("stopping", how="now")

    def stop_failed(self, *, for_good: bool) -> None:
        """See Driver."""
        self._connected().ask("stopping", how="late" if for_good else "failed")

    def send(self, text: str) -> None:
        """See Driver. Raises ConsoleCut."""
        trouble = self._connected().ask("send", text=text)
        if trouble:
            raise ConsoleCut(f"The console of {self.server.name}: {trouble}.", typed_command("log", self.server.name))

    def signal(self, name: str) -> None:
        """See Driver. Raises Trouble."""
        trouble = self._connected().ask("signal", name=name)
        if trouble:
            raise Trouble(f"{self.server.name}: {trouble}.", "Correct 'signals' in the rulebook.")

    def follow(self) -> None:
        """See Driver."""
        if self._log is not None:
            self._log.skip()
        self._connected().ask("follow")

    def next_event(self, until: float | None, also: int | None = None) -> dict[str, Any] | None:
        """See Driver."""
        if self._log is None:
            return self._connected().next_event(until, also)
        pattern = self.server.book.server.ready
        while True:
            for line in self._log.lines():
                self._heard.append({"event": "line", "text": line})
                if pattern and search(pattern, line):
                    self._heard.append({"event": "ready"})
            if self._heard:
                return self._heard.popleft()
            now = time.monotonic()
            if until is not None and now >= until:
                return None
            pause = now + _PAUSE if until is None else min(until, now + _PAUSE)
            event = self._connected().next_event(pause, also)
            if event and event["event"] == "ready" and pattern:
                continue  # of a PID file that was written: its log says more
            if event or time.monotonic() < pause:  # it happened, or ``also`` has something
                return event

    def pledge(self, round: int) -> None:
        """See Driver."""
        self._connected().ask("pledge", round=round)

    def lease(self, round: int | None, *, up: bool = False) -> None:
        """See Driver."""
        self._connected().ask("lease", round=round, up=up)

    def close(self) -> None:
        """See Driver."""
        if self._link is not None:
            self._link.close()
            self._link = None

    def leave(self) -> None:
        """See Driver."""
        # One that is gone has left.
        with contextlib.suppress(KeeperGone):
            self._connected().ask("leave")
        self.close()
