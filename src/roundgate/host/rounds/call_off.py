"""Calling a round off: SIGUSR1 asks it to end before it writes."""

from __future__ import annotations

import contextlib
import os
import select
import signal
from types import FrameType


class CallOff:
    """Tells whether a round was called off."""

    def __init__(self) -> None:
        """Nobody has called yet."""
        self.handle, self._bell = os.pipe()
        """``handle`` can be read once the round is called off, so that a wait can end at once."""
        for handle in (self.handle, self._bell):
            os.set_blocking(handle, False)

    def listen(self) -> None:
        """From now on SIGUSR1 calls the round off."""

        def ring(_number: int, _frame: FrameType | None) -> None:
            # The pipe is full of rings that nobody has heard yet; one more says nothing new.
            with contextlib.suppress(OSError):
                os.write(self._bell, b"!")

        signal.signal(signal.SIGUSR1, ring)

    def take(self) -> bool:
        """Return whether the round was called off since the last time that somebody asked."""
        if not select.select([self.handle], [], [], 0)[0]:
            return False
        os.read(self.handle, 16)
        return True
