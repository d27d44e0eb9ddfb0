"""A terminal of its own for a server that wants one: a small process between the keeper's pipes and the server.

The keeper starts this in the server's place. It outlives the keeper, passes on lines, output and signals, and ends as
the server ended. Of what a program writes to a terminal only the text is passed on: a jump of the cursor to another
line becomes the end of a line, and colours are left out.
"""

from __future__ import annotations

import contextlib
import ctypes
import fcntl
import os
import pty
import re
import select
import signal
import struct
import sys
import termios

_ROWS, _COLUMNS = 50, 400
_PASSED_ON = ("SIGTERM", "SIGINT", "SIGHUP", "SIGQUIT", "SIGUSR1", "SIGUSR2")
_DIES_WITH_PARENT = 1
_SEQUENCE = re.compile(
    rb"\x1b(?:\[[0-?]*[ -/]*(?P<end>[@-~])|\][^\x07\x1b]*(?:\x07|\x1b\\)|[()*+][0-9A-Za-z]|[=>78cDEHMZ])"
)
_BEGUN = re.compile(rb"\x1b(?:\[[0-?]*[ -/]*|\][^\x07\x1b]*\x1b?|[()*+]?)?\Z")
_TO_ANOTHER_LINE = b"HfdABEF"
_LONGEST_SEQUENCE = 4096


class Plain:
    """Makes lines of text of what a program writes to a terminal."""

    def __init__(self) -> None:
        """Begin at the start of a line."""
        self._rest = b""

    def text(self, data: bytes) -> bytes:
        """Return the text in the next bytes; what may be the beginning of a sequence waits for more."""
        data = self._rest + data
        begun = _BEGUN.search(data)
        cut = begun.start() if begun and len(data) - begun.start() < _LONGEST_SEQUENCE else len(data)
        self._rest = data[cut:]
        moved = _SEQUENCE.sub(
            lambda match: b"\n" if match["end"] and match["end"] in _TO_ANOTHER_LINE else b"", data[:cut]
        )
        return re.sub(rb"\n[ \n]*\n", b"\n", moved.replace(b"\r\n", b"\n").replace(b"\r", b"\n").replace(b"\x0f", b""))


def run(command: list[str]) -> int:
    """Run a command in a terminal until it ends; return its exit code, negative for a signal."""
    child, master = pty.fork()
    if child == 0:
        # Should the keeper's side die, a server without a terminal would go on unseen; without the call it still runs.
        with contextlib.suppress(OSError):
            ctypes.CDLL(None).prctl(_DIES_WITH_PARENT, signal.SIGKILL)
        # A service has no TERM, and a program that draws on its terminal ends without one.
        os.environ.setdefault("TERM", "xterm")
        with contextlib.suppress(OSError):
            os.execvp(command[0], command)
        print(f"{command[0]}: it cannot be started", file=sys.stderr)
        os._exit(127)
    _prepare(master)
    for name in _PASSED_ON:
        signal.signal(getattr(signal, name), lambda number, _: _pass_on(child, number))
    _pump(master)
    _, status = os.waitpid(child, 0)
    return os.waitstatus_to_exitcode(status)


def _prepare(master: int) -> None:
    """Give the terminal a size, and switch its echo off: what is sent is not an answer."""
    fcntl.ioctl(master, termios.TIOCSWINSZ, struct.pack("HHHH", _ROWS, _COLUMNS, 0, 0))
    modes = termios.tcgetattr(master)
    modes[3] &= ~(termios.ECHO | termios.ECHONL)
    termios.tcsetattr(master, termios.TCSANOW, modes)


def _pass_on(child: int, number: int) -> None:
    with contextlib.suppress(ProcessLookupError, PermissionError):
        os.killpg(child, number)


def _pump(master: int) -> None:
    """Carry lines to the terminal and text from it, until the server has closed it."""
    plain, sources = Plain(), [0, master]
    while True:
        able, _, _ = select.select(sources, [], [])
        if 0 in able:
            data = os.read(0, 65536)
            if data:
                os.write(master, data)
            else:
                sources.remove(0)
        if master in able:
            try:
                data = os.read(master, 65536)
            except OSError:  # the last of its processes has closed the terminal
                return
            if not data:
                return
            _write(plain.text(data))


def _write(data: bytes) -> None:
    while data:
        try:
            data = data[os.write(1, data) :]
        except BlockingIOError:
            select.select([], [1], [])


def main(arguments: list[str]) -> int:
    """Run the arguments after the first as a command; end as it ends."""
    code = run(arguments[1:])
    if code < 0:
        signal.signal(-code, signal.SIG_DFL)
        os.kill(os.getpid(), -code)
    return code


if __name__ == "__main__":
    sys.exit(main(sys.argv))
