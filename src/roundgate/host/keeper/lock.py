"""The lock by which one keeper of a server is the keeper, and by which anybody can ask who it is."""

from __future__ import annotations

import fcntl
import os
import struct

_LOCK = "keeper.lock"
_FLOCK = "hhlli"
"""The C structure ``flock``: type, whence, start, length, process."""


def take_lock(state: str) -> int:
    """Take the lock that says that this keeper is the one. Raises OSError where another keeper holds it.

    The system releases it when its holder ends, and names the holder: a deleted socket does not make a keeper dead.
    """
    handle = os.open(os.path.join(state, _LOCK), os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        fcntl.lockf(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        os.close(handle)
        raise
    return handle


def lock_holder(state: str) -> int | None:
    """Return the process of the keeper that holds the lock; None where none does."""
    try:
        handle = os.open(os.path.join(state, _LOCK), os.O_RDONLY | os.O_CLOEXEC)
    except OSError:
        return None
    try:
        asked = struct.pack(_FLOCK, fcntl.F_WRLCK, os.SEEK_SET, 0, 0, 0)
        kind, *_, process = struct.unpack(_FLOCK, fcntl.fcntl(handle, fcntl.F_GETLK, asked))
        return None if kind == fcntl.F_UNLCK else process
    finally:
        os.close(handle)
