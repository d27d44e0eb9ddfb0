"""The console log: what the server said, line by line, in a file that is rotated when it grows."""

from __future__ import annotations

import os

LARGEST = 8 * 1024 * 1024
KEPT = 3


class ConsoleLog:
    """An open log file, readable by this user only."""

    def __init__(self, path: str) -> None:
        """Open for appending."""
        self.path = path
        self._open()

    def _open(self) -> None:
        self.handle = os.open(self.path, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_CLOEXEC, 0o600)
        self.size = os.fstat(self.handle).st_size

    def write(self, line: bytes) -> None:
        """Append one line. A full disk must not stop the server: what cannot be written is lost."""
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
            if os.path.exists(old):
                os.replace(old, f"{self.path}.{number}")
        self._open()
