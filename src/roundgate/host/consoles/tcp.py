"""A text line console on TCP that asks for a password first."""

from __future__ import annotations

import socket
import time
from typing import TYPE_CHECKING

from roundgate.host.consoles.protocol import ANSWER_WITHIN, FIRST_WITHIN, QUIET, console_line
from roundgate.host.consoles.remote import PortConsole
from roundgate.host.drivers.protocol import Driver
from roundgate.host.patterns import search
from roundgate.host.servers import Server

if TYPE_CHECKING:
    from roundgate.host.patterns import Found

_LONGEST_LINE = 65536


class TcpLineConsole(PortConsole):
    """Connects when it is first used; address, port and password are read from the server's own files."""

    name = "TCP console"

    def __init__(self, server: Server, driver: Driver) -> None:
        """Connect to nothing yet."""
        super().__init__(server, driver)
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

    def ask(self, text: str, match: str, within: float = ANSWER_WITHIN) -> Found | None:
        """See Console."""
        self._rest = b""  # what it said before is not an answer
        self.send(text)
        self._until = time.monotonic() + within
        return self._await(match, skip=console_line(text) if self.spec.echo else "")

    def exchange(self, text: str) -> list[str]:
        """See Console."""
        self._rest = b""
        self.send(text)
        end, self._until = self._until, min(self._until, time.monotonic() + FIRST_WITHIN)
        lines: list[str] = []
        while (data := self._receive()) is not None:
            *whole, self._rest = (self._rest + data).split(b"\n")
            self._rest = self._rest[-_LONGEST_LINE:]
            lines += [self._text(line) for line in whole]
            self._until = min(end, time.monotonic() + QUIET)
        if rest := self._text(self._rest):
            lines.append(rest)
        return lines[1:] if self.spec.echo and lines and lines[0] == console_line(text) else lines

    def _text(self, line: bytes) -> str:
        """Return a line as it is meant: without zero bytes, line ends, and the prompt before it."""
        text = line.decode("utf-8", "replace").replace("\0", "").rstrip("\r")
        prompt = search(self.spec.prompt, text) if self.spec.prompt else None
        return text[prompt.end() :] if prompt and prompt.start() == 0 else text

    def close(self) -> None:
        """See Console."""
        self._rest = b""
        if self._socket is not None:
            self._socket.close()
            self._socket = None

    def _connect(self) -> None:
        if self._socket is not None:
            return
        spec = self.spec
        address, port, password = self.place()
        try:
            self._socket = socket.create_connection((address, port), ANSWER_WITHIN)
        except OSError as error:
            why = getattr(error, "strerror", None) or error
            raise self.cut(f"no answer on {address}:{port} ({why})") from error
        if spec.asks and not self._await(spec.asks, is_prompt=True):
            raise self.cut("it did not ask for the password")
        if spec.password:
            self._write(password)
        answer = self._await(f"(?P<in>{spec.welcome})|(?P<out>{spec.refused or '(?!)'})", is_prompt=True)
        if answer is None or answer["in"] is None:
            raise self.cut("it refused the password" if answer else "it did not let us in")

    def _write(self, line: str) -> None:
        assert self._socket is not None
        try:
            self._socket.settimeout(max(0.1, self._until - time.monotonic()))
            self._socket.sendall(line.encode("utf-8", "replace") + b"\n")
        except OSError as error:
            raise self.cut("the connection was cut") from error

    def _await(self, match: str, *, is_prompt: bool = False, skip: str = "") -> Found | None:
        """Wait for a line that fits, other than the echo ``skip``; None where none comes while the exchange may last.

        A prompt counts without its line's end.
        """
        while True:
            *lines, self._rest = self._rest.split(b"\n")
            for number, line in enumerate(lines):
                text = self._text(line)
                found = search(match, text) if not skip or text != skip else None
                if found:
                    self._rest = b"\n".join((*lines[number + 1 :], self._rest))
                    return found
            if is_prompt and self._rest and (found := search(match, self._text(self._rest))):
                self._rest = b""
                return found
            data = self._receive()
            if data is None:
                return None
            # A peer that never ends its line must not fill the memory.
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
            raise self.cut("the connection was cut") from error
        if not data:
            raise self.cut("the connection was cut")
        return data
