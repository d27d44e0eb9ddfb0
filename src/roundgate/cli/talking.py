"""Talking with a running server's console, and following its log."""

from __future__ import annotations

import select
import sys
import time

from roundgate.cli.screen.output import echo, plain, warn
from roundgate.host.consoles import console_of
from roundgate.host.drivers import driver_of
from roundgate.host.drivers.protocol import Driver
from roundgate.host.errors import Trouble, WrongWords
from roundgate.host.servers import Server


def talk(server: Server) -> None:
    """Show what the server says and send what is typed, until the end of the input. Raises Trouble."""
    driver = driver_of(server)
    if not driver.state().runs:
        raise Trouble(f"{server.name} is down.", f"roundgate start {server.name}")
    console = console_of(server, driver)
    driver.follow()
    warn(f"Console of {server.name}. Ctrl-D leaves; the server runs on.")
    try:
        while True:
            event = driver.next_event(None, sys.stdin.fileno())
            if event and not _shown(event):
                return
            if event is None and select.select([sys.stdin], [], [], 0)[0]:
                line = sys.stdin.readline()
                if not line:
                    return
                try:
                    console.send(line.rstrip("\r\n"))
                except WrongWords as error:
                    warn(f"error  {error.what}")
    finally:
        _hear_the_rest(driver)
        console.close()
        driver.close()


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


def _shown(event: dict[str, object]) -> bool:
    """Print an event; tell whether there may be more."""
    if event["event"] == "line":
        echo(plain(str(event["text"])))
    if event["event"] == "exit":
        echo(f"-- the server has ended, exit code {event['code']}")
        return event.get("restart-in") is not None
    return True
