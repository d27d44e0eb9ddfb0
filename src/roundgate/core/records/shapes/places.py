"""Where the records of a set are in the tree of a document: the items of a list, or the entries of a map."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from roundgate.core.formats.protocol import Document, Entry, Path
from roundgate.core.formats.shared.paths import parse_path
from roundgate.core.rulebook.model import RecordSet


class RecordPlace(Struct, frozen=True):
    """The path of the list or map that holds the records of a set, and which of the two it is."""

    home: Path
    is_map: bool


def place_of_set(spec: RecordSet) -> RecordPlace:
    """Read the ``at`` of a set. Raises ValueError where it names no place for records."""
    if spec.parts:
        return RecordPlace(parse_path(spec.at), is_map=False)
    if spec.at == "*" or spec.at.endswith(".*"):
        return RecordPlace(parse_path(spec.at[:-2]) if len(spec.at) > 1 else (), is_map=True)
    if spec.at.endswith("[*]"):
        return RecordPlace(parse_path(spec.at[:-3]) if len(spec.at) > 3 else (), is_map=False)
    raise ValueError(f"'{spec.at}' must end with [*] (the items of a list) or .* (the entries of a map)")


def entries_by_record(document: Document, spec: RecordSet) -> dict[Path, list[Entry]]:
    """Return the entries of a document that belong to records of a set, by the record's path, in the file's order.

    A command that stands several times in a file of commands is a list; its items are numbered.
    """
    place = place_of_set(spec)
    depth = len(place.home)
    groups: dict[Path, list[Entry]] = {}
    home, is_map, last = place.home, place.is_map, None
    for entry in document.entries():
        path = entry.path
        if depth and path[:depth] != home:
            continue
        if len(path) > depth:
            if isinstance(path[depth], str) == is_map:
                key = path[: depth + 1]
                if key != last:  # those of one record are neighbours
                    last, group = key, groups.setdefault(key, [])
                group.append(entry)
        elif depth and not place.is_map and entry.kind not in ("list", "map"):
            path = (*place.home, len(groups))
            groups[path] = [entry._replace(path=path)]
    return groups


def is_begun(document: Document, place: RecordPlace, records: Sequence[object]) -> bool:
    """Return whether the list of a set already exists, so that an item can be put into it."""
    return bool(records) or not place.home or document.find(place.home) is not None
