"""Part of the step prove: does the public list show the server, and with the right name and slots?"""

from __future__ import annotations

import json
import re
import time
from typing import Any
from urllib.error import URLError
from urllib.request import urlopen

from roundgate.core.checks.rules import broken_rules
from roundgate.core.files import ServerFiles
from roundgate.core.rulebook.model import Lobby
from roundgate.core.values import Value
from roundgate.core.values.units import parse_seconds
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.options import NotProven

_PAUSES = (0.05, 0.1, 0.2, 0.5, 1.0)


class NoAnswer(Exception):
    """The lobby itself does not answer; that is no fault of the change."""


def prove_lobby(round: Round, files: ServerFiles) -> list[str]:
    """See that the list shows the server as it should. Raises NotProven where the list answers and does not."""
    lobby = round.server.book.server.lobby
    if lobby is None or (lobby.needs and broken_rules(files.names, {"needs": lobby.needs})):
        return []
    limit = float(parse_seconds(lobby.within))
    until = time.monotonic() + limit
    round.waits("prove", "waiting for the lobby to show it", limit)
    wrong, tries = "", 0
    while True:
        try:
            wrong = _wrong(lobby, files)
        except NoAnswer as error:
            round.note("prove", f"the lobby does not answer: {error}")
            return [f"visibility not proven: the lobby does not answer ({error})"]
        if not wrong:
            return ["the lobby shows it"]
        if time.monotonic() > until or round.exited:
            raise NotProven(f"the lobby does not show it as it should after {limit:g}s: {wrong}", round.evidence())
        round.hear(time.monotonic() + _PAUSES[min(tries, len(_PAUSES) - 1)])
        tries += 1


def _wrong(lobby: Lobby, files: ServerFiles) -> str:
    """Tell what is wrong with our entry in the list; an empty text where nothing is."""
    entries = _fetch(lobby, files)
    ours = [
        one for one in entries if all(_equal(one.get(key), files.counting(name)) for key, name in lobby.ours.items())
    ]
    if not ours:
        return "it is not in the list"
    for key, name in lobby.shows.items():
        if not _equal(ours[0].get(key), files.counting(name)):
            return f"the list shows {key} {ours[0].get(key)!r}"
    return ""


def _equal(shown: object, wanted: Value | None) -> bool:
    return str(shown) == str(wanted)


def _fetch(lobby: Lobby, files: ServerFiles) -> list[dict[str, Any]]:
    url = re.sub(r"\{([\w.\-]+)\}", lambda match: str(files.counting(match[1])).rstrip("/"), lobby.url)
    try:
        with urlopen(url, timeout=3) as answer:  # the scheme is checked: the setting is a web address
            found = json.load(answer)
    except (URLError, OSError, ValueError) as error:
        raise NoAnswer(getattr(error, "reason", error)) from error
    for step in lobby.items.split(".") if lobby.items else ():
        found = found.get(step, []) if isinstance(found, dict) else []
    return [one for one in found if isinstance(one, dict)]
