"""What happened to a server by itself: its crashes and its coming back, as its keeper wrote them down."""

from __future__ import annotations

import time
from collections.abc import Sequence

from roundgate.host.drivers.protocol import describe_exit
from roundgate.host.keeper.crashes import LifeEvent, read_events
from roundgate.host.servers import Server

RECENT = 24 * 3600.0
"""Seconds for which ``status`` tells of a crash."""


def life_of(server: Server) -> list[LifeEvent]:
    """Return the crashes of a server and its coming back, the oldest first."""
    return read_events(server.state)


def describe_event(event: LifeEvent) -> str:
    """Describe an event in a few words."""
    how = describe_exit(event["code"])
    return {
        "crash": f"crashed: it ended{how}",
        "late-stop": f"ended{how}, long after it was asked to stop",
        "up-again": "is up again",
        "gave-up": "crashed too often; it is no longer started again",
        "cannot-start": f"could not be started again: {' '.join(event['words'])}",
    }[event["what"]]


def recent_crashes(events: Sequence[LifeEvent], now: float | None = None) -> list[LifeEvent]:
    """Return the crashes of the last day."""
    since = (time.time() if now is None else now) - RECENT
    return [event for event in events if event["at"] >= since and event["what"] in ("crash", "late-stop")]
