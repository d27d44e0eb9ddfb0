"""A console of binary packets on TCP, as many games have it: each with its length, a request number and a type.

A packet is three numbers of four bytes, the least byte first (its length without the length itself, the request's
number, the type), a text that ends in a zero byte, and one more zero byte. A long answer comes in several packets, and
none says that it is the last: an empty request after the command is answered after it, and marks its end.
"""

from __future__ import annotations

import socket
import struct
import time
from typing import NamedTuple

from roundgate.host.consoles.protocol import ANSWER_WITHIN, console_line
from roundgate.host.consoles.remote import AnsweringConsole, left, reason

_LOGIN, _LOGGED_IN, _COMMAND, _ANSWER = 3, 2, 2, 0
_REFUSED = -1
_SHORTEST, _LONGEST = 10, 1 << 20
_MOST = 8 << 20
"""Bytes of one answer, in all its packets."""


class Packet(NamedTuple):
    """One packet."""

    number: int
    type: int
    text: bytes


def packed(packet: Packet) -> bytes:
    """Return a packet as it is sent."""
    body = struct.pack("<ii", packet.number, packet.type) + packet.text + b"\0\0"
    return struct.pack("<i", len(body)) + body


def unpacked(data: bytes) -> tuple[Packet | None, bytes]:
    """Return the first packet of what came, None where it is not whole yet, and the rest.

    Raises ValueError where no packet can begin like that.
    """
    if len(data) < 4:
        return None, data
    (length,) = struct.unpack_from("<i", data)
    # The length comes from the other end: believed as it is, it could ask for two gigabytes.
    if not _SHORTEST <= length <= _LONGEST:
        raise ValueError(f"a packet says that it has {length} bytes")
    if len(data) < 4 + length:
        return None, data
    number, kind = struct.unpack_from("<ii", data, 4)
    return Packet(number, kind, data[12 : 4 + length].rstrip(b"\0")), data[4 + length :]


class PacketConsole(AnsweringConsole):
    """Connects when it is first used."""

    _socket: socket.socket | None = None
    _rest = b""
    _number = 0

    def answer(self, text: str, within: float, *, waits: bool = True) -> str:
        """See AnsweringConsole. Raises ConsoleCut, WrongUsage."""
        line = console_line(text)
        until = time.monotonic() + within
        try:
            self._connect(until)
            return self._exchange(line, until, waits=waits)
        except (OSError, ValueError) as error:
            raise self.cut(reason(error)) from error

    def close(self) -> None:
        """See Console."""
        self._rest = b""
        if self._socket is not None:
            self._socket.close()
            self._socket = None

    def _connect(self, until: float) -> None:
        if self._socket is not None:
            return
        address, port, password = self.place()
        self._socket = socket.create_connection((address, port), min(left(until), ANSWER_WITHIN))
        self._number += 1
        self._post(Packet(self._number, _LOGIN, password.encode()), until)
        while True:  # some servers send an empty answer before the one that counts
            packet = self._next(until)
            if packet.type == _LOGGED_IN and packet.number == _REFUSED:
                raise ValueError("it refused the password")
            if packet.type == _LOGGED_IN and packet.number == self._number:
                return

    def _exchange(self, line: str, until: float, *, waits: bool) -> str:
        command, marker = self._number + 1, self._number + 2
        self._number = marker
        self._post(Packet(command, _COMMAND, line.encode("utf-8", "replace")), until)
        if not waits:
            return ""
        # After the command: servers answer in order, so the answer to this one marks the end.
        self._post(Packet(marker, _ANSWER, b""), until)
        found: list[bytes] = []
        while (packet := self._next(until)).number != marker:
            if packet.number == command:
                found.append(packet.text)
            if sum(map(len, found)) > _MOST:
                raise ValueError("its answer has no end")
        return b"".join(found).decode("utf-8", "replace")

    def _post(self, packet: Packet, until: float) -> None:
        assert self._socket is not None
        self._socket.settimeout(left(until))
        self._socket.sendall(packed(packet))

    def _next(self, until: float) -> Packet:
        assert self._socket is not None
        while True:
            packet, self._rest = unpacked(self._rest)
            if packet is not None:
                return packet
            self._socket.settimeout(left(until))
            data = self._socket.recv(65536)
            if not data:
                raise ValueError("the connection was cut")
            self._rest += data
