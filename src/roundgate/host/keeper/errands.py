"""Short processes that a keeper starts and does not wait for, such as one that tells of a crash."""

from __future__ import annotations

import os
import selectors
import subprocess
from collections.abc import Sequence


class Errands:
    """Starts them, and clears away those that have ended."""

    def __init__(self, selector: selectors.BaseSelector) -> None:
        """Use the keeper's selector, which sees their ends."""
        self._selector = selector
        self.processes: set[int] = set()
        """Those that have not ended yet."""

    def run(self, command: Sequence[str]) -> bool:
        """Start a process in a session of its own; return whether that went well. The selector notices its end."""
        try:
            process = subprocess.Popen(
                command,
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                start_new_session=True,
            )
            ended = os.pidfd_open(process.pid)
        except OSError:  # no handles or no memory: the server comes first
            return False
        self.processes.add(process.pid)
        self._selector.register(ended, selectors.EVENT_READ, lambda: self._clear(process, ended))
        return True

    def _clear(self, process: subprocess.Popen[bytes], ended: int) -> None:
        process.wait()
        self.processes.discard(process.pid)
        self._selector.unregister(ended)
        os.close(ended)
