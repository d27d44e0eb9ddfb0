"""Talking with a running server's console, and following its log."""

from __future__ import annotations

import select
import sys
import time
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from roundgate.cli.screen.output import echo, plain, warn
from roundgate.core.next_step import typed_command
from roundgate.host.consoles import console_of
from roundgate.host.consoles.stdin import StdinConsole
from roundgate.host.drivers import driver_of
from roundgate.host.errors import Trouble, WrongUsage

if TYPE_CHECKING:
    from roundgate.host.consoles.protocol import Console
    from roundgate.host.drivers.protocol import Driver
    from roundgate.host.servers import Server

_LAST = 200
"""Lines of the log in which an answer is looked for before it is shown a second time."""


def talk(server: Server) -> None:
    """Show what the server says and send what is typed, until the end of the input. Raises Trouble.

    At a terminal there are a prompt with a history and completion, and the log above it.
    """
    driver = driver_of(server)
    if not driver.state().runs:
        raise Trouble(f"{server.name} is down.", typed_command("start", server.name))
    console = console_of(server, driver)
    driver.follow()
    warn(f"Console of {server.name}. Ctrl-D leaves; the server runs on.")
    try:
        if sys.stdin.isatty() and sys.stdout.isatty():
            from roundgate.cli.running.prompting import prompt_lines

            prompt_lines(server, lambda line: _sent(console, line))
        else:
            _talk_plainly(driver, console)
    finally:
        _hear_the_rest(driver)
        console.close()
        driver.close()


def _talk_plainly(driver: Driver, console: Console) -> None:
    heard: list[str] = []
    while True:
        event = driver.next_event(None, sys.stdin.fileno())
        if event and not _shown(event):
            return
        if event and event["event"] == "line":
            heard = [*heard[-_LAST:], str(event["text"])]
        if event is None and select.select([sys.stdin], [], [], 0)[0]:
            line = sys.stdin.readline()
            if not line:
                return
            for answer in _sent(console, line.rstrip("\r\n")):
                if not is_logged(answer, heard):
                    echo(plain(answer))


def _sent(console: Console, line: str) -> list[str]:
    """Send a line; return the answer where it does not come in the log."""
    try:
        if isinstance(console, StdinConsole):
            console.send(line)
            return []
        return console.exchange(line)
    except WrongUsage as error:
        warn(f"error  {error.what}")
    except Trouble as error:
        warn(f"error  {error.what}")
    return []


def is_logged(answer: str, heard: Sequence[str]) -> bool:
    """Return whether a line of an answer is in the log too: there it may have another time before it."""
    message = answer.rpartition("]: ")[2].strip()
    return any(line.endswith(message) for line in heard) if message else True


def _hear_the_rest(driver: Driver) -> None:
    """What was sent last has its answer shown before the window closes."""
    until = time.monotonic() + 0.3
    try:
        while event := driver.next_event(until):
            if not _shown(event):
                return
    except Trouble:
        return


def follow_log(server: Server) -> None:
    """Show what comes until Ctrl-C or the server's end."""
    driver = driver_of(server)
    try:
        driver.follow()
        while event := driver.next_event(None):
            if not _shown(event):
                return
    except KeyboardInterrupt:
        return
    finally:
        driver.close()


def _shown(event: dict[str, object], show: Callable[[str], None] = echo) -> bool:
    """Print an event; return whether there may be more."""
    if event["event"] == "line":
        show(plain(str(event["text"])))
    if event["event"] == "exit":
        show(f"-- the server has ended, exit code {event['code']}")
        return event.get("restart-in") is not None
    return True
