"""Recovery of a round that ended without a message, so that the server is not down until somebody looks.

The recovery runs in a process of its own. Where it fails, on a disk without room, it is tried again with growing
pauses, for as long as it takes.
"""

from __future__ import annotations

import os
import subprocess
import time

PAUSES = (1.0, 2.0, 5.0, 10.0, 20.0, 30.0)
"""Seconds before each new try; the last one counts for all that follow."""
ORPHANED = 3.0
"""Seconds that a new keeper gives a round, which may live, to take hold of the server again."""


class Recovery:
    """The recovery of one round."""

    def __init__(self, command: list[str], round: int, wait: float = 0.0) -> None:
        """Plan a first try in ``wait`` seconds."""
        self.command = command
        self.round = round
        self.tries = 0
        self.due: float | None = time.monotonic() + wait
        self.process: subprocess.Popen[bytes] | None = None
        self.ended: int | None = None
        """A handle that can be read once the try has ended."""
        self.let_go = False
        """Whether the round is closed and the server given back, though the process of the try has not ended yet."""

    def begin(self) -> None:
        """Start a try."""
        self.due = None
        self.tries += 1
        try:
            self.process = subprocess.Popen(
                [*self.command, str(self.round)],
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                # It must outlive the keeper: a recovery cut short is another broken round.
                start_new_session=True,
            )
            self.ended = os.pidfd_open(self.process.pid)
        except OSError:
            self.process = None
            self._plan()

    def end(self) -> bool:
        """Notice the end of a try; return whether the round is closed now."""
        code = self.process.wait() if self.process is not None else 1
        if self.ended is not None:
            os.close(self.ended)
        self.process, self.ended = None, None
        if code == 0:
            return True
        self._plan()
        return False

    def _plan(self) -> None:
        self.due = time.monotonic() + PAUSES[min(self.tries, len(PAUSES)) - 1]
