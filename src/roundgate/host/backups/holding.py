"""Holding a running server's saving while its files are copied."""

from __future__ import annotations

import signal
import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from types import FrameType

from roundgate.core.rulebook.model import ConsoleStep
from roundgate.host.consoles import console_of
from roundgate.host.drivers import driver_of
from roundgate.host.drivers.protocol import Driver
from roundgate.host.errors import Trouble
from roundgate.host.patterns import search
from roundgate.host.servers import Server

_DEADLY = (signal.SIGTERM, signal.SIGHUP)


@contextmanager
def held_still(server: Server, *, despite: bool) -> Iterator[bool]:
    """Let a running server hold its saving within the block; gives whether its files are at rest.

    However the block ends, the server is told to save again. A server that is down is at rest. Raises Trouble where the
    rulebook knows no way, unless ``despite``, or where the server does not answer.
    """
    driver = driver_of(server)
    try:
        runs = driver.state().runs
        if not runs or not server.book.server.hold:
            if runs and not despite:
                raise Trouble(
                    f"{server.name} runs, and its rulebook knows no way to hold its saving: its files may change while "
                    "they are copied.",
                    f"roundgate stop {server.name} first; or copy them all the same: --as-it-runs",
                )
            yield not runs
            return
        with _signals_as_exceptions():
            try:
                _hold(server, driver)
                yield True
            finally:
                # Also where a step of the hold went wrong: the server may have taken the ones before it.
                _resume(server, driver)
    finally:
        driver.close()


@contextmanager
def _signals_as_exceptions() -> Iterator[None]:
    """Let the signals that would end this process at once unwind it instead: a closed terminal is one of them.

    A server whose saving stays held loses all that happens after it.
    """
    if threading.current_thread() is not threading.main_thread():  # signals are the main thread's alone
        yield
        return

    def unwind(number: int, _frame: FrameType | None) -> None:
        raise SystemExit(128 + number)

    before = {number: signal.getsignal(number) for number in _DEADLY}
    for number, handler in before.items():
        if handler is signal.SIG_DFL:
            signal.signal(number, unwind)
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


def _hold(server: Server, driver: Driver) -> None:
    step = _first_unanswered(server, driver, server.book.server.hold)
    if step is not None:
        raise Trouble(
            f"{server.name} did not answer '{step.send}' as its rulebook says; nothing was saved.",
            f"roundgate log {server.name}",
        )


def _resume(server: Server, driver: Driver) -> None:
    """Raises Trouble, chained to what broke the block off."""
    try:
        step = _first_unanswered(server, driver, server.book.server.resume)
        why = f"it did not answer '{step.send}' as its rulebook says" if step is not None else ""
    except Trouble as error:
        why = error.what.rstrip(".")
    if why:
        lines = "; ".join(step.send for step in server.book.server.resume)
        raise Trouble(
            f"{server.name} was told to hold its saving, and may hold it still: {why}.",
            f"See that it saves again: roundgate send {server.name} {lines}",
        )


def _first_unanswered(server: Server, driver: Driver, steps: Sequence[ConsoleStep]) -> ConsoleStep | None:
    """Send console lines, each after the answer to the one before; give the first that is not answered.

    Raises Trouble.
    """
    console = console_of(server, driver)
    try:
        for step in steps:
            heard = console.exchange(step.send)
            if step.match and not any(search(step.match, line) for line in heard):
                return step
        return None
    finally:
        console.close()
