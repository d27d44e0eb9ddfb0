"""What comes into a server's newest log, whatever rotation makes of it."""

from __future__ import annotations

import contextlib
import os
from typing import BinaryIO

from roundgate.host.errors import Trouble
from roundgate.host.logs.ends import PACKED
from roundgate.host.patterns import search
from roundgate.host.servers import Server

_LONGEST_LINE = 64 * 1024
_LOOKED_BACK = 512
"""Bytes by which a log is known again."""


def _before(file: BinaryIO, at: int) -> bytes:
    """Return the bytes of a file before a place; fewer where the file is shorter."""
    start = max(0, at - _LOOKED_BACK)
    file.seek(start)
    return file.read(at - start)


def newest_log(server: Server) -> str | None:
    """Return the log that the server writes now, from its folder; None where there is none."""
    folder = server.files_folder
    found: dict[str, int] = {}
    for pattern in server.book.server.logs:
        for path in folder.matching(pattern):
            if not path.endswith(PACKED):
                with contextlib.suppress(OSError, Trouble):  # it was rotated away just now
                    found[path] = folder.stat(path).st_mtime_ns
    return max(found, key=lambda path: found[path], default=None)


class LogTail:
    """The newest of a server's logs, read from where it was; one that takes its place is read from its start."""

    def __init__(self, server: Server) -> None:
        """Read nothing yet."""
        self.server = server
        self.path: str | None = None
        self.inode = 0
        self.at = 0
        self.rest = b""
        self.seen = b""
        """The bytes before ``at``, as they were read."""

    def skip(self) -> None:
        """Go to the end of what there is."""
        self.path, self.rest = newest_log(self.server), b""
        if self.path is not None:
            with self.server.files_folder.open(self.path) as file:
                self.inode, self.at = os.fstat(file.fileno()).st_ino, file.seek(0, os.SEEK_END)
                self.seen = _before(file, self.at)

    def lines(self) -> list[str]:
        """Return the lines that have come since."""
        path = newest_log(self.server)
        if path is None:
            return []
        try:
            with self.server.files_folder.open(path) as file:
                found = os.fstat(file.fileno())
                is_same = path == self.path and found.st_ino == self.inode and _before(file, self.at) == self.seen
                if not is_same:  # another file, or one that was started over and may be as long as before
                    self.path, self.inode, self.at, self.rest = path, found.st_ino, 0, b""
                # A log that was rotated in place has the same inode and may have the same length: its last bytes tell.
                file.seek(self.at)
                data = file.read()
                self.seen = _before(file, self.at + len(data))
        except (OSError, Trouble):
            return []
        self.at += len(data)
        *lines, self.rest = (self.rest + data).split(b"\n")
        if len(self.rest) > _LONGEST_LINE:
            lines, self.rest = [*lines, self.rest], b""
        return [self._bare(line.rstrip(b"\r").decode("utf-8", "replace")) for line in lines]

    def _bare(self, line: str) -> str:
        """Return a line without what the log has before what the console shows."""
        pattern = self.server.book.server.log_prefix
        found = search(pattern, line) if pattern else None
        return line[found.end() :] if found and found.start() == 0 else line

    def close(self) -> None:
        """Nothing is held open."""
