"""Running a command that somebody else has named: in a session of its own, limited in its time and its output."""

from __future__ import annotations

import contextlib
import os
import select
import signal
import subprocess
import time
from collections.abc import Mapping, Sequence
from pathlib import Path

from roundgate.host.keeper.account import Account

_LONGEST = 1 << 20
"""Bytes of output that are kept; what comes after them is read and dropped."""


def run_command(
    command: Sequence[str],
    folder: Path,
    within: float,
    account: Account = Account(),  # noqa: B008 - it cannot be changed
    environment: Mapping[str, str] | None = None,
    *,
    is_question: bool = False,
) -> tuple[int, bytes]:
    """Run a command in a folder; return its exit code, and what it printed on both outputs, cut to a megabyte.

    ``account`` is the user that it runs as, ``environment`` all of its variables, else those of this process. Raises
    OSError where it cannot be run, subprocess.TimeoutExpired where it takes longer than ``within`` seconds; it is ended
    then. What a question has started is ended with it in any case; what a start leaves behind may be the server.
    """
    process = subprocess.Popen(
        list(command),
        cwd=folder,
        env=environment,
        user=account.user,
        group=account.group,
        extra_groups=account.groups,
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        # A session of its own: Ctrl-C in our terminal must not end it halfway, and all of it can be ended at once.
        start_new_session=True,
    )
    until = time.monotonic() + within
    try:
        output = _output(process, until)
        return process.wait(max(0.0, until - time.monotonic())), output  # it may have closed its output before its end
    except BaseException:
        process.kill()
        process.wait()
        raise
    finally:
        if is_question:
            _end(process)
        assert process.stdout is not None
        process.stdout.close()


def _end(process: subprocess.Popen[bytes]) -> None:
    # Its group keeps its number as long as any of it is there.
    with contextlib.suppress(ProcessLookupError, PermissionError):
        os.killpg(process.pid, signal.SIGKILL)
    process.wait()


def _output(process: subprocess.Popen[bytes], until: float) -> bytes:
    """Read until the output ends or its process does, for what it leaves behind may hold the output open."""
    assert process.stdout is not None
    kept = bytearray()
    handle, ended = process.stdout.fileno(), os.pidfd_open(process.pid)
    try:
        while True:
            left = until - time.monotonic()
            ready = select.select([handle, ended], [], [], max(0.0, left))[0]
            if not ready:
                raise subprocess.TimeoutExpired(process.args, until)
            data = os.read(handle, 65536) if handle in ready else b""
            kept += data[: _LONGEST - len(kept)]
            # One read empties a pipe; a server that a start leaves behind may write into it for ever.
            if not data or ended in ready:
                return bytes(kept)
    finally:
        os.close(ended)
