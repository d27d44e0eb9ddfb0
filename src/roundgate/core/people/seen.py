"""Who was seen on a server, out of the lines of its logs."""

from __future__ import annotations

from collections.abc import Callable
from operator import itemgetter
from typing import NamedTuple

from msgspec import Struct

from roundgate.core.patterns import LineSearch, lazy

_LONGEST_LINE = 4096
_PLAIN = lazy(r"[A-Za-z0-9 ,;:'\"!@#%&=_<>/~-]+")
_PARTS = lazy(r"\\.|\[(?:\\.|[^\]])*\]|\((?:\?(?:P<\w+>|<[=!]|[:=!]))?|[)^$.*+?|{}]|[^\\\[\]()^$.*+?|{}]+")


class Sighting(NamedTuple):
    """Somebody came or went: the id, the name, when (as the log writes it; empty where it does not), and which."""

    id: str
    name: str
    time: str
    came: bool


def needed_text(pattern: str) -> str:
    """Return the longest text that every match of a pattern must hold, so that lines without it need not be searched.

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

    def __init__(self, joined: str, left: str, clock: Callable[[], float]) -> None:
        """Compile them; ``clock`` as for LineSearch. Raises re.error."""
        self._kinds = [
            _Kind(LineSearch(pattern, clock), needed_text(pattern).encode(), came)
            for pattern, came in ((joined, True), (left, False))
            if pattern
        ]
        self._texts: dict[bytes | None, str] = {None: ""}
        """Ids and names as text: the same people come again and again."""

    @property
    def slow(self) -> list[str]:
        """The patterns that took too long and are no longer searched."""
        return [kind.pattern.pattern for kind in self._kinds if kind.pattern.is_off]

    def search(self, block: bytes) -> list[Sighting]:
        """Return who is seen in a block of whole lines, in the order of the log."""
        found = [hit for kind in self._kinds for hit in _hits(block, kind)]
        found.sort(key=itemgetter(0))
        if len(self._texts) > _MOST_TEXTS:
            self._texts = {None: ""}
        texts, text_of = self._texts, self._text
        return [
            Sighting(
                texts[who] if who in texts else text_of(who),
                texts[name] if name in texts else text_of(name),
                time.decode("utf-8", "replace") if time else "",
                came,
            )
            for _, who, name, time, came in found
        ]

    def _text(self, raw: bytes | None) -> str:
        text = self._texts[raw] = (raw or b"").decode("utf-8", "replace")
        return text


_MOST_TEXTS = 100_000


class _Kind:
    """One pattern: what every match must hold, and the numbers of its groups, 0 for those that it does not have."""

    def __init__(self, pattern: LineSearch, text: bytes, came: bool) -> None:
        self.pattern = pattern
        self.text = text
        self.came = came
        self.groups = [pattern.compiled.groupindex.get(name, 0) for name in ("id", "name", "time")]


_Hit = tuple[int, bytes | None, bytes | None, bytes | None, bool]
"""Where the line begins, id, name and time as the log has them, and whether somebody came."""


def _hits(block: bytes, kind: _Kind) -> list[_Hit]:
    found: list[_Hit] = []
    at, size, text, came = 0, len(block), kind.text, kind.came
    find, before = block.find, block.rfind
    quick, quick_up_to, careful = kind.pattern.compiled.search, kind.pattern.quick_up_to, kind.pattern.search
    who, name, time = kind.groups
    while at < size:
        here = find(text, at) if text else at
        if here < 0:
            break
        start = before(b"\n", at, here) + 1 or at
        end = find(b"\n", here)
        end = size if end < 0 else end
        if end - start <= quick_up_to:
            match = quick(block[start:end])
        else:
            match = careful(block[start : end if end - start < _LONGEST_LINE else start + _LONGEST_LINE])
        if match:
            found.append(
                (start, match[who] if who else None, match[name] if name else None, match[time] if time else None, came)
            )
        at = end + 1
    return found


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
    key = sighting.id or sighting.name
    person = people.get(key)
    if person is None:
        person = people[key] = SeenPerson()
    if sighting.name and sighting.name != person.name:
        person.name = sighting.name
        person.names = [*(name for name in person.names if name != sighting.name), sighting.name][-10:]
    person.first = min(person.first or at, at)
    person.last = max(person.last, at)
    if sighting.came:
        person.visits += 1
        person.here_since = at
    elif person.here_since:
        person.seconds += max(0.0, at - person.here_since)
        person.here_since = 0.0
