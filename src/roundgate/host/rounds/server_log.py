"""What a round hears of its server: the lines of its log, and its end."""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence
from typing import Any

from roundgate.host.drivers.protocol import Driver, describe_exit
from roundgate.host.patterns import search

_LINES_KEPT = 400


class ServerLog:
    """The server's output since it was started last."""

    def __init__(self, driver: Driver, stop_waiting: int) -> None:
        """Hear nothing yet; a wait that may be called off ends when the handle ``stop_waiting`` can be read."""
        self._driver = driver
        self._stop_waiting = stop_waiting
        self.lines: deque[str] = deque(maxlen=_LINES_KEPT)
        self.exited = False
        self.exit_code: int | None = None
        """The exit code of the server's last end; None where it is not known."""
        self._left: Sequence[str] = ()

    def restart(self) -> None:
        """Forget what was heard: the server starts again."""
        self.lines.clear()
        self.exited = False

    def hear(self, until: float | None, *, may_be_called_off: bool = False) -> dict[str, Any] | None:
        """Wait for the server's next line or its end; keep its lines. None when the time (monotonic) is up."""
        event = self._driver.next_event(until, self._stop_waiting if may_be_called_off else None)
        if event and event["event"] == "line":
            self.lines.append(str(event["text"]))
        if event and event["event"] == "exit":
            self.exited, self.exit_code = True, event["code"]
            self._left = event.get("left") or ()  # a keeper of an earlier version does not tell
        return event

    def describe_end(self, server: str) -> str:
        """Describe how the server ended, to be put after "it ended before it was ready"."""
        how = describe_exit(self.exit_code)
        if not self._left:
            return how
        left = ", ".join(self._left)
        do = f"have it stay in the foreground, or name its PID file as 'pidfile' in [server.{server}] of the site file"
        return f"{how}, and left {left} in the background, which was ended now; {do}"


def is_failure(line: str, patterns: Sequence[str]) -> bool:
    """Return whether the rulebook calls a log line a failure."""
    return any(search(pattern, line) for pattern in patterns)
