"""The console on the server's standard input, which the driver holds."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from roundgate.core.next_step import typed_command
from roundgate.core.rulebook.conditions import broken_rules
from roundgate.host.consoles.protocol import ANSWER_WITHIN, FIRST_WITHIN, QUIET, console_line
from roundgate.host.drivers.protocol import Driver
from roundgate.host.errors import NoConsole
from roundgate.host.patterns import search
from roundgate.host.servers import Server

if TYPE_CHECKING:
    from roundgate.host.patterns import Found


class StdinConsole:
    """Lines go in by the driver and come back in the server's log."""

    def __init__(self, server: Server, driver: Driver) -> None:
        """Use the driver's connection."""
        self.server = server
        self.driver = driver

    def send(self, text: str) -> None:
        """See Console. Raises NoConsole where the server does not read its standard input."""
        line = console_line(text)
        self._need_console()
        self.driver.send(line)

    def _need_console(self) -> None:
        needs = self.server.book.server.stdin_needs
        if needs and broken_rules(self.server.read_started().names, {"needs": needs}):
            do = (
                typed_command("explain", self.server.name, needs)
                if needs in self.server.book.setting
                else "Change how it is started."
            )
            raise NoConsole(f"{self.server.name} has no console as it is started now: {needs}.", do)

    def ask(self, text: str, match: str, within: float = ANSWER_WITHIN) -> Found | None:
        """See Console. Raises NoConsole where the console says that it may not do that."""
        self.driver.follow()
        self.send(text)
        refuses = self.server.book.server.stdin_refuses
        until = time.monotonic() + within
        while event := self.driver.next_event(until):
            if event.get("event") != "line":
                continue
            if found := search(match, event["text"]):
                return found
            if refuses and search(refuses, event["text"]):
                raise NoConsole(f"The console of {self.server.name} may not do that: {event['text'].strip()}", "")
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
