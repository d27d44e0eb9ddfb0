"""The two pipes between a server and its keeper: named ones, so that they outlive the keeper.

The server holds both ends of each. So its output always has a reader and its console never ends, whatever becomes of
the keeper, and a new keeper opens the same pipes by their names.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
from typing import NamedTuple

_INPUT, _OUTPUT = "console.in", "console.out"
_ROOM = 1024 * 1024
"""Bytes of output that wait for a new keeper before the server has to wait."""


class Pipes(NamedTuple):
    """Handles: the keeper's ends, and those that the server inherits. -1 where there is none."""

    to_server: int
    from_server: int
    server_input: int
    server_output: int

    def close_servers_ends(self) -> None:
        """Close what only the server needs."""
        os.close(self.server_input)
        os.close(self.server_output)


def make_pipes(state: str) -> Pipes:
    """Recreate the pipes. Where no name can be made, on a full disk, they are nameless. Raises OSError."""
    opened: list[int] = []
    server_input = _named(os.path.join(state, _INPUT))
    server_output = _named(os.path.join(state, _OUTPUT))
    try:
        for end, mode in ((server_input, os.O_WRONLY), (server_output, os.O_RDONLY)):
            opened.append(os.open(f"/proc/self/fd/{end}", mode | os.O_NONBLOCK | os.O_CLOEXEC))
    except OSError:
        for handle in (*opened, server_input, server_output):
            os.close(handle)
        raise
    _widen(server_output)
    return Pipes(opened[0], opened[1], server_input, server_output)


def _named(path: str) -> int:
    try:
        # A pipe of an earlier run may still be open in a process that it left behind.
        with contextlib.suppress(FileNotFoundError):
            os.unlink(path)
        os.mkfifo(path, 0o600)
        # For reading and writing: with one end alone, opening waits for the other, and the server would see the end of
        # its input when a keeper dies.
        return os.open(path, os.O_RDWR | os.O_CLOEXEC)
    except OSError:
        return _nameless()


def _nameless() -> int:
    read, write = os.pipe()
    try:
        return os.open(f"/proc/self/fd/{write}", os.O_RDWR | os.O_CLOEXEC)
    finally:
        os.close(read)
        os.close(write)


def _widen(handle: int) -> None:
    # A user may have only so much room in pipes; the kernel's usual size works too.
    with contextlib.suppress(OSError):
        fcntl.fcntl(handle, fcntl.F_SETPIPE_SZ, _ROOM)


def reopen_pipes(state: str, process: int) -> Pipes:
    """Open the pipes of a server that runs already, by their names or through its process; -1 for what cannot be."""
    ends = ((_INPUT, 0, os.O_WRONLY), (_OUTPUT, 1, os.O_RDONLY))
    to_server, from_server = (
        _first_pipe((os.path.join(state, name), f"/proc/{process}/fd/{number}"), mode) for name, number, mode in ends
    )
    return Pipes(to_server, from_server, -1, -1)


def _first_pipe(paths: tuple[str, ...], mode: int) -> int:
    import stat

    for path in paths:
        try:
            if stat.S_ISFIFO(os.stat(path).st_mode):
                return os.open(path, mode | os.O_NONBLOCK | os.O_CLOEXEC)
        except OSError:
            continue
    return -1


def process_on_pipes(state: str) -> int | None:
    """Find the server that reads from the pipe of a state folder: one whose keeper died before it could note it down.

    The server begins a session of its own; what it starts in turn does not count.
    """
    wanted = os.path.join(os.path.realpath(state), _INPUT)
    for name in os.listdir("/proc"):
        if name.isdigit():
            # Processes end while they are looked at, and those of other users are not shown.
            with contextlib.suppress(OSError):
                if os.readlink(f"/proc/{name}/fd/0") == wanted and os.getsid(int(name)) == int(name):
                    return int(name)
    return None
