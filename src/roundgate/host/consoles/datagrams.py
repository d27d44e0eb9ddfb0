"""A console of text packets on UDP: a challenge where the server wants one, then the command with the password."""

from __future__ import annotations

import re
import socket
import time

from roundgate.core.probes import escaped_bytes
from roundgate.host.consoles.protocol import FIRST_WITHIN, QUIET, console_line
from roundgate.host.consoles.remote import AnsweringConsole, left, reason
from roundgate.host.patterns import search

_TRIES = 3
_MOST = 8 << 20
_NAME = re.compile(rb"\{(password|challenge|line)\}")


class DatagramConsole(AnsweringConsole):
    """Each exchange has a socket of its own, so that what comes too late is not an answer to the next one.

    A command is never sent twice, as it may have been carried out and its answer lost; a challenge may be.
    """

    def answer(self, text: str, within: float, *, waits: bool = True) -> str:
        """See AnsweringConsole. Raises ConsoleCut, WrongUsage."""
        line = console_line(text)
        address, port, password = self.place()
        until = time.monotonic() + within
        try:
            with socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, socket.SOCK_DGRAM) as link:
                # Connected, so that the system drops packets from anybody else, who could forge an answer.
                link.connect((address, port))
                challenge = self._challenge(link, until)
                given = {b"password": password.encode(), b"challenge": challenge, b"line": line.encode()}
                packet = escaped_bytes(self.spec.packet)
                link.send(_NAME.sub(lambda name: given[name[1]], packet))
                return self._collected(link, until) if waits else ""
        except (OSError, ValueError) as error:
            raise self.cut(reason(error)) from error

    def _challenge(self, link: socket.socket, until: float) -> bytes:
        if not self.spec.challenge:
            return b""
        for _ in range(_TRIES):
            link.send(escaped_bytes(self.spec.challenge))
            link.settimeout(min(left(until), FIRST_WITHIN))
            try:
                answer = link.recv(65536)
            except TimeoutError:
                continue
            found = search(self.spec.challenged, answer.decode("latin-1"))
            if found:
                return str(found["challenge"]).encode("latin-1")
        raise TimeoutError("no challenge")

    def _collected(self, link: socket.socket, until: float) -> str:
        """Return the packets of one answer, until the server falls quiet; none at all is not an answer."""
        head, found = escaped_bytes(self.spec.answer), list[bytes]()
        link.settimeout(left(until))
        while True:
            try:
                data = link.recv(65536)
            except TimeoutError:
                if found:
                    break
                raise
            # A late packet of another exchange, or a stray one.
            if not data.startswith(head):
                continue
            found.append(data[len(head) :])
            if sum(map(len, found)) > _MOST or time.monotonic() > until:
                break
            link.settimeout(QUIET)
        answer = b"".join(found).decode("utf-8", "replace")
        if self.spec.refused and search(self.spec.refused, answer):
            raise ValueError("it refused the password")
        return answer.replace("\0", "")
