"""Ctrl-C as something to wait for, while a round is watched.

An exception at any instant could come between the start of a round and the note that it runs, or while a bar is drawn.
"""

from __future__ import annotations

import contextlib
import os
import signal
from types import FrameType, TracebackType


class CtrlC:
    """Within the block, Ctrl-C makes ``handle`` readable and does nothing else."""

    def __init__(self) -> None:
        """Change nothing yet."""
        self.handle, self._bell = os.pipe()
        for handle in (self.handle, self._bell):
            os.set_blocking(handle, False)
        self._before = signal.getsignal(signal.SIGINT)

    def __enter__(self) -> CtrlC:
        """Begin to listen; in the background of a shell, where Ctrl-C is ignored, it stays so."""
        if self._before is not signal.SIG_IGN:
            signal.signal(signal.SIGINT, self._ring)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        """Let Ctrl-C mean what it meant before."""
        signal.signal(signal.SIGINT, self._before)
        os.close(self.handle)
        os.close(self._bell)

    def _ring(self, _number: int, _frame: FrameType | None) -> None:
        with contextlib.suppress(BlockingIOError):
            os.write(self._bell, b"!")

    def fileno(self) -> int:
        """Return the handle."""
        return self.handle

    def ask(self, question: str) -> str:
        """Ask what Ctrl-C should mean; who presses it again, or Ctrl-D, leaves what runs to itself: ``l``."""
        with contextlib.suppress(BlockingIOError):
            os.read(self.handle, 4096)
        signal.signal(signal.SIGINT, signal.default_int_handler)
        try:
            return input(question).strip().lower()
        except (EOFError, KeyboardInterrupt):
            print()
            return "l"
        finally:
            signal.signal(signal.SIGINT, self._ring)
