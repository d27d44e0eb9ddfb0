"""What every console can do."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

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


def _is_bad(char: str) -> bool:
    """Tell whether a character may not go to a console: controls, line ends, and halves of characters."""
    return char < " " or "\x7f" <= char <= "\x9f" or char in "\u2028\u2029" or "\ud800" <= char <= "\udfff"


def console_line(text: str) -> str:
    """Give the text, or raise WrongUsage where it holds a line break or a control character."""
    bad = next((char for char in text if _is_bad(char)), None)
    if bad is not None:
        what = "a line break" if bad in "\r\n\u2028\u2029" else f"a control character (U+{ord(bad):04X})"
        raise WrongUsage(f"The text holds {what}; it could smuggle in a second command.", "Send one line at a time.")
    return text
