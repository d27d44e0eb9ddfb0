"""What a probe sends, and whether an answer is the one: bytes from text with escapes or from hex, and the way back."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from roundgate.core.patterns import lazy
from roundgate.core.rulebook.model import Live, Probe

_ESCAPE = lazy(r"\\(?:x(?P<hex>[0-9a-fA-F]{2})|(?P<sign>.))", re.DOTALL)
_SIGNS = {"n": b"\n", "r": b"\r", "t": b"\t", "0": b"\0", "\\": b"\\"}


def escaped_bytes(text: str) -> bytes:
    r"""Return the bytes of a text in which ``\x00``, ``\n``, ``\r``, ``\t``, ``\0`` and ``\\`` stand for one byte each.

    Raises ValueError for any other escape.
    """
    found, at = b"", 0
    for escape in _ESCAPE.finditer(text):
        found += text[at : escape.start()].encode()
        at = escape.end()
        if escape["hex"]:
            found += bytes.fromhex(escape["hex"])
        elif escape["sign"] in _SIGNS:
            found += _SIGNS[escape["sign"]]
        else:
            raise ValueError(f"'{escape[0]}' is not an escape; a backslash itself is written \\\\")
    return found + text[at:].encode()


def question_of(probe: Probe) -> bytes:
    """Return the bytes that a probe sends. Raises ValueError where they are not written rightly."""
    if probe.hex:
        return _from_hex(probe.hex).ljust(probe.pad, b"\0")
    text = escaped_bytes(probe.send) + (escaped_bytes(probe.line_end) if probe.send else b"")
    return text.ljust(probe.pad, b"\0")


def _from_hex(digits: str) -> bytes:
    try:
        return bytes.fromhex(digits)
    except ValueError as error:
        raise ValueError(f"'{digits}' is not a row of bytes in hex") from error


def texts_of(answer: bytes) -> list[str]:
    """Return an answer as the texts that a pattern may match: as UTF-8 where it is that, and a letter for each byte."""
    plain = answer.decode("latin-1")
    try:
        return [answer.decode("utf-8"), plain]
    except UnicodeDecodeError:
        return [plain]


def is_answer(probe: Probe, answer: bytes, search: Callable[[str, str], object]) -> bool:
    """Return whether an answer is the one that shows the server. ``search`` looks for a pattern in a text."""
    if len(answer) < probe.least or not answer.startswith(_from_hex(probe.starts)):
        return False
    return not probe.match or any(search(probe.match, text) for text in texts_of(answer))


def value_in(live: Live, answer: bytes, search: Callable[[str, str], Any]) -> str | None:
    """Return the value of a setting in the answer of its query, None where it is not there."""
    if live.bytes is not None:
        start, count = live.bytes
        part = answer[start : start + count]
        if len(part) < count:
            return None
        if live.order == "text":
            return part.rstrip(b"\0").decode("utf-8", "replace")
        return str(int.from_bytes(part, live.order))
    # Line by line, as at a console: there too, ``^`` is the beginning of a line.
    lines = (line.rstrip("\r") for text in texts_of(answer) for line in text.split("\n"))
    return next((str(found["value"]) for line in lines if (found := search(live.match, line))), None)
