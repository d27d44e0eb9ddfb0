"""What every console can do."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

from roundgate.core.unseen import first_unseen
from roundgate.host.errors import WrongUsage

if TYPE_CHECKING:
    from roundgate.host.patterns import Found

ANSWER_WITHIN = 3.0
"""Seconds to wait for a console's answer."""
FIRST_WITHIN = 1.0
"""Seconds to wait for the first line of an answer that may not come at all."""
QUIET = 0.3
"""Seconds without another line after which an answer is taken to be over."""


class Console(Protocol):
    """A way to a running server."""

    def send(self, text: str) -> None:
        """Send a line. Raises ConsoleCut, or WrongUsage where the line could smuggle in a second one."""
        ...

    def ask(self, text: str, match: str, within: float = ANSWER_WITHIN) -> Found | None:
        """Send a line and wait, so many seconds, for a line that fits ``match``; None where none comes.

        Raises as ``send``.
        """
        ...

    def exchange(self, text: str) -> list[str]:
        """Send a line and give the lines that come back until the console falls quiet. Raises as ``send``."""
        ...

    def close(self) -> None:
        """Hang up; a connection left open can cost the next start its console."""
        ...


def console_line(text: str) -> str:
    """Return the text, or raise WrongUsage where it holds a line break, a control character or one that is not seen."""
    bad = first_unseen(text)
    if bad:
        what = "a line break" if bad in "\r\n\u2028\u2029" else f"a character that is not seen (U+{ord(bad):04X})"
        raise WrongUsage(f"The text holds {what}; it could smuggle in a second command.", "Send one line at a time.")
    return text
