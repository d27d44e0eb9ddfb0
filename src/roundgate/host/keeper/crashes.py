"""The ends of a server that nobody asked for, and its coming back: when, how, and its last words.

JSON lines in a file of the server's state folder; beyond a size the older half is kept in one file beside it.
"""

from __future__ import annotations

import json
import os
from typing import Literal, TypedDict, cast

_NAME = "crashes.jsonl"
_LARGEST = 128 * 1024


class LifeEvent(TypedDict):
    """One event; ``at`` in seconds since 1970."""

    at: float
    what: Literal["crash", "late-stop", "up-again", "gave-up", "cannot-start"]
    code: int | None
    """The exit code, negative for a signal; None where it is not known."""
    words: list[str]
    """The server's last lines, or why it could not be started."""


def write_event(state: str, event: LifeEvent) -> None:
    """Write an event down. What cannot be written is lost, for the server's life must go on."""
    path = os.path.join(state, _NAME)
    try:
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_CLOEXEC, 0o600)
    except OSError:
        return
    try:
        os.write(handle, json.dumps(event).encode() + b"\n")
        if os.fstat(handle).st_size > _LARGEST:
            os.replace(path, path + ".1")
    except OSError:
        return
    finally:
        os.close(handle)


def read_events(state: str) -> list[LifeEvent]:
    """Return the events of a server, the oldest first; what makes no sense is left out."""
    found: list[LifeEvent] = []
    for name in (_NAME + ".1", _NAME):
        try:
            with open(os.path.join(state, name), "rb") as file:
                lines = file.read(2 * _LARGEST).splitlines()
        except OSError:
            continue
        for line in lines:
            try:
                event = json.loads(line)
            except (ValueError, RecursionError):
                continue
            if isinstance(event, dict) and {"at", "what", "code", "words"} <= event.keys():
                found.append(cast(LifeEvent, event))
    return found
