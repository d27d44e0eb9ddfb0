"""YAML that is read without complaint because a lost colon has turned a name and its value into one text."""

from __future__ import annotations

import re
from collections.abc import Iterator

from roundgate.core.findings import Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.yaml.events import Stream
from roundgate.core.patterns import lazy
from roundgate.core.text import Splice, line_start

_APART = lazy(r"(?P<name>[A-Za-z_][\w-]*)(?P<gap>[ \t]+)(?P<value>[^\s].*)")
_GLUED = lazy(r"(?P<name>[A-Za-z_][\w-]*)(?P<gap>):(?P<value>[^\s/:][^\s:]*)")
_CLEAR = lazy(r"[-+]?[0-9][\w.%-]*|true|false|yes|no|on|off|null|\"[^\"]*\"|'[^']*'|\[.*\]|\{.*\}", re.DOTALL)
"""A value that no text of words ends with."""
_FLOW = lazy(r"(?:[!&]\S*[ \t]+)*[\[{]")
_POSSIBLE = lazy(r"(?:^|[{,])[ \t]*+[A-Za-z_][\w-]*+(?:[ \t]+(?![:}\],#])\S|:[^\s/:])", re.MULTILINE)
"""In a text without this there is nothing to look for; large files are seldom walked through."""
_WORD = lazy(r"[\w.-]+")


class _Open:
    """A map or list that is open while the events go by."""

    def __init__(self, sign: str, *, flow: bool) -> None:
        self.is_map = sign == "{"
        self.flow = flow
        self.expects_key = self.is_map
        self.has_map = False
        self.key = -1
        self.suspects: list[tuple[int, re.Match[str]]] = []


def lost_colons(stream: Stream) -> Iterator[Problem]:
    """Find texts that look like a name and its value without the colon, or without the space after it."""
    if not _POSSIBLE.search(stream.body):
        return
    stack: list[_Open] = []
    for at, events in enumerate(stream.events):
        sign = events[0]
        here = stack[-1] if stack else None
        if sign in "[{":
            if here is not None:
                here.has_map = here.has_map or (sign == "{" and not here.expects_key)
                here.expects_key = here.is_map and not here.expects_key
            stack.append(_Open(sign, flow=_FLOW.match(stream.body, stream.spans[at][0]) is not None))
        elif sign in "]}":
            yield from _told(stream, stack.pop())
        elif sign in "S*":
            if here is None or not here.is_map:
                if here is None and events[4]:
                    yield from _alone(stream, at, events[1])
                continue
            if here.expects_key:
                here.key = at
            elif sign == "S" and events[4] and events[2] is None and events[3] is None:
                _look(stream, here, at, events[1])
            here.expects_key = not here.expects_key


def _look(stream: Stream, here: _Open, at: int, value: str) -> None:
    """Note a value that is suspect; what the other values of its map are decides at the map's end."""
    start, end = stream.spans[at]
    if here.flow and start == end:
        key = stream.events[here.key]
        is_plain = key[0] == "S" and key[4] and key[1] == stream.body[slice(*stream.spans[here.key])]
        found = (_GLUED.fullmatch(key[1]) or _APART.fullmatch(key[1])) if is_plain else None
        if found:
            here.suspects.append((here.key, found))
    elif not here.flow and not stream.body[line_start(stream.body, start) : start].strip():
        found = _GLUED.fullmatch(value) or (_APART.fullmatch(value) if "\n" not in stream.body[start:end] else None)
        if found:
            here.suspects.append((at, found))


def _told(stream: Stream, here: _Open) -> Iterator[Problem]:
    for at, found in here.suspects:
        is_word = here.has_map and _WORD.fullmatch(found["value"])
        if here.flow or not found["gap"] or is_word or _CLEAR.fullmatch(found["value"]):
            yield _lost(stream, at, found)


def _alone(stream: Stream, at: int, value: str) -> Iterator[Problem]:
    """Look at a document that is one line of text: a name and a number, say."""
    found = _APART.fullmatch(value) or _GLUED.fullmatch(value)
    if found and _CLEAR.fullmatch(found["value"]):
        yield _lost(stream, at, found)


def _lost(stream: Stream, at: int, found: re.Match[str]) -> Problem:
    start = stream.spans[at][0]
    name = found["name"]
    if not found["gap"]:
        place = start + len(name) + 1
        cause = "A space is missing after this colon, so name and value are one text."
        cut = Splice(place, place, " ")
        return problem(
            "colon-space", (place - 1, place), cause, "Write a space after the colon.", [cut], level="warning"
        )
    cut = Splice(start + found.start("gap"), start + found.end("gap"), ": ")
    cause = f"There is no colon between {name} and its value, so both are one text."
    return problem("colon-absent", (start, cut.end), cause, "Write a colon after the name.", [cut], level="warning")
