"""What a server's processes leave behind when they end: it becomes the keeper's, not the machine's first process.

A program that puts itself into the background starts a copy and ends. Without this nobody could tell whose the copy is;
with it the copy is a child of the keeper, which can wait for it and end it. Source: prctl(2), PR_SET_CHILD_SUBREAPER.
"""

from __future__ import annotations

import contextlib
import os
import select
import signal
import time
from collections.abc import Collection

from roundgate.host.handles import open_real

_BE_HEIR = 36
_LONGEST_NUMBER = 32


def become_heir() -> None:
    """Have the kernel give this process what its descendants leave behind."""
    import ctypes

    # Where the kernel does not know it, a server that forks is not found, which its start then says.
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(_BE_HEIR, 1, 0, 0, 0)


def inherited(known: Collection[int]) -> list[int]:
    """Return this process's children besides those that it has started itself and waits for."""
    return [process for process in _children(os.getpid()) if process not in known]


def _children(process: int) -> list[int]:
    found: list[int] = []
    with contextlib.suppress(OSError):
        for thread in os.listdir(f"/proc/{process}/task"):
            with open(f"/proc/{process}/task/{thread}/children", encoding="ascii") as file:
                found += map(int, file.read().split())
    return found


def bury(known: Collection[int]) -> None:
    """Take leave of inherited processes that have ended; nobody else waits for them."""
    for process in inherited(known):
        with contextlib.suppress(ChildProcessError):
            os.waitpid(process, os.WNOHANG)


def parent_of(process: int) -> int:
    """Return the parent of a process; 0 where it does not live."""
    try:
        with open(f"/proc/{process}/stat", "rb") as file:
            fields = file.read().rpartition(b")")[2].split()
    except OSError:
        return 0
    return 0 if fields[0] in (b"Z", b"X") else int(fields[1])


def descendants(process: int) -> list[int]:
    """Return all that a process has started, and what that has started in turn, while their parents live."""
    found = _children(process)
    return found + [below for child in found for below in descendants(child)]


def read_pidfile(path: str) -> int | None:
    """Return the process that a PID file names, where it descends from this one; None otherwise.

    Any number may be in it, as the server's user can write there: only what is ours may be signalled in our name.
    """
    try:
        with open(open_real(path), "rb") as file:
            digits = file.read(_LONGEST_NUMBER).strip()
    except OSError:
        return None
    process = int(digits) if digits.isdigit() else 0
    above = parent_of(process)
    while above > 1 and above != os.getpid():
        above = parent_of(above)
    return process if above == os.getpid() else None


def end_all(processes: Collection[int], within: float) -> None:
    """End inherited processes and their groups; those that do not hear it are killed after so many seconds."""
    handles = []
    for process in processes:
        with contextlib.suppress(OSError):
            handles.append((os.pidfd_open(process), process))
    for sign in (signal.SIGTERM, signal.SIGKILL):
        until = time.monotonic() + within
        for handle, process in handles:
            with contextlib.suppress(OSError):
                if not select.select([handle], [], [], 0)[0]:  # its number is still its own
                    _signal_group(process, sign)
        for handle, _ in handles:
            select.select([handle], [], [], max(0.0, until - time.monotonic()))
    for handle, _ in handles:
        os.close(handle)


def _signal_group(process: int, sign: signal.Signals) -> None:
    group = os.getpgid(process)
    if group == os.getpgrp():
        os.kill(process, sign)
    else:
        os.killpg(group, sign)


def name_of(process: int) -> str:
    """Name a process for a person: its number and its command."""
    try:
        with open(f"/proc/{process}/comm", encoding="utf-8", errors="replace") as file:
            return f"process {process} ({file.read().strip()})"
    except OSError:
        return f"process {process}"
