"""Who was seen on a server, out of the lines of its logs."""

from __future__ import annotations

import re
from collections.abc import Iterator

from msgspec import Struct

_LONGEST_LINE = 4096
_PLAIN = re.compile(r"[A-Za-z0-9 ,;:'\"!@#%&=_<>/~-]+")
_PARTS = re.compile(r"\\.|\[(?:\\.|[^\]])*\]|\((?:\?(?:P<\w+>|<[=!]|[:=!]))?|[)^$.*+?|{}]|[^\\\[\]()^$.*+?|{}]+")


class Sighting(Struct, frozen=True):
    """Somebody came or went: the id, the name, when (as the log writes it; empty where it does not), and which."""

    id: str
    name: str
    time: str
    came: bool


def needed_text(pattern: str) -> str:
    """Give the longest text that every match of a pattern must hold, so that lines without it need not be searched.

    An empty text where nothing is sure: where the pattern has alternatives.
    """
    if "|" in pattern:
        return ""
    found = ""
    depth = 0
    parts = _PARTS.findall(pattern)
    for number, part in enumerate(parts):
        if part.startswith("("):
            depth += 1
        elif part == ")":
            depth -= 1
        elif depth == 0 and _PLAIN.fullmatch(part):
            follows = parts[number + 1] if number + 1 < len(parts) else ""
            text = part[:-1] if follows in ("*", "?", "{") else part  # its last sign may be missing
            found = max(found, text, key=len)
    return found


class LogPattern:
    """The patterns of a log by which people are seen to come and go, for blocks of many lines."""

    def __init__(self, joined: str, left: str) -> None:
        """Compile them. Raises re.error."""
        self._kinds = [
            (re.compile(pattern.encode()), needed_text(pattern).encode(), came)
            for pattern, came in ((joined, True), (left, False))
            if pattern
        ]

    def search(self, block: bytes) -> Iterator[Sighting]:
        """Give who is seen in a block of whole lines, in the order of the log."""
        found = [hit for pattern, text, came in self._kinds for hit in _hits(block, pattern, text, came=came)]
        yield from (sighting for _, sighting in sorted(found, key=lambda hit: hit[0]))


def _hits(block: bytes, pattern: re.Pattern[bytes], text: bytes, *, came: bool) -> Iterator[tuple[int, Sighting]]:
    at = 0
    while at < len(block):
        here = block.find(text, at) if text else at
        if here < 0:
            return
        start = block.rfind(b"\n", 0, here) + 1
        end = block.find(b"\n", here)
        end = len(block) if end < 0 else end
        match = pattern.search(block[start : min(end, start + _LONGEST_LINE)])
        if match:
            groups = match.groupdict()
            words = {name: (groups.get(name) or b"").decode("utf-8", "replace") for name in ("id", "name", "time")}
            yield start, Sighting(words["id"], words["name"], words["time"], came)
        at = end + 1


class SeenPerson(Struct):
    """What the logs say of one id: names, the first and the last time, how often it came, and for how long."""

    name: str = ""
    names: list[str] = []
    first: float = 0.0
    last: float = 0.0
    visits: int = 0
    seconds: float = 0.0
    here_since: float = 0.0
    """When it came, where it has not been seen to go."""


def fold(people: dict[str, SeenPerson], sighting: Sighting, at: float) -> None:
    """Add a sighting at a time, in seconds since 1970, to what is known."""
    person = people.setdefault(sighting.id or sighting.name, SeenPerson())
    if sighting.name and sighting.name != person.name:
        person.name = sighting.name
        person.names = [*(one for one in person.names if one != sighting.name), sighting.name][-10:]
    person.first = min(person.first or at, at)
    person.last = max(person.last, at)
    if sighting.came:
        person.visits += 1
        person.here_since = at
    elif person.here_since:
        person.seconds += max(0.0, at - person.here_since)
        person.here_since = 0.0
