"""A text line console on TCP that asks for a password first."""

from __future__ import annotations

import socket
import time
from typing import TYPE_CHECKING

from roundgate.host.consoles.protocol import ANSWER_WITHIN, FIRST_WITHIN, QUIET, console_line
from roundgate.host.drivers.protocol import Driver
from roundgate.host.errors import ConsoleCut, Trouble
from roundgate.host.patterns import search
from roundgate.host.servers import Server, stored_value

if TYPE_CHECKING:
    from regex import Match

_LONGEST_LINE = 65536


class TcpLineConsole:
    """Connects when it is first used; address, port and password are read from the server's own files."""

    def __init__(self, server: Server, driver: Driver) -> None:
        """Connect to nothing yet."""
        self.server = server
        self.driver = driver
        self._socket: socket.socket | None = None
        self._rest = b""
        self._until = 0.0
        """When the exchange under way must be over (monotonic): a console may talk without end."""

    def send(self, text: str) -> None:
        """See Console."""
        line = console_line(text)
        self._until = time.monotonic() + ANSWER_WITHIN
        self._connect()
        self._write(line)

    def ask(self, text: str, match: str) -> Match[str] | None:
        """See Console."""
        self._rest = b""  # what it said before is no answer
        self.send(text)
        return self._await(match)

    def exchange(self, text: str) -> list[str]:
        """See Console."""
        self._rest = b""
        self.send(text)
        end, self._until = self._until, min(self._until, time.monotonic() + FIRST_WITHIN)
        lines: list[str] = []
        while (data := self._receive()) is not None:
            *whole, self._rest = (self._rest + data).split(b"\n")
            self._rest = self._rest[-_LONGEST_LINE:]
            lines += [line.decode("utf-8", "replace").rstrip("\r") for line in whole]
            self._until = min(end, time.monotonic() + QUIET)
        if self._rest:
            lines.append(self._rest.decode("utf-8", "replace"))
        return lines

    def close(self) -> None:
        """See Console."""
        self._rest = b""
        if self._socket is not None:
            self._socket.close()
            self._socket = None

    def _cut(self, why: str) -> ConsoleCut:
        self.close()
        return ConsoleCut(f"The TCP console of {self.server.name}: {why}.", f"roundgate log {self.server.name}")

    def _connect(self) -> None:
        if self._socket is not None:
            return
        spec = self.server.book.server.console
        if spec is None:
            raise Trouble("The rulebook knows no TCP console.", 'Write console = "stdin" in the site file.')
        files = self.server.read_started()
        address = stored_value(self.server, files, spec.address) if spec.address else "127.0.0.1"
        port = stored_value(self.server, files, spec.port)
        try:
            self._socket = socket.create_connection((address, int(port)), ANSWER_WITHIN)
        except (OSError, ValueError, OverflowError) as error:
            why = getattr(error, "strerror", None) or error
            raise self._cut(f"no answer on {address}:{port} ({why})") from error
        if spec.asks and not self._await(spec.asks):
            raise self._cut("it did not ask for the password")
        self._write(stored_value(self.server, files, spec.password))
        answer = self._await(f"(?P<in>{spec.welcome})|(?P<out>{spec.refused or '(?!)'})")
        if answer is None or answer["in"] is None:
            raise self._cut("it refused the password" if answer else "it did not let us in")

    def _write(self, line: str) -> None:
        assert self._socket is not None
        try:
            self._socket.settimeout(max(0.1, self._until - time.monotonic()))
            self._socket.sendall(line.encode("utf-8", "replace") + b"\n")
        except OSError as error:
            raise self._cut("the connection was cut") from error

    def _await(self, match: str) -> Match[str] | None:
        """Wait for a line that fits; None where none comes while the exchange may last."""
        while True:
            *lines, self._rest = self._rest.split(b"\n")
            for number, line in enumerate(lines):
                found = search(match, line.decode("utf-8", "replace").rstrip("\r"))
                if found:
                    self._rest = b"\n".join((*lines[number + 1 :], self._rest))
                    return found
            data = self._receive()
            if data is None:
                return None
            self._rest = (self._rest + data)[-_LONGEST_LINE:] if b"\n" not in data else self._rest + data

    def _receive(self) -> bytes | None:
        assert self._socket is not None
        left = self._until - time.monotonic()
        if left <= 0:
            return None
        try:
            self._socket.settimeout(left)
            data = self._socket.recv(65536)
        except TimeoutError:
            return None
        except OSError as error:
            raise self._cut("the connection was cut") from error
        if not data:
            raise self._cut("the connection was cut")
        return data
