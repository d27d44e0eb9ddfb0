"""Holding a running server's saving while its files are copied."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from roundgate.core.rulebook.model import ConsoleStep
from roundgate.host.consoles import console_of
from roundgate.host.drivers import driver_of
from roundgate.host.errors import Trouble
from roundgate.host.servers import Server


@contextmanager
def held_still(server: Server, *, despite: bool) -> Iterator[bool]:
    """Let a running server hold its saving within the block; gives whether its files are at rest.

    A server that is down is at rest. Raises Trouble where the rulebook knows no way, unless ``despite``.
    """
    driver = driver_of(server)
    try:
        runs = driver.state().runs
        steps = server.book.server.hold
        if not runs or not steps:
            if runs and not despite:
                raise Trouble(
                    f"{server.name} runs, and its rulebook knows no way to hold its saving: its files may change while "
                    "they are copied.",
                    f"roundgate stop {server.name} first; or copy them all the same: --as-it-runs",
                )
            yield not runs
            return
        _tell(server, steps)
        try:
            yield True
        finally:
            _tell(server, server.book.server.resume)
    finally:
        driver.close()


def _tell(server: Server, steps: Sequence[ConsoleStep]) -> None:
    """Send console lines, each after the answer to the one before. Raises Trouble where an answer does not come."""
    driver = driver_of(server)
    try:
        console = console_of(server, driver)
        for step in steps:
            heard = console.exchange(step.send)
            if step.match and not any(re.search(step.match, line) for line in heard):
                raise Trouble(
                    f"{server.name} did not answer '{step.send}' as its rulebook says; nothing was saved.",
                    f"roundgate log {server.name}",
                )
        console.close()
    finally:
        driver.close()
