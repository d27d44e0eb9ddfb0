"""Edits of what a YAML file shares between several places, made in one of them alone."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from itertools import count
from typing import TYPE_CHECKING

from roundgate.core.formats.protocol import Edit, EditRefused, EntryKind, Path, PlainData
from roundgate.core.formats.shared.scalars import fitted
from roundgate.core.formats.yaml.events import Event, Member, Stream
from roundgate.core.formats.yaml.writer import Bare, flow, kind_of, scalar
from roundgate.core.text import Splice

if TYPE_CHECKING:
    from roundgate.core.formats.yaml.insertion import YamlPlaces


def set_on_copy(document: YamlPlaces, path: Path, value: PlainData, kind: EntryKind | None) -> Edit | None:
    """Change a shared value in one place; None where what stands there is not shared.

    A reference gives way to a copy; what others refer to hands its mark on to the first of them. Raises EditRefused.
    """
    stream = document.stream
    for depth in range(len(path), 0, -1):
        way = stream.locate(path[:depth])
        if way is None:
            continue
        event = way[-1].value
        if stream.events[event][0] == "*":
            return _instead_of_reference(document, way, path[depth:], value, kind)
        mark = stream.events[event][2]
        if mark and stream.aliases(mark, event):
            return _handed_on(document, path, way, value, kind)
        if mark and depth == len(path):
            return _marked(document, path, value, kind)
    return None


def _instead_of_reference(
    document: YamlPlaces, way: Sequence[Member], rest: Path, value: PlainData, kind: EntryKind | None
) -> Edit:
    """Put a copy of what a reference means in its place, changed."""
    stream, event = document.stream, way[-1].value
    meant = stream.meant(event)
    if rest:
        written = flow(_with(_tree(stream, meant), rest, _fitted(stream, meant, rest, value, kind)))
    elif isinstance(value, dict | list):
        written = flow(value)
    else:
        present = kind_of(stream.events[meant]) if stream.events[meant][0] == "S" else None
        written = scalar(fitted(value, kind, present), like="", in_flow=True)
    cut = Splice(*stream.spans[event], written.text)
    return Edit((cut,), [*document.plain()[:event], *written.events, *document.plain()[event + 1 :]])


def _handed_on(
    document: YamlPlaces, path: Path, way: Sequence[Member], value: PlainData, kind: EntryKind | None
) -> Edit:
    """Return the first place that refers to it the mark, with what it means by now; then change it here."""
    stream, event = document.stream, way[-1].value
    mark, tag = stream.events[event][2:4]
    if tag is not None:
        raise EditRefused("a value with a tag cannot be changed here alone; edit the file by hand")
    first = stream.aliases(mark or "", event)[0]
    if first < stream.after(event):
        raise EditRefused("it refers to itself; edit the file by hand")
    old = flow(_tree(stream, event))
    events = [(*old.events[0][:2], mark, *old.events[0][3:]), *old.events[1:]]
    expected = [*document.plain()[:first], *events, *document.plain()[first + 1 :]]
    expected[event] = (*expected[event][:2], None, *expected[event][3:])
    alone = document.alone(document.text.spliced([_without_mark(document, event)]))
    change = alone.set(path, value, kind)
    cuts = [_without_mark(document, event), *_shifted(document, event, change)]
    cuts.append(Splice(*stream.spans[first], f"&{mark} {old.text}"))
    made = change.expected[: len(change.expected) - (len(document.plain()) - first)]
    return Edit(tuple(cuts), [*made, *expected[first:]])


def _marked(document: YamlPlaces, path: Path, value: PlainData, kind: EntryKind | None) -> Edit | None:
    """Change a marked value to which nothing refers: the mark goes with it."""
    stream = document.stream
    event = (stream.locate(path) or [])[-1].value
    if stream.events[event][3] is not None:
        raise EditRefused("a value with a tag cannot be changed here alone; edit the file by hand")
    alone = document.alone(document.text.spliced([_without_mark(document, event)]))
    change = alone.set(path, value, kind)
    return Edit((_without_mark(document, event), *_shifted(document, event, change)), change.expected)


def _shifted(document: YamlPlaces, event: int, change: Edit) -> list[Splice]:
    """Return an edit's cuts as they are in the text that still has an event's mark."""
    gone = _without_mark(document, event)
    by = gone.end - gone.start
    moved = [splice for splice in change.splices if splice.start >= gone.start]
    return [
        Splice(splice.start + by, splice.end + by, splice.new) if splice in moved else splice
        for splice in change.splices
    ]


def _without_mark(document: YamlPlaces, event: int) -> Splice:
    """Take the mark off a value, with the spaces between it and what follows, or else from what is before it."""
    body, start = document.text.body, document.stream.spans[event][0]
    found = re.compile(r"&[^\s,\[\]{}]+(?P<gap>[ \t]*)(?P<ends>[\r\n]|\Z)?").match(body, start)
    if found is None:
        raise EditRefused("its mark comes after a tag; edit the file by hand")
    if found["ends"] is None:
        return Splice(start, found.end("gap"), "")
    return Splice(len(body[:start].rstrip(" \t")), found.end("gap"), "")


def _with(tree: PlainData, path: Path, new: PlainData) -> PlainData:
    """Return lists and maps with another value at a path, or a new name in a map. Raises EditRefused."""
    if not path:
        return new
    step, rest = path[0], path[1:]
    if isinstance(tree, dict) and isinstance(step, str) and (step in tree or not rest):
        return {**tree, step: _with(tree.get(step), rest, new)}
    if isinstance(tree, list) and isinstance(step, int) and step < len(tree):
        return [*tree[:step], _with(tree[step], rest, new), *tree[step + 1 :]]
    raise EditRefused(f"there is no {step} in what is shared")


def _fitted(stream: Stream, meant: int, rest: Path, value: PlainData, kind: EntryKind | None) -> PlainData:
    way = [Member("", -1, meant)]
    for step in rest:
        way += [member for member in stream.members(way[-1].value) if member.step == step][-1:]
    there = stream.events[way[-1].value] if len(way) == len(rest) + 1 else None
    return fitted(value, kind, kind_of(there) if there and there[0] == "S" else None)


_DEEPEST = 200
_MOST_COPIED = 5_000
"""So many values are copied at most: references inside what is shared multiply it."""


def _tree(stream: Stream, event: int) -> PlainData:
    """Return what an event means as lists, maps and words.

    Raises EditRefused where a copy would mean something else.
    """
    return _copied(stream, event, (), count(1))


def _copied(stream: Stream, event: int, inside: tuple[int, ...], copied: Iterator[int]) -> PlainData:
    events: Event = stream.events[event]
    if event in inside or len(inside) > _DEEPEST or next(copied) > _MOST_COPIED:
        raise EditRefused("what is shared refers to itself, or is too much to copy; edit the file by hand")
    if events[0] == "*":
        return _copied(stream, stream.meant(event), (*inside, event), copied)
    if events[3] is not None:
        raise EditRefused("what is shared has a tag, so it is not copied; edit the file by hand")
    members = list(stream.members(event))
    inner = (*inside, event)
    if events[0] == "[":
        return [_copied(stream, member.value, inner, copied) for member in members]
    if events[0] == "{":
        if any(stream.events[member.key][0] != "S" or member.step == "<<" for member in members):
            raise EditRefused("what is shared takes in other things by <<, so it is not copied; edit the file by hand")
        return {str(member.step): _copied(stream, member.value, inner, copied) for member in members}
    if events[4] and kind_of(events) != "text":
        return Bare(events[1]) if events[1] else None
    return events[1]
