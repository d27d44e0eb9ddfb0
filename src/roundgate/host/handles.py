"""Files and folders opened step by step, by handles that follow no link; special files are never waited for.

The keeper uses this too, so it stays small: it imports nothing but the standard library.
"""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress

_READ = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC | os.O_NOCTTY
_WALK = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
# Only to go through: a folder above may be closed to whoever only passes.
_PASS = os.O_PATH | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC


class NotAFile(OSError):
    """It is not a regular file: reading a pipe or a device might never end."""

    def __init__(self, path: str) -> None:
        """Report which path."""
        super().__init__(errno.EINVAL, "it is not a regular file", path)


def step_into(handle: int, name: str) -> int:
    """Open a folder in an open folder. Raises OSError, with ELOOP or ENOTDIR where it is a link."""
    return os.open(name, _WALK, dir_fd=handle)


def open_regular(folder: int, name: str, path: str) -> int:
    """Open a regular file in an open folder for reading; ``path`` is for messages.

    Raises OSError, with ELOOP where it is a link, or NotAFile for a pipe or a device.
    """
    # Without O_NONBLOCK, opening a named pipe waits until somebody writes to it.
    handle = os.open(name, _READ, dir_fd=folder)
    # Looked at once it is open: the name may stand for something else by then.
    if not stat.S_ISREG(os.fstat(handle).st_mode):
        os.close(handle)
        raise NotAFile(path)
    return handle


@contextmanager
def opened_below(top: int, parents: Sequence[str], *, makes: bool = False) -> Iterator[int]:
    """Go down from an open folder and give the last one; ``top`` stays open. ``makes``: folders that are missing too.

    Raises as ``step_into``.
    """
    handle = os.dup(top)
    try:
        for parent in parents:
            if makes:
                with suppress(FileExistsError):
                    os.mkdir(parent, dir_fd=handle)
            below = step_into(handle, parent)
            os.close(handle)
            handle = below
        yield handle
    finally:
        os.close(handle)


def open_real(path: str) -> int:
    """Open a regular file by its real path: a link anywhere in it was put there since it was resolved.

    Raises OSError or NotAFile.
    """
    *parents, name = [part for part in path.split("/") if part]
    handle = os.open("/", _PASS)
    try:
        for parent in parents:
            below = os.open(parent, _PASS, dir_fd=handle)
            os.close(handle)
            handle = below
        return open_regular(handle, name, path)
    finally:
        os.close(handle)
