"""A round's journal: each step written down before it is taken and after it is done, and told to the terminal."""

from __future__ import annotations

import contextlib
import os
import sqlite3
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from msgspec import json
from msgspec.structs import asdict, replace

from roundgate.core.rounds import Fact, Mark, Step
from roundgate.host.rounds.events import Noted, Proved, RoundEvent, StepBegun, StepDone, Waits
from roundgate.host.store import Store

_MOST_UNTOLD = 1024 * 1024
"""Bytes that wait for a terminal that does not read; beyond that it is no longer told."""


class Listener:
    """The terminal that watches a round, by the pipe to it. A round never waits for its terminal."""

    def __init__(self, handle: int | None) -> None:
        """Take the pipe's end, or None where nobody watches."""
        self.handle = handle
        self._untold = b""
        if handle is not None:
            os.set_blocking(handle, False)

    def tell(self, event: RoundEvent) -> None:
        """Tell the terminal, if one still listens."""
        if self.handle is None:
            return
        self._untold += json.encode(event) + b"\n"
        try:
            while self._untold:
                self._untold = self._untold[os.write(self.handle, self._untold) :]
        except BlockingIOError:  # a terminal that is paused
            # Ctrl-S in the terminal must not stop a round, nor let its memory grow without end.
            if len(self._untold) > _MOST_UNTOLD:
                self.handle = None
        except OSError:
            self.handle = None

    def close(self) -> None:
        """Let the terminal go: what follows goes on by itself."""
        if self.handle is not None:
            with contextlib.suppress(OSError):
                os.close(self.handle)
            self.handle = None


class Journal:
    """The journal of one round at work."""

    def __init__(self, store: Store, number: int, listener: Listener, mask: Callable[[str], str]) -> None:
        """Write nothing yet; ``mask`` masks the secrets in messages."""
        self._store = store
        self._number = number
        self._mask = mask
        self.listener = listener
        self.marks: set[tuple[str, str]] = set()
        """The steps and marks so far, in memory too: the way back must not hang on a disk that is full."""
        self.degraded = False
        """True once the way back has begun: a journal that cannot be written must not keep the server down."""

    def _write(self, step: Step, mark: Mark, message: str) -> None:
        self.marks.add((step, mark))
        try:
            self._store.write_journal(self._number, step, mark, message)
        except sqlite3.Error:
            if not self.degraded:
                raise

    def note(self, step: Step, message: str) -> None:
        """Write down something that a person should know."""
        message = self._mask(message)
        self._write(step, Mark.NOTE, message)
        self.listener.tell(Noted(step, message))

    def fact(self, fact: Fact) -> None:
        """Write down a fact that was seen. Secrets are blanked out of its texts, not out of its JSON."""
        texts = {name: self._mask(value) for name, value in asdict(fact).items() if isinstance(value, str)}
        fact = replace(fact, **texts)
        self._write(Step.PROVE, Mark.FACT, json.encode(fact).decode())
        self.listener.tell(Proved(fact))

    def waits(self, step: Step, message: str, seconds: float | None) -> None:
        """Tell the terminal what is waited for and how long it is likely to take, for its bar."""
        self.listener.tell(Waits(step, message, seconds))

    @contextmanager
    def step(self, step: Step, message: str = "") -> Iterator[None]:
        """Take a step: written down before it is taken and after it is done."""
        message = self._mask(message)
        # Not in a try: where the intent cannot be written down, the step must not be taken.
        self._write(step, Mark.BEGIN, message)
        self.listener.tell(StepBegun(step, message))
        began = time.monotonic()
        yield
        took = time.monotonic() - began
        self._write(step, Mark.END, f"{took:.3f}")
        self.listener.tell(StepDone(step, took))
