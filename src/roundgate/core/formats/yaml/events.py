"""A YAML text as libyaml reads it: one flat list of what it says, and one of where each part stands.

Flat lists compare and cut at C speed; a path is found by walking them. Indexes count characters of the text.
"""

from __future__ import annotations

import re
from array import array
from collections.abc import Iterator
from functools import cached_property
from typing import Any, NamedTuple

import yaml

from roundgate.core.formats.protocol import Path
from roundgate.core.formats.shared.gc_paused import gc_paused
from roundgate.core.patterns import lazy

Event = tuple[str, str, str | None, str | None, bool]
"""One event: its sign (S scalar, * alias, [ ] list, { } map, D d document), value, anchor, tag, written plain."""

_PROPERTIES = lazy(r"(?:(?:&|!)[^\s,\[\]{}]*(?:[ \t]+|(?=[\r\n,\]}])|\Z)|[ \t]*(?:#[^\r\n]*)?(?:\r\n|\r|\n)[ \t]*)*")
_LOADER = getattr(yaml, "CSafeLoader", yaml.SafeLoader)


class YamlError(ValueError):
    """The text is no YAML for libyaml: what it said, where it gave up, and where what it was reading began."""

    def __init__(self, what: str, at: int, context: str, begun: int) -> None:
        """Keep what libyaml said, and where."""
        super().__init__(what)
        self.at = at
        self.context = context
        self.begun = begun


class Spans:
    """The span of each event; two rows of numbers, for a list of pairs would be ten times as large."""

    def __init__(self) -> None:
        """Begin with none."""
        self.starts, self.ends = array("Q"), array("Q")

    def __getitem__(self, event: int) -> tuple[int, int]:
        """Return where an event starts and ends."""
        return self.starts[event], self.ends[event]


class Events(NamedTuple):
    """What a text says, and the span of each event."""

    events: list[Event]
    spans: Spans


def read_events(body: str) -> Events:
    """Read a text. Raises YamlError."""
    events: list[Event] = []
    spans = Spans()
    add, starts, ends = events.append, spans.starts.append, spans.ends.append
    known: dict[Event, Event] = {}  # most files say the same again and again
    try:
        with gc_paused():
            for event in yaml.parse(body, Loader=_LOADER):
                made = _MAKERS.get(type(event))
                if made is not None:
                    made_event = made(event)
                    add(known.setdefault(made_event, made_event) if made is _scalar else made_event)
                    starts(event.start_mark.index)  # type: ignore[union-attr]
                    ends(event.end_mark.index)  # type: ignore[union-attr]
    except yaml.MarkedYAMLError as error:
        mark, begun = error.problem_mark, error.context_mark
        at = mark.index if mark else 0
        start = begun.index if begun else at
        raise YamlError(
            str(error.problem), min(at, len(body)), str(error.context or ""), min(start, len(body))
        ) from error
    except yaml.reader.ReaderError as error:
        raise YamlError("unreadable character", _unreadable(body), "", _unreadable(body)) from error
    except (UnicodeEncodeError, RecursionError) as error:
        raise YamlError("unreadable character", 0, "", 0) from error
    return Events(events, spans)


_UNREADABLE = lazy("[^\t\n\r\x20-\x7e\x85\xa0-\ud7ff\ue000-\ufefe\uff00-\ufffd\U00010000-\U0010ffff]")


def _unreadable(body: str) -> int:
    found = _UNREADABLE.search(body)
    return found.start() if found else 0


def _scalar(event: Any) -> Event:
    return "S", event.value, event.anchor, event.tag, not event.style


_LIST: Event = ("[", "", None, None, True)
_MAP: Event = ("{", "", None, None, True)
_MAKERS: dict[type, Any] = {
    yaml.ScalarEvent: _scalar,
    yaml.AliasEvent: lambda event: ("*", event.anchor, None, None, True),
    yaml.SequenceStartEvent: lambda event: (
        ("[", "", event.anchor, event.tag, True) if event.anchor or event.tag else _LIST
    ),
    yaml.SequenceEndEvent: lambda event: ("]", "", None, None, True),
    yaml.MappingStartEvent: lambda event: (
        ("{", "", event.anchor, event.tag, True) if event.anchor or event.tag else _MAP
    ),
    yaml.MappingEndEvent: lambda event: ("}", "", None, None, True),
    yaml.DocumentStartEvent: lambda event: ("D", "", None, None, True),
    yaml.DocumentEndEvent: lambda event: ("d", "", None, None, True),
}


class Member(NamedTuple):
    """One member of a map or item of a list: its step, the event of its name (-1 for items) and of its value."""

    step: str | int
    key: int
    value: int


class Stream:
    """The events of a text, and where paths lead in them."""

    def __init__(self, body: str) -> None:
        """Read ``body``. Raises YamlError."""
        self.body = body
        self.events, self.spans = read_events(body)

    @cached_property
    def closing(self) -> dict[int, int]:
        """For the event that opens a list, a map or a document, the one that closes it."""
        found: dict[int, int] = {}
        open_ones: list[int] = []
        for at, event in enumerate(self.events):
            sign = event[0]
            if sign in "[{D":
                open_ones.append(at)
            elif sign in "]}d":
                found[open_ones.pop()] = at
        return found

    def after(self, event: int) -> int:
        """Return the event after a whole node."""
        return self.closing.get(event, event) + 1

    def members(self, event: int) -> Iterator[Member]:
        """Yield the members or items of the node that begins at an event; nothing for a scalar."""
        sign = self.events[event][0]
        if sign not in "[{":
            return
        at, end, number = event + 1, self.closing[event], 0
        while at < end:
            if sign == "[":
                yield Member(number, -1, at)
                at = self.after(at)
            else:
                value = self.after(at)
                yield Member(self._step(at, number), at, value)
                at = self.after(value)
            number += 1

    def _step(self, key: int, number: int) -> str:
        sign, value = self.events[key][:2]
        return value if sign == "S" else f"*{value}" if sign == "*" else f"?{number}"

    @cached_property
    def roots(self) -> list[int]:
        """Return the event of each document's root."""
        return [at + 1 for at, event in enumerate(self.events) if event[0] == "D"]

    def locate(self, path: Path) -> list[Member] | None:
        """Return the way to a path, the document's root first, or None. ``#2`` begins a path in the second document."""
        number, path = self.document_of(path)
        if number >= len(self.roots):
            return None
        way = [Member("", -1, self.roots[number])]
        for step in path:
            found = [
                member
                for member in self.members(way[-1].value)
                if member.step == step and type(member.step) is type(step)
            ]
            if not found:
                return None
            way.append(found[-1])
        return way

    def document_of(self, path: Path) -> tuple[int, Path]:
        """Split a path into the number of its document and the rest."""
        if path and isinstance(path[0], str) and re.fullmatch(r"#[1-9]\d{0,5}", path[0]) and len(self.roots) > 1:
            return int(path[0][1:]) - 1, path[1:]
        return 0, path

    def bare(self, event: int) -> tuple[int, int]:
        """Return the span of a node without its anchor, its tag and what spaces follow them."""
        start, end = self.spans[event]
        scalar = self.events[event]
        if scalar[0] in "S[{" and (scalar[2] is not None or scalar[3] is not None):
            found = _PROPERTIES.match(self.body, start, max(end, start))
            start = found.end() if found else start
        return start, max(start, end)

    def is_flow(self, event: int) -> bool:
        """Return whether a list or map is written in brackets."""
        start = self.bare_start(event)
        return self.body[start : start + 1] == self.events[event][0]

    def bare_start(self, event: int) -> int:
        """Return where a list or map itself begins: its bracket, or its first name or dash."""
        start = self.spans[event][0]
        if self.events[event][2] is not None or self.events[event][3] is not None:
            found = _PROPERTIES.match(self.body, start)
            start = found.end() if found else start
        return start

    def content_end(self, event: int) -> int:
        """Return where what a node says ends, without the blank lines and comments that libyaml counts to it."""
        sign = self.events[event][0]
        if sign in "[{":
            last = self.closing[event]
            if self.is_flow(event):
                return self.spans[last][1]
            return self.content_end(self._last_child(event)) if last > event + 1 else self.spans[event][1]
        start, end = self.bare(event)
        if sign == "S" and self.body[start : start + 1] in ("|", ">") and not self.events[event][4]:
            header = re.match(r"[|>][^\r\n]*", self.body[start:])
            if header and "+" in header[0].split("#")[0]:
                return end
            return start + len(self.body[start:end].rstrip(" \t\r\n"))
        return end

    def _last_child(self, event: int) -> int:
        child = event + 1
        end = self.closing[event]
        while (following := self.after(child)) < end:
            child = following
        return child

    def aliases(self, anchor: str, since: int) -> list[int]:
        """Return the events that stand for the node marked ``&anchor`` at an event."""
        found = []
        for at in range(since + 1, len(self.events)):
            at_event = self.events[at]
            if at_event[2] == anchor or at_event[0] == "D":
                break
            if at_event[0] == "*" and at_event[1] == anchor:
                found.append(at)
        return found

    def meant(self, alias: int) -> int:
        """Return the event of the node that an alias stands for."""
        name = self.events[alias][1]
        return next((at for at in range(alias - 1, -1, -1) if self.events[at][2] == name), -1)
