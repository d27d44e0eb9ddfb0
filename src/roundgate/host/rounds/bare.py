"""Stopping and starting a server without the books: no round, no slate, no proof.

For the case that the state file cannot be used at all, on a full disk or after somebody's lock: whether a server can
be stopped must not hang on that.
"""

from __future__ import annotations

import contextlib
import time
from collections.abc import Iterator
from contextlib import contextmanager

from filelock import FileLock, Timeout

from roundgate.core.next_step import typed_command
from roundgate.host.consoles import console_of
from roundgate.host.drivers import driver_of
from roundgate.host.drivers.protocol import Driver, describe_exit
from roundgate.host.errors import Busy, Trouble
from roundgate.host.rounds.obstacles import refuse_outsiders
from roundgate.host.servers import Server


def stop_bare(server: Server, *, kill: bool) -> str:
    """Stop a server; say what came of it. Raises Trouble where it does not stop."""
    driver = driver_of(server)
    try:
        with _held(server):
            refuse_outsiders(server, driver.state())
            if not driver.state().runs:
                return f"{server.name} is down already."
            driver.follow()
            driver.expect_stop()
            for _ in _ways(server, driver, kill=kill):
                if _ends(driver, time.monotonic() + server.seconds("grace")):
                    driver.leave()
                    return f"{server.name} is down."
            driver.stop_failed(for_good=True)
            raise Trouble(f"{server.name} does not stop.", typed_command("stop", server.name, options=("--kill",)))
    finally:
        driver.close()


def start_bare(server: Server) -> str:
    """Start a server and wait for its ready sign; say what came of it. Raises Trouble where it does not come up."""
    driver = driver_of(server)
    try:
        with _held(server):
            refuse_outsiders(server, driver.state())
            if driver.state().runs:
                return f"{server.name} runs already."
            driver.open()
            driver.follow()
            driver.start()
            until = time.monotonic() + server.seconds("start_within")
            while server.book.server.ready and not driver.state().ready:
                event = driver.next_event(until)
                if event is None or event["event"] == "exit":
                    how = describe_exit(event["code"]) if event else ""
                    why = f"ended before it was ready{how}" if event else "is not ready in time"
                    raise Trouble(f"{server.name} {why}.", typed_command("log", server.name))
            return f"{server.name} is up."
    finally:
        driver.close()


@contextmanager
def _held(server: Server) -> Iterator[None]:
    lock = FileLock(f"{server.state}/lock", blocking=False, mode=0o600)
    try:
        lock.acquire()
    except Timeout as error:
        raise Busy(f"{server.name} is held by a round.", "Try again when it is over.") from error
    try:
        yield
    finally:
        lock.release()


def _ways(server: Server, driver: Driver, *, kill: bool) -> Iterator[str]:
    """Try one way after another; each is only tried when the ones before did not do."""
    with contextlib.suppress(Trouble):  # whoever holds it may start it again where it ends by another way
        if own := driver.stop_it():
            yield own
    command = server.book.server.stop
    if command:
        console = console_of(server, driver)
        try:
            console.send(command)
            console.close()
            yield command
        except Trouble:
            console.close()
    signals = [*server.book.server.signals, *(["SIGKILL"] if kill or server.may_kill else [])]
    for step in signals:
        name = step.partition(" ")[0]
        driver.signal(name)
        yield name


def _ends(driver: Driver, until: float) -> bool:
    while event := driver.next_event(until):
        if event["event"] == "exit":
            return True
    return not driver.state().runs
