"""The console on the server's standard input, which the driver holds."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from roundgate.host.consoles.protocol import ANSWER_WITHIN, FIRST_WITHIN, QUIET, console_line
from roundgate.host.drivers.protocol import Driver
from roundgate.host.patterns import search
from roundgate.host.servers import Server

if TYPE_CHECKING:
    from regex import Match


class StdinConsole:
    """Lines go in by the driver and come back in the server's log."""

    def __init__(self, server: Server, driver: Driver) -> None:
        """Use the driver's connection."""
        self.server = server
        self.driver = driver

    def send(self, text: str) -> None:
        """See Console."""
        self.driver.send(console_line(text))

    def ask(self, text: str, match: str) -> Match[str] | None:
        """See Console."""
        self.driver.follow()
        self.send(text)
        until = time.monotonic() + ANSWER_WITHIN
        while event := self.driver.next_event(until):
            found = search(match, event["text"]) if event.get("event") == "line" else None
            if found:
                return found
        return None

    def exchange(self, text: str) -> list[str]:
        """See Console. On this console the answer is in the log, between whatever else the server logs."""
        self.driver.follow()
        self.send(text)
        end = time.monotonic() + ANSWER_WITHIN
        until, lines = time.monotonic() + FIRST_WITHIN, list[str]()
        while event := self.driver.next_event(min(until, end)):
            if event.get("event") == "line":
                lines.append(event["text"])
                until = time.monotonic() + QUIET
        return lines

    def close(self) -> None:
        """See Console: nothing to hang up."""
