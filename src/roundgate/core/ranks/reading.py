"""Reading a server's ranks: groups out of a set of records, members out of rosters."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress

from roundgate.core.files import ServerFiles
from roundgate.core.findings import Place
from roundgate.core.formats.places import find_key
from roundgate.core.formats.protocol import Entry as FileEntry
from roundgate.core.people.book import People
from roundgate.core.ranks.model import Entry, Group, Member, Scheme
from roundgate.core.records.model import Held, Record
from roundgate.core.records.sets import records_in
from roundgate.core.rulebook.model import Ranks, RecordSet


def scheme_of(files: ServerFiles, people: People | None = None) -> Scheme | None:
    """Read the ranks of a server as its files have them; None where its rulebook says nothing of ranks."""
    book, spec = files.book, files.book.ranks
    if spec is None:
        return None
    groups = book.records[spec.groups]
    path = book.file[groups.file].path
    found = {
        record.key: _group(record, spec, files, path, groups) for record in records_in(files.document(path), groups)
    }
    return Scheme(
        found,
        _members(files, spec, people),
        default=_default(files, spec),
        order=spec.order,
        any_case=spec.any_case,
        unknown=spec.unknown == "may",
        wildcard=spec.wildcard,
    )


def _group(record: Record, spec: Ranks, files: ServerFiles, path: str, groups: RecordSet) -> Group:
    entries = [
        (entry.start, Entry(entry.value, allows, record.key, _place(files, path, entry)))
        for field, allows in ((spec.may, True), (spec.never, False))
        for entry in _entries(record.fields.get(field), groups, field)
    ]
    entries.sort(key=lambda one: one[0])  # as the file has them, grants and denials among each other
    parents = record.fields.get(spec.also)
    power = 0.0
    with suppress(ValueError):
        power = float(record.value(spec.power) or 0) if spec.power else 0.0
    names = tuple(entry.value for entry in _entries(parents, groups, spec.also))
    return Group(record.key, tuple(entry for _, entry in entries), names, power)


def _entries(held: Held | None, groups: RecordSet, field: str) -> list[FileEntry]:
    """Give the entries of a field that holds several, each with its own value: also where one value holds them all."""
    if held is None:
        return []
    if held.is_list:
        return [entry for entry in held.entries if entry.kind not in ("list", "map")]
    described = groups.field.get(field)
    separator = described.separator if described is not None else ","
    return [
        entry._replace(value=part.strip())
        for entry in held.entries
        for part in entry.value.split(separator)
        if part.strip()
    ]


def _place(files: ServerFiles, path: str, entry: FileEntry) -> Place:
    document = files.document(path)
    if document is None:
        return Place(path)
    line, column = document.text.place(entry.start)
    return Place(path, line, column, max(1, entry.end - entry.start))


def _default(files: ServerFiles, spec: Ranks) -> str:
    """Give the group of those who are in none: by a key of a file, else as the rulebook says."""
    file, colon, key = spec.newcomers.partition(":")
    if not colon:
        return spec.newcomers
    entry = find_key(files.document(file), key)
    return entry.value if entry is not None else ""


def _members(files: ServerFiles, spec: Ranks, people: People | None) -> Mapping[str, Member]:
    book = files.book
    groups: dict[str, list[str]] = {}
    names: dict[str, str] = {}
    for name in spec.members:
        roster = book.roster[name]
        records = book.records[roster.records]
        for record in records_in(files.document(book.file[records.file].path), records):
            key = people.named(record.key, book.kind) if people is not None else ""
            known = people.people[key].name if people is not None and key else record.value("name")
            names[record.key] = known or names.get(record.key, "") or record.key
            rank = record.value(roster.rank) if roster.rank else None
            groups.setdefault(record.key, [])
            if rank:
                groups[record.key].append(rank)
    return {one: Member(one, names[one], tuple(found)) for one, found in groups.items()}
