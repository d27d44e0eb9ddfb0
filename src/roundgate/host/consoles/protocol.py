"""What every console can do."""

from __future__ import annotations

import re
from typing import Protocol

from roundgate.host.errors import WrongWords

ANSWER_WITHIN = 3.0
"""Seconds to wait for a console's answer."""


class Console(Protocol):
    """A way to a running server."""

    def send(self, text: str) -> None:
        """Send a line. Raises ConsoleCut, or WrongWords where the line could smuggle in a second one."""
        ...

    def ask(self, text: str, match: str) -> re.Match[str] | None:
        """Send a line and wait for a line that fits ``match``; None where none comes in time. Raises as ``send``."""
        ...

    def close(self) -> None:
        """Hang up; a connection left open can cost the next start its console."""
        ...


def one_line(text: str) -> str:
    """Give the text, or raise WrongWords where it holds a line break or a control character."""
    bad = next((char for char in text if char < " " or "\x7f" <= char <= "\x9f" or char in "\u2028\u2029"), None)
    if bad is not None:
        what = "a line break" if bad in "\r\n\u2028\u2029" else f"a control character (U+{ord(bad):04X})"
        raise WrongWords(f"The text holds {what}; it could smuggle in a second command.", "Send one line at a time.")
    return text
