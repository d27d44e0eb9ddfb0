"""Ending in order whatever ends a command: a closed terminal, a time limit, Ctrl-C."""

from __future__ import annotations

import signal
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType

_ENDS = (signal.SIGTERM, signal.SIGHUP)


@contextmanager
def ended_in_order() -> Iterator[None]:
    """Within the block, a signal that would end the program at once leaves it as an exception does: what was begun is
    undone on the way. Raises SystemExit.

    One that is ignored already, as ``nohup`` does, stays so.
    """
    former = {sign: signal.getsignal(sign) for sign in _ENDS}
    for sign in _ENDS:
        if former[sign] is not signal.SIG_IGN:
            signal.signal(sign, _leave)
    try:
        yield
    finally:
        for sign in _ENDS:
            signal.signal(sign, former[sign])


def _leave(number: int, _frame: FrameType | None) -> None:
    raise SystemExit(128 + number)


@contextmanager
def undisturbed() -> Iterator[None]:
    """Within the block, which clears up, no second signal ends the program; a child that is waited for goes on too."""
    signs = (*_ENDS, signal.SIGINT)
    former = {sign: signal.signal(sign, signal.SIG_IGN) for sign in signs}
    try:
        yield
    finally:
        for sign in signs:
            signal.signal(sign, former[sign])
