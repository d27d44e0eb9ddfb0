"""What lies deeper in a record than its fields, such as a list of objects or a map, as a copy that can be stored."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from roundgate.core.formats.protocol import EntryKind, Path, PlainData
from roundgate.core.formats.shared.scalars import fitted
from roundgate.core.records.model import Record

Nested = tuple[Path, EntryKind, str]
"""A value: its path from the record, its kind, and its text."""


def is_deep(record: Record, field: str) -> bool:
    """Return whether a field is neither one value nor a plain list of values; a list with nothing in it is deep too."""
    held, depth = record.fields[field], len(record.path)
    if held.is_nested or any(entry.kind in ("list", "map") for entry in held.entries):  # of those, an empty one
        return True
    inner = [entry.path[depth:] for entry in held.entries]
    return any(len(path) > 2 or (len(path) == 2 and not isinstance(path[1], int)) for path in inner)


def nested_in(record: Record) -> tuple[Nested, ...]:
    """Return all that lies in the deep fields of a record."""
    depth = len(record.path)
    return tuple(
        (entry.path[depth:], entry.kind, entry.value)
        for name, held in record.fields.items()
        if is_deep(record, name)
        for entry in held.entries
    )


def trees_of(nested: Iterable[Nested]) -> dict[str, PlainData]:
    """Make the lists and maps of them again, by the key that each has in its record. The order of a list is kept."""
    top: dict[Any, Any] = {}
    for path, kind, text in nested:
        here = top
        for step in path[:-1]:
            here = here.setdefault(step, {})
        here[path[-1]] = _value(kind, text)
    return {str(key): _as_lists(tree) for key, tree in top.items()}


def _value(kind: EntryKind, text: str) -> PlainData:
    if kind in ("list", "map"):  # an empty one
        return [] if kind == "list" else {}
    if kind == "code":
        from roundgate.core.formats.lua.writer import Code  # a format is loaded where it is needed

        return Code(text)
    return fitted(text, kind, None)


def _as_lists(tree: Any) -> PlainData:
    """Turn what is counted into a list, and leave the rest."""
    if not isinstance(tree, dict):
        return tree
    made = {key: _as_lists(item) for key, item in tree.items()}
    return list(made.values()) if made and all(isinstance(key, int) for key in made) else made
