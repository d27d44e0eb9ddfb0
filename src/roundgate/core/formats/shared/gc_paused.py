"""The garbage collector, kept from walking over millions of new values again and again while a reader makes them."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def gc_paused() -> Iterator[None]:
    """Leave the collector off for a while: a reader's trees hold no circles, so it would find nothing."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()
