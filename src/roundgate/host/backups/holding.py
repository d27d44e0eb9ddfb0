"""Holding a running server's saving while its files are copied."""

from __future__ import annotations

import signal
import subprocess
import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from types import FrameType

from filelock import FileLock, Timeout

from roundgate.core.next_step import typed_command
from roundgate.core.rulebook.model import ConsoleStep
from roundgate.host.consoles import console_of
from roundgate.host.drivers import driver_of
from roundgate.host.drivers.protocol import Driver
from roundgate.host.errors import Busy, ConsoleCut, NoConsole, Trouble
from roundgate.host.keeper.interpreter import own
from roundgate.host.patterns import search
from roundgate.host.servers import Server

_DYING = 5.0
"""Seconds that a killed backup may take to let go of its lock: its pipes may be closed before."""
_DEADLY = (signal.SIGTERM, signal.SIGHUP)


class Untold(Trouble):
    """A server was not told anything."""


@contextmanager
def held_still(server: Server, *, despite: bool) -> Iterator[bool]:
    """Let a running server hold its saving within the block; gives whether its files are at rest.

    However the block ends, the server is told to save again, also where this process is killed. A server that is down
    is at rest. Raises Trouble where the rulebook knows no way, unless ``despite``, or where the server does not answer;
    Busy where another backup holds it.
    """
    driver = driver_of(server)
    try:
        runs = driver.state().runs
        if not runs or not server.book.server.hold:
            if runs and not despite:
                raise Trouble(
                    f"{server.name} runs, and its rulebook has no way to hold its saving: its files may change while "
                    "they are copied.",
                    typed_command("stop", server.name, hint="or copy the files anyway: --as-it-runs"),
                )
            yield not runs
            return
        with _lock(server), _signals_as_exceptions(), _watched(server):
            is_held = True
            try:
                is_held = _hold(server, driver, despite=despite)
                yield is_held
            finally:
                # Also where a step of the hold went wrong: the server may have taken the ones before it.
                if is_held:
                    _resume(server, driver)
    finally:
        driver.close()


def resume_after_death(server: Server) -> bool:
    """Tell a server to save again whose backup was killed; return whether that was needed.

    It is not where the server is down, or where another backup holds it by now and will do it. Raises Trouble.
    """
    driver = driver_of(server)
    try:
        with _lock(server, _DYING):
            if not driver.state().runs:
                return False
            _resume(server, driver)
            return True
    except Busy:
        return False
    finally:
        driver.close()


@contextmanager
def _lock(server: Server, seconds: float = 0) -> Iterator[None]:
    """Be the only one who holds this server's saving: the end of another's hold would be the end of this one's too.

    Raises Busy where another one still holds it after ``seconds``.
    """
    lock = FileLock(f"{server.state}/hold.lock", timeout=seconds, mode=0o600)
    try:
        lock.acquire()
    except Timeout as error:
        raise Busy(f"Another backup of {server.name} is being made.", "Try again when it is done.") from error
    try:
        yield
    finally:
        lock.release()


@contextmanager
def _watched(server: Server) -> Iterator[None]:
    """Have a process beside this one that tells the server to save again should this one be killed within the block."""
    command = own("roundgate.host.backups.watch", str(server.site.folder), server.name)
    nowhere = subprocess.DEVNULL
    watch = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=nowhere, stderr=nowhere, start_new_session=True)
    assert watch.stdin is not None
    try:
        yield
    finally:
        with suppress(OSError):  # it may have been killed itself
            watch.stdin.write(b"done")
            watch.stdin.close()
        watch.wait()


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


def _hold(server: Server, driver: Driver, *, despite: bool) -> bool:
    """Let a server hold its saving; return whether it could be told, which it must be unless ``despite``.

    Raises Trouble.
    """
    try:
        step = _first_unanswered(server, driver, server.book.server.hold)
    except Untold as error:
        if despite:
            return False
        raise Trouble(
            f"{server.name} cannot be told to hold its saving: {error.what}",
            typed_command("stop", server.name, hint="or copy the files anyway: --as-it-runs"),
        ) from error
    if step is not None:
        raise Trouble(
            f"{server.name} did not answer '{step.send}' as its rulebook says; nothing was saved.",
            typed_command("log", server.name),
        )
    return True


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
            f"{server.name} was asked to pause saving, and may still be paused: {why}.",
            f"Make sure that it saves again: roundgate send {server.name} {lines}",
        )


def _first_unanswered(server: Server, driver: Driver, steps: Sequence[ConsoleStep]) -> ConsoleStep | None:
    """Send console lines, each after the answer to the one before; return the first that is not answered.

    Raises Untold where not even the first one reaches the server, and Trouble.
    """
    console = console_of(server, driver)
    try:
        for number, step in enumerate(steps):
            try:
                heard = console.exchange(step.send)
            except (NoConsole, ConsoleCut) as error:
                if number:
                    raise
                raise Untold(error.what, error.do) from error
            if step.match and not any(search(step.match, line) for line in heard):
                return step
        return None
    finally:
        console.close()
