"""What the consoles on a port have in common: where they are, the password, and the time that an exchange may take."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from roundgate.core.next_step import typed_command
from roundgate.core.rulebook.model import RemoteConsole
from roundgate.host.consoles.protocol import ANSWER_WITHIN
from roundgate.host.drivers.protocol import Driver
from roundgate.host.errors import ConsoleCut, Trouble
from roundgate.host.patterns import search
from roundgate.host.rented.ports import address_of
from roundgate.host.servers import Server, stored_value

if TYPE_CHECKING:
    from roundgate.host.patterns import Found


class PortConsole:
    """A console on a port: where it is, and how its connection ends."""

    name = "console"

    def __init__(self, server: Server, driver: Driver) -> None:
        """Connect to nothing yet."""
        self.server = server
        self.driver = driver

    def close(self) -> None:
        """See Console: nothing to hang up."""

    @property
    def spec(self) -> RemoteConsole:
        """What the rulebook says of the console. Raises Trouble."""
        spec = self.server.book.server.console
        if spec is None:
            raise Trouble("The rulebook has no console on a port.", 'Write console = "stdin" in the site file.')
        return spec

    def place(self) -> tuple[str, int, str]:
        """Return address, port and password as the running server read them. Raises ConsoleCut."""
        files, spec = self.server.read_started(), self.spec
        address = stored_value(self.server, files, spec.address) if spec.address else "127.0.0.1"
        if self.server.mirror is not None:  # what its file names is an address of that machine, seen from itself
            address = address_of(self.server.entry)
        port = stored_value(self.server, files, spec.port)
        if not (port.isascii() and port.isdigit() and 0 < int(port) < 65536):
            raise self.cut(f"its port is '{port}'")
        password = stored_value(self.server, files, spec.password) if spec.password else ""
        return address or "127.0.0.1", int(port), password

    def cut(self, why: str) -> ConsoleCut:
        """Hang up, and return what to raise."""
        self.close()
        return ConsoleCut(f"The {self.name} of {self.server.name}: {why}.", typed_command("log", self.server.name))


class AnsweringConsole(PortConsole):
    """A console whose answers are whole texts, each to one line that was sent."""

    def answer(self, text: str, within: float, *, waits: bool = True) -> str:
        """Send a line and give the text of its answer; an empty one where nobody waits for it.

        Raises ConsoleCut, WrongUsage.
        """
        raise NotImplementedError

    def send(self, text: str) -> None:
        """See Console. No answer is waited for: a server that is told to stop may give none."""
        self.answer(text, ANSWER_WITHIN, waits=False)

    def ask(self, text: str, match: str, within: float = ANSWER_WITHIN) -> Found | None:
        """See Console."""
        lines = self.answer(text, within).splitlines()
        return next((found for line in lines if (found := search(match, line))), None)

    def exchange(self, text: str) -> list[str]:
        """See Console."""
        return self.answer(text, ANSWER_WITHIN).splitlines()


def left(until: float) -> float:
    """Return the seconds until a moment of the monotonic clock. Raises TimeoutError where it has passed."""
    seconds = until - time.monotonic()
    if seconds <= 0:
        raise TimeoutError("it did not answer in time")
    return seconds


def reason(error: Exception) -> str:
    """Describe why an exchange came to nothing."""
    if isinstance(error, TimeoutError):
        return "it did not answer in time"
    return str(getattr(error, "strerror", None) or error)
