"""The order of records: sorted by a field, or a field renumbered in the order that they have."""

from __future__ import annotations

from decimal import Decimal

from roundgate.api.record_addresses import set_named
from roundgate.api.record_changes import RecordChanges
from roundgate.api.server import OpenServer
from roundgate.core import values
from roundgate.core.nearest import nearest
from roundgate.core.next_step import did_you_mean, typed_command
from roundgate.core.operations.base import Operation
from roundgate.core.operations.records import MoveRecord, SetField
from roundgate.core.records.model import Record, separator_of
from roundgate.core.records.shapes.places import place_of_set
from roundgate.core.rulebook.model import RecordSet
from roundgate.core.values import ValueProblem
from roundgate.host.errors import UnknownName, WrongUsage


def arranged(server: OpenServer, name: str, field: str, *, falling: bool = False) -> list[Operation]:
    """Make the operations that put the records of a set in the order of a field. Raises UnknownName or WrongUsage."""
    changes = RecordChanges(server.workspace)
    name, spec = _set(server, name)
    field = _field(name, spec, field)
    if place_of_set(spec).is_map:
        raise WrongUsage(
            f"The records of {name} are the entries of a map, whose order means nothing.",
            typed_command("arrange", server.name, name, options=("--number", "<field>")),
        )
    records = list(changes.records(name))
    wanted = _sorted(records, spec, field, falling=falling)
    path = server.book.file[spec.file].path
    now = [record.key for record in records]
    made: list[Operation] = []
    for at, record in enumerate(wanted):
        if now[at] != record.key:
            made.append(MoveRecord(path, name, record.key, at))
            now.remove(record.key)
            now.insert(at, record.key)
    return made


def numbered(server: OpenServer, name: str, field: str, start: int = 1, step: int = 1) -> list[Operation]:
    """Make the operations that renumber a field: in the file's order, or of a map in the order that it says now.

    Raises UnknownName or WrongUsage.
    """
    changes = RecordChanges(server.workspace)
    name, spec = _set(server, name)
    field = _field(name, spec, field)
    if spec.field[field].type not in ("int", "decimal"):
        raise WrongUsage(f"{name}.{field} is not a number.", typed_command("explain", server.name, name))
    records = list(changes.records(name))
    if place_of_set(spec).is_map:
        records = _sorted(records, spec, field, falling=False)
    path = server.book.file[spec.file].path
    made: list[Operation] = []
    for at, record in enumerate(records):
        held = record.fields.get(field)
        held_before = separator_of(field, spec).join(held.values) if held is not None else None
        stored = changes.stored(f"{name}/{{}}.{field}", spec.field[field], str(start + at * step), (record,))
        if stored != held_before:
            made.append(SetField(path, name, record.key, field, stored, held_before))
    return made


def _set(server: OpenServer, word: str) -> tuple[str, RecordSet]:
    name = set_named(server.book, word)
    if not name:
        near = nearest(word, server.book.records)
        raise UnknownName(f"No set of records is called '{word}'.", did_you_mean(word, near) if near else "")
    return name, server.book.records[name]


def _field(name: str, spec: RecordSet, word: str) -> str:
    known = {field.lower(): field for field in spec.field}
    if word.lower() in known:
        return known[word.lower()]
    near = nearest(word, spec.field)
    raise UnknownName(
        f"{name} has no field '{word}'.", did_you_mean(word, near) if near else f"Fields: {', '.join(spec.field)}"
    )


def _sorted(records: list[Record], spec: RecordSet, field: str, *, falling: bool) -> list[Record]:
    """Sort records by a field, numbers as numbers; those with the same stay as they are, those without it come last."""

    def key(record: Record) -> tuple[int, Decimal, str]:
        stored = record.value(field)
        if stored is None:
            return (2, Decimal(0), "")
        try:
            value = values.number_behind(values.read(stored, spec.field[field]), spec.field[field])
        except ValueProblem:
            return (1, Decimal(0), stored.lower())
        if isinstance(value, Decimal | int) and not isinstance(value, bool):
            return (0, Decimal(value), "")
        return (0, Decimal(0), str(value).lower())

    with_it = [record for record in records if record.value(field) is not None]
    return [*sorted(with_it, key=key, reverse=falling), *(record for record in records if record.value(field) is None)]
