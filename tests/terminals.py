"""A pseudo-terminal for a test: a program runs in it, a test types, and the screen tells what a person would see."""

from __future__ import annotations

import fcntl
import os
import pty
import re
import select
import signal
import struct
import subprocess
import termios
import time
from pathlib import Path
from types import TracebackType

import pyte

WITHIN = 40.0
"""Seconds until a program must have shown what is waited for."""
_COLOURS = re.compile(r"\x1b\[[0-9;]*m")


class Terminal:
    """A program in a pseudo-terminal of its own. Used with ``with``, it leaves no process behind, whatever happens.

    A program paints only what has changed: a word may come in pieces with control sequences in between. So what is
    waited for is looked up on a screen that follows those sequences, never in the bytes.
    """

    def __init__(self, words: list[str], folder: Path, columns: int = 200, **environment: str) -> None:
        self.main, other = pty.openpty()
        fcntl.ioctl(other, termios.TIOCSWINSZ, struct.pack("HHHH", 60, columns, 0, 0))
        self.process = subprocess.Popen(
            words, cwd=folder, stdin=other, stdout=other, stderr=other, start_new_session=True,
            env={**os.environ, "TERM": "xterm-256color", "PROMPT_TOOLKIT_NO_CPR": "1", **environment},
        )  # fmt: skip
        os.close(other)
        self.heard = b""
        """Every byte that the program has sent so far."""
        self._screen = pyte.Screen(columns, 60)
        self._stream = pyte.ByteStream(self._screen)

    def __enter__(self) -> Terminal:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self.process.poll() is None:
            os.killpg(self.process.pid, signal.SIGKILL)
        self.process.wait(30)
        os.close(self.main)

    @property
    def text(self) -> str:
        """Everything that was sent so far, without colours."""
        return _COLOURS.sub("", self.heard.decode("utf-8", "replace"))

    @property
    def screen(self) -> str:
        """What a person sees now."""
        return "\n".join(self._screen.display)

    @property
    def line(self) -> str:
        """The line with the cursor, as a person sees it."""
        return self._screen.display[self._screen.cursor.y]

    def type(self, keys: str) -> None:
        """Press keys."""
        os.write(self.main, keys.encode())

    def until(self, words: str, at_cursor: bool = False) -> None:
        """Wait until words are on the screen, or in the line with the cursor."""
        end = time.monotonic() + WITHIN
        while words not in (self.line if at_cursor else self.screen):
            assert self._read(end - time.monotonic()), f"{words!r} is not on the screen:\n{self.screen}"

    def end(self) -> int:
        """Read until the program closes the terminal; return its exit code."""
        end = time.monotonic() + 2 * WITHIN
        while self._read(end - time.monotonic()):
            pass
        return self.process.wait(30)

    def _read(self, seconds: float) -> bool:
        """Read what has come, waiting for it so long; return whether there was something."""
        if not select.select([self.main], [], [], max(0.0, seconds))[0]:
            return False
        try:
            piece = os.read(self.main, 65536)
        except OSError:  # how a terminal ends when the last process that has it open is gone
            return False
        self.heard += piece
        self._stream.feed(piece)
        return bool(piece)
