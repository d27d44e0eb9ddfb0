"""Asking a port: the question is sent until an answer comes that fits, or the time is up."""

from __future__ import annotations

import socket
import time
from collections.abc import Callable

from roundgate.core.probes import question_of
from roundgate.core.rulebook.model import Probe
from roundgate.core.values.units import parse_seconds

_AGAIN = 0.5
"""Seconds after which a datagram is sent once more: one may be lost, or come before the server listens."""
_LONGEST = 1 << 20


def reachable(address: str) -> str:
    """Return the address at which this machine reaches a server that listens on ``address``."""
    return "127.0.0.1" if address in ("", "0.0.0.0", "*") else "::1" if address == "::" else address


def ask_port(protocol: str, address: str, port: int, probe: Probe, fits: Callable[[bytes], bool]) -> bytes:
    """Ask a port and give the answer: the first that fits, else the last that came before the time was up.

    On TCP what came so far is the answer. Raises OSError where none comes.
    """
    until = time.monotonic() + float(parse_seconds(probe.within))
    host, question = reachable(address), question_of(probe)
    ask = _ask_datagrams if protocol == "udp" else _ask_stream
    return ask(host, port, question, until, fits)


def _ask_datagrams(host: str, port: int, question: bytes, until: float, fits: Callable[[bytes], bool]) -> bytes:
    last: bytes | None = None
    with socket.socket(socket.AF_INET6 if ":" in host else socket.AF_INET, socket.SOCK_DGRAM) as link:
        link.connect((host, port))
        sent = 0.0
        while (now := time.monotonic()) < until:
            if now - sent >= _AGAIN:
                link.send(question)
                sent = now
            link.settimeout(max(0.01, min(until, sent + _AGAIN) - now))
            try:
                last = link.recv(65536)
            except TimeoutError:
                continue
            if fits(last):
                return last
    if last is None:
        raise TimeoutError("timed out")
    return last


def _ask_stream(host: str, port: int, question: bytes, until: float, fits: Callable[[bytes], bool]) -> bytes:
    answer = b""
    with socket.create_connection((host, port), max(0.01, until - time.monotonic())) as link:
        if question:
            link.sendall(question)
        elif fits(b""):
            return b""
        while (left := until - time.monotonic()) > 0 and len(answer) < _LONGEST:
            link.settimeout(left)
            try:
                data = link.recv(65536)
            except TimeoutError:
                break
            except OSError:  # cut off: what came before is the answer
                if not answer:
                    raise
                break
            answer += data
            if not data or fits(answer):
                return answer
    if not answer:
        raise TimeoutError("timed out")
    return answer
