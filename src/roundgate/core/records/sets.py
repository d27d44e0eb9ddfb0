"""The records of a set, read out of a document: which there are, what names each, and what its fields hold.

A document of any format is paths and values, so one reader serves all: the items of a list (``officers[*]``), the
entries of a map (``ranks.*``), and the lines of a file (``[*]``), whole or in parts.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence

from msgspec import Struct

from roundgate.core.formats.places import key_of
from roundgate.core.formats.protocol import Document, Entry, Path
from roundgate.core.formats.shared.paths import parse_path
from roundgate.core.rulebook.model import RecordField, RecordSet

_IN_TITLE = re.compile(r"\{([\w.-]+)\}")


class Place(Struct, frozen=True):
    """Where the records of a set are: the path of the list or map that holds them, and which of the two it is."""

    home: Path
    is_map: bool


def place_of_set(spec: RecordSet) -> Place:
    """Read the ``at`` of a set. Raises ValueError where it names no place for records."""
    if spec.at == "*" or spec.at.endswith(".*"):
        return Place(parse_path(spec.at[:-2]) if len(spec.at) > 1 else (), is_map=True)
    if spec.at.endswith("[*]"):
        return Place(parse_path(spec.at[:-3]) if len(spec.at) > 3 else (), is_map=False)
    raise ValueError(f"'{spec.at}' must end with [*] (the items of a list) or .* (the entries of a map)")


class Held(Struct, frozen=True):
    """What a record has in one field: a single value, or the values of a list, and the entries that hold them."""

    values: tuple[str, ...]
    is_list: bool
    entries: tuple[Entry, ...]
    is_nested: bool = False
    """True where it holds records of its own, which are not read further."""

    @property
    def shown(self) -> str:
        """The value as a person reads it."""
        if self.is_nested:
            return f"({len(self.entries)} values)"
        return ", ".join(self.values)


class Record(Struct, frozen=True):
    """One record: its name, its place in the file, and its fields by their names in the rulebook, or by their keys."""

    key: str
    path: Path
    fields: dict[str, Held]

    def value(self, field: str) -> str | None:
        """Give the single value of a field, None where there is none."""
        held = self.fields.get(field)
        return held.values[0] if held is not None and held.values and not held.is_list else None

    def entry_paths(self) -> Iterator[Path]:
        """Give the paths of all values that it has."""
        yield from (entry.path for held in self.fields.values() for entry in held.entries)

    def title(self, spec: RecordSet) -> str:
        """Give what a person calls it: by the set's pattern, else its key."""
        if not spec.title:
            return self.key
        return _IN_TITLE.sub(lambda match: self.value(match[1]) or self.key, spec.title)


def records_in(document: Document | None, spec: RecordSet) -> list[Record]:
    """Give the records of a set, in the order of the file; none where there is no file."""
    if document is None:
        return []
    place = place_of_set(spec)
    depth = len(place.home)
    groups: dict[Path, list[Entry]] = {}
    for entry in document.entries():
        is_within = len(entry.path) > depth and entry.path[:depth] == place.home
        if is_within and isinstance(entry.path[depth], str) == place.is_map:
            groups.setdefault(entry.path[: depth + 1], []).append(entry)
    for path in groups:
        parts = (document.find((*path, part)) for part in document.dialect.fields)
        groups[path] += [part for part in parts if part is not None]
    names = {key_of(parse_path(field.key)) if field.key else name: name for name, field in spec.field.items()}
    return [_record(path, entries, spec, names) for path, entries in groups.items()]


def paths_of_records(document: Document, sets: Iterable[RecordSet]) -> set[Path]:
    """Give the paths of all entries of a document that belong to a record of one of the sets."""
    records = (record for spec in sets for record in records_in(document, spec))
    return {path for record in records for path in (record.path, *record.entry_paths())}


def _record(path: Path, entries: Sequence[Entry], spec: RecordSet, names: Mapping[str, str]) -> Record:
    fields: dict[str, list[Entry]] = {}
    for entry in entries:
        inner = entry.path[len(path) :]
        if inner:
            plain = [step for step in inner if isinstance(step, str)]
            key = key_of(tuple(plain[:1] if len(plain) < len(inner) else inner))
            fields.setdefault(names.get(key, key), []).append(entry)
    held = {name: _held(found, len(path)) for name, found in fields.items()}
    return Record(_key(path, entries, spec, held), path, held)


def _held(entries: Sequence[Entry], depth: int) -> Held:
    inner = [entry.path[depth:] for entry in entries]
    is_list = any(isinstance(step, int) for path in inner for step in path)
    is_nested = any(len(path) > 2 for path in inner)
    return Held(tuple(entry.value for entry in entries), is_list, tuple(entries), is_nested)


def _key(path: Path, entries: Sequence[Entry], spec: RecordSet, held: Mapping[str, Held]) -> str:
    if spec.key != "*":
        named = held.get(spec.key)
        return named.values[0] if named is not None and named.values else ""
    if isinstance(path[-1], str):
        return path[-1]
    return next((entry.value for entry in entries if entry.path == path), str(path[-1]))


def find_records(records: Sequence[Record], spec: RecordSet, word: str) -> list[Record]:
    """Give the records that a word means: by their key; else, case aside, by key, title, or a name in the title."""
    exact = [record for record in records if record.key == word]
    if exact:
        return exact
    lowered = word.lower()
    by_key = [record for record in records if record.key.lower() == lowered]
    return by_key or [record for record in records if lowered in _names(record, spec)]


def _names(record: Record, spec: RecordSet) -> Iterator[str]:
    yield record.title(spec).lower()
    yield from ((record.value(field) or "").lower() for field in _IN_TITLE.findall(spec.title))


def field_key(name: str, spec: RecordSet) -> str:
    """Give the key that a field has in the file."""
    field = spec.field.get(name)
    return (field.key or name) if field is not None else name


def columns(records: Sequence[Record], spec: RecordSet) -> list[str]:
    """Give the fields that a table of the records shows: the described ones, then others, in the order of the file."""
    found = dict.fromkeys(name for record in records for name in record.fields)
    return [*(name for name in spec.field if name in found), *(name for name in found if name not in spec.field)]


def referring(spec_name: str, sets: Mapping[str, RecordSet]) -> list[tuple[str, str, RecordField]]:
    """Give the fields of all sets that name records of one: set, field, and the field's description."""
    return [
        (name, field_name, field)
        for name, spec in sets.items()
        for field_name, field in spec.field.items()
        if field.to == spec_name
    ]
