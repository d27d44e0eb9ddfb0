"""The public list of servers: does it show the server, and with the right name and slots?

A list never undoes anything: it may be slow, or down. A round ends when the server is proven; the look at the list goes
on by itself, ``status`` shows what came of it, and it can be asked for at any time.
"""

from __future__ import annotations

import re
import time
from contextlib import suppress
from typing import Any

from msgspec import MsgspecError, Struct, json

from roundgate.core.files import ServerFiles
from roundgate.core.rulebook.conditions import broken_rules
from roundgate.core.rulebook.model import Lobby
from roundgate.core.values import Value
from roundgate.core.values.units import parse_seconds
from roundgate.host.drivers import driver_of
from roundgate.host.errors import Trouble
from roundgate.host.files import read_bytes, write_durably
from roundgate.host.servers import Server

_PAUSES = (0.05, 0.1, 0.2, 0.5, 1.0, 2.0)
_ANSWER_WITHIN = 5.0
_LARGEST_ANSWER = 8 * 1024 * 1024
_FILE = "list.json"


class ListLook(Struct, frozen=True):
    """What a look at the list has shown. ``at`` and ``started`` in seconds since 1970."""

    at: float
    started: float
    """The start of the server that was looked for; what is known of an earlier one says nothing."""
    shown: bool
    why: str = ""
    """Why it is not shown, or what is wrong with what is shown."""
    going_on: bool = False


def known_look(server: Server, started: float | None) -> ListLook | None:
    """Return what is known of the server that started then; None where nobody has looked since."""
    with suppress(OSError, MsgspecError):
        raw = read_bytes(f"{server.state}/{_FILE}")
        look = json.decode(raw, type=ListLook) if raw else None
        if look is not None and started is not None and abs(look.started - started) < 1:
            return look
    return None


def look_at_list(server: Server, *, once: bool = False) -> ListLook | None:
    """Look until the list shows the server as it should, or its time is up; keep what came of it.

    Gives None where the rulebook names no list, or the server is down or not meant to be in it.
    """
    driver = driver_of(server)
    try:
        state = driver.state()
        files = server.read_started()
        lobby = server.book.server.lobby
        if (
            lobby is None
            or state.started is None
            or (lobby.needs and broken_rules(files.names, {"needs": lobby.needs}))
        ):
            return None
        until = time.monotonic() + (0.0 if once else float(parse_seconds(lobby.within)))
        tries = 0
        while True:
            why = _wrong(lobby, files)
            over = not why or time.monotonic() >= until
            look = ListLook(time.time(), state.started, not why, why, going_on=not over)
            _keep(server, look)
            if over:
                return look
            _wait(_PAUSES[min(tries, len(_PAUSES) - 1)])
            tries += 1
            if driver.state().started != state.started:
                return None  # it was stopped or started again: somebody else looks then
    except Trouble:
        return None
    finally:
        driver.close()


def _wait(seconds: float) -> None:
    time.sleep(seconds)  # a list on the web tells nobody when it changes


def _keep(server: Server, look: ListLook) -> None:
    # It is looked up again at the next round; a full disk must not fail one that is up.
    with suppress(OSError):
        write_durably(f"{server.state}/{_FILE}", json.encode(look))


def _wrong(lobby: Lobby, files: ServerFiles) -> str:
    """Return what is wrong with our entry in the list; an empty text where nothing is."""
    try:
        entries = _fetch(lobby, files)
    except (OSError, ValueError, RecursionError) as error:
        reason = getattr(error, "reason", None) or error
        return f"the list does not answer ({getattr(reason, 'strerror', None) or reason})"
    ours = [
        entry
        for entry in entries
        if all(_equal(entry.get(key), files.counting(name)) for key, name in lobby.ours.items())
    ]
    if not ours:
        return "it is not in the list"
    for key, name in lobby.shows.items():
        if not _equal(ours[0].get(key), files.counting(name)):
            return f"the list shows {key} {str(ours[0].get(key))[:80]!r}"
    return ""


def _equal(shown: object, wanted: Value | None) -> bool:
    return str(shown) == str(wanted)


def _fetch(lobby: Lobby, files: ServerFiles) -> list[dict[str, Any]]:
    """Ask the list, within a time and a size. Raises OSError or ValueError."""
    import json as plain_json  # a list may hold what msgspec would not take, such as lone surrogates
    from urllib.request import urlopen

    url = re.sub(r"\{([\w.\-]+)\}", lambda match: files.counting_text(match[1]).rstrip("/"), lobby.url)
    until = time.monotonic() + _ANSWER_WITHIN
    data = bytearray()
    with urlopen(url, timeout=3) as answer:  # the scheme is checked: the setting is a web address
        while piece := answer.read1(65536):
            data += piece
            if len(data) > _LARGEST_ANSWER:
                raise ValueError("its answer is too large")
            if time.monotonic() > until:
                raise TimeoutError("its answer takes too long")
    found = plain_json.loads(data)
    for step in lobby.items.split(".") if lobby.items else ():
        found = found.get(step, []) if isinstance(found, dict) else []
    return [entry for entry in found if isinstance(entry, dict)] if isinstance(found, list) else []
