"""Switching a name of a YAML file off by commenting its lines out, and on again."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, NamedTuple

from roundgate.core.formats.protocol import Edit, EditRefused, Entry, Path, PlainData
from roundgate.core.formats.shared.commented_out import Uncommented, commented, uncommented
from roundgate.core.formats.shared.key_value import as_text
from roundgate.core.formats.yaml.events import Event, Stream, YamlError
from roundgate.core.formats.yaml.writer import scalar
from roundgate.core.text import LINE_END, Splice

if TYPE_CHECKING:
    from roundgate.core.formats.yaml.insertion import YamlPlaces


class Off(NamedTuple):
    """A name that stands commented out: its lines, and what they would say."""

    lines: Uncommented
    events: list[Event]
    """The events of the name and of its value."""
    start: int
    """Where the name stands."""
    value: tuple[int, int]
    """The span of the value, where it is on the first line."""


def switched(document: YamlPlaces, path: Path, *, on: bool) -> Edit:
    """Comment a name and its lines out, or set the one that stands commented out. Raises EditRefused."""
    if not path:
        raise EditRefused("the whole file cannot be commented out")
    if not on:
        return _off(document, path)
    if document.stream.locate(path) is not None:
        raise EditRefused(f"{path[-1]} is not commented out")
    off = _found(document, path)
    return Edit(off.lines.cuts, _with(document, path, off.start, off.events))


def set_switched_off(document: YamlPlaces, path: Path, value: PlainData) -> Edit | None:
    """Return a name that stands commented out, with one value on its line, another one; None where none does."""
    try:
        off = _found(document, path)
    except EditRefused:
        return None
    if len(off.lines.cuts) > 1 or isinstance(value, list | dict) or off.events[1][0] != "S":
        return None
    like = "" if off.events[1][4] else document.text.body[off.value[0] : off.value[0] + 1]
    new = scalar(value, like="" if like in "|>" else like, in_flow=False, ascii_only=document.ascii_only)
    cuts = (*off.lines.cuts, Splice(*off.value, new.text))
    return Edit(cuts, _with(document, path, off.start, [off.events[0], *new.events]))


def _off(document: YamlPlaces, path: Path) -> Edit:
    edit = document.remove(path)
    stream = document.stream
    way = stream.locate(path)
    assert way is not None
    if way[-1].key < 0 or stream.is_flow(way[-2].value) or len(list(stream.members(way[-2].value))) == 1:
        raise EditRefused("only a name on a line of its own, beside others, can be commented out")
    start, end = stream.spans[way[-1].key][0], stream.content_end(way[-1].value)
    body = document.text.body
    if body[document.text.line_around(start)[0] : start].strip():
        raise EditRefused(f"{path[-1]} comes after a dash or another name, so its line cannot be commented out")
    events = stream.events[way[-1].value]
    if events[0] == "S" and events[4] and LINE_END.search(body, *stream.bare(way[-1].value)):
        raise EditRefused(f"{path[-1]} is a text that runs over several lines; it cannot be commented out and in again")
    if LINE_END.search(body[:end][-1:]):
        raise EditRefused(f"{path[-1]} keeps the empty lines after it, so it cannot be commented out and in again")
    return Edit(commented(document.text, start, end, "#"), edit.expected)


def _found(document: YamlPlaces, path: Path) -> Off:
    """Find the last name commented out that a path means. Raises EditRefused."""
    ones = [name for name in document.names_off() if name.path == path]
    for entry in reversed(ones):
        off = _read(document, entry)
        if off is not None:
            return off
    raise EditRefused(f"{path[-1]} is not commented out in the file")


def _read(document: YamlPlaces, entry: Entry) -> Off | None:
    """Read the lines of a name that stands commented out: the fewest that can be read, all where those say nothing."""
    best: Off | None = None
    for lines in uncommented(document.text, entry.key_start, "#"):
        last = lines.left[: -len(document.text.newline)].split(document.text.newline)[-1]
        if len(lines.cuts) > 1 and last[:1] not in ("", " ", "\t", "-", "]", "}"):
            break
        try:
            stream = Stream(lines.left)
        except YamlError:
            continue
        events = stream.events[3:-2]
        if len(stream.roots) != 1 or len(list(stream.members(stream.roots[0]))) != 1 or not last.strip():
            continue
        start, end = stream.bare(stream.roots[0] + 2)
        value = (entry.key_start + start, entry.key_start + end)
        best = Off(lines, stream.events[2:-2], entry.key_start, value)
        is_empty = events[0][:2] == ("S", "") and events[0][4]
        opens = re.search(r":[ \t]*(?:[&!][^\s]*[ \t]*)*(?:[|>][-+\d]*)?[ \t]*(?:#.*)?$", lines.left.splitlines()[0])
        if not is_empty and not opens:
            break
    return best


def _with(document: YamlPlaces, path: Path, at: int, made: list[Event]) -> list[Event]:
    """Return what the file will say with a name put in where a comment stood. Raises EditRefused."""
    stream = document.stream
    way = stream.locate(path[:-1])
    events = document.plain()
    if way is None or events[way[-1].value][0] != "{" or stream.is_flow(way[-1].value):
        raise EditRefused(f"{as_text(path[-1])} cannot be switched on there: what it belongs to is not there")
    document.refuse_shared(way)
    members = list(stream.members(way[-1].value))
    behind = [member.key for member in members if stream.spans[member.key][0] > at]
    index = behind[0] if behind else stream.closing[way[-1].value]
    return [*events[:index], *made, *events[index:]]
