"""The console log: what the server said, line by line, in a file that is rotated when it grows."""

from __future__ import annotations

import contextlib
import os

LARGEST = 8 * 1024 * 1024
KEPT = 3


class ConsoleLog:
    """A log file, readable by this user only. Nothing that the disk does may end the keeper: what cannot be written
    is lost, and the file is opened again as soon as that can be done."""

    def __init__(self, path: str) -> None:
        """Open for appending."""
        self.path = path
        self.handle = -1
        self._open()

    def _open(self) -> None:
        try:
            self.handle = os.open(self.path, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_CLOEXEC, 0o600)
            self.size = os.fstat(self.handle).st_size
        except OSError:
            self.handle = -1

    def write(self, line: bytes) -> None:
        """Append one line."""
        if self.handle < 0:
            self._open()
        if self.handle < 0:
            return
        try:
            self.size += os.write(self.handle, line + b"\n")
        except OSError:
            return
        if self.size > LARGEST:
            self._rotate()

    def _rotate(self) -> None:
        os.close(self.handle)
        for number in range(KEPT, 0, -1):
            old = self.path if number == 1 else f"{self.path}.{number - 1}"
            # An older log that cannot be moved is written over: the server's output must go somewhere.
            with contextlib.suppress(OSError):
                os.replace(old, f"{self.path}.{number}")
        self._open()
