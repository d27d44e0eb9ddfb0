"""The records of a set, read out of a document: which there are, what names each, and what its fields hold.

How they are written is the business of their shape; see ``shapes``.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from decimal import Decimal
from typing import Any

from roundgate.core import values
from roundgate.core.formats.protocol import Document, Path
from roundgate.core.records.model import IN_BRACES, LISTS, Record
from roundgate.core.records.shapes import shape_of
from roundgate.core.records.shapes.places import place_of_set
from roundgate.core.rulebook.model import RecordField, RecordSet, Rulebook

_KNOWN: deque[tuple[Document, RecordSet, list[Record]]] = deque(maxlen=12)
"""The sets that were read last: a command asks for one again and again, and a set may be very large."""


def records_in(document: Document | None, spec: RecordSet) -> list[Record]:
    """Return the records of a set, in the order of the file; none where there is no document. The list is shared."""
    if document is None:
        return []
    for known, same, records in _KNOWN:
        if known is document and same is spec:
            return records
    records = shape_of(spec).read(document, spec)
    _KNOWN.append((document, spec, records))
    return records


def paths_of_records(document: Document, sets: Iterable[RecordSet]) -> set[Path]:
    """Return the paths of all entries of a document that belong to a record of one of the sets."""
    records = (record for spec in sets for record in records_in(document, spec))
    return {path for record in records for path in (record.path, *record.entry_paths())}


def homes_in(book: Rulebook, path: str) -> set[Path]:
    """Return the places in a file of the lists, maps and values that hold records."""
    return {place_of_set(spec).home for spec in book.records.values() if book.file[spec.file].path == path}


def file_below(book: Rulebook, spec: RecordSet) -> str:
    """Return the path of the file that the file of a set overrides; empty where there is none in the same format."""
    own = book.file[spec.file]
    return next(
        (file.path for file in book.file.values() if file.overridden_by == spec.file and file.format == own.format), ""
    )


def records_below(book: Rulebook, spec: RecordSet, document: Callable[[str], Document | None]) -> list[Record]:
    """Return records that only the overridden file has, so that they count. ``document`` gives a file by its path."""
    path = file_below(book, spec)
    if not path:
        return []
    own = {record.key for record in records_in(document(book.file[spec.file].path), spec)}
    return [record for record in records_in(document(path), spec) if record.key not in own]


def records_that_count(book: Rulebook, spec: RecordSet, document: Callable[[str], Document | None]) -> list[Record]:
    """Return the records of a set, and after them those that only the overridden file has."""
    own = records_in(document(book.file[spec.file].path), spec)
    below = records_below(book, spec, document)
    return [*own, *below] if below else own


def rows_of(document: Document | None, spec: RecordSet) -> list[dict[str, Any]]:
    """Return the records of a set as a rule sees them: each field's number, text or list, or its default."""
    return [
        {name: _field_value(record, name, field) for name, field in spec.field.items()}
        for record in records_in(document, spec)
    ]


def rows_with_named(book: Rulebook, name: str, document: Callable[[str], Document | None]) -> list[dict[str, Any]]:
    """Return the records of a set as a rule sees them, with the fields of those that they name: ``category.open``.

    ``document`` gives a file by its path.
    """
    spec = book.records[name]
    rows = rows_of(document(book.file[spec.file].path), spec)
    for field, described in spec.field.items():
        to = book.records.get(described.to) if described.type == "ref" else None
        if to is None:
            continue
        known: dict[str, dict[str, Any]] = {}
        for path in (file_below(book, to), book.file[to.file].path):  # what is in the second counts before the first
            other = document(path) if path else None
            keys = [record.key for record in records_in(other, to)]
            known.update(zip(keys, rows_of(other, to), strict=True))
        nothing = {inner: _default_value(described) for inner, described in to.field.items()}
        for row in rows:
            named = row[field]  # somebody may have written a list where one name belongs
            inner_fields = known.get(named, nothing) if isinstance(named, str) else nothing
            row.update({f"{field}.{inner}": value for inner, value in inner_fields.items()})
    return rows


def _default_value(field: RecordField) -> Any:
    with suppress(values.ValueProblem):
        value = values.default_of(field)
        if value is not None:
            return values.number_behind(value, field)
    return [] if field.type in LISTS else 0 if values.document_kind(field) == "number" else ""


def _field_value(record: Record, name: str, field: RecordField) -> Any:
    held = record.fields.get(name)
    if held is not None and (held.is_list or field.type in LISTS):
        return list(held.values) if held.is_list else [part for part in held.values[0].split(field.separator) if part]
    with suppress(values.ValueProblem):
        if held is not None and held.values:
            return values.number_behind(values.read(held.values[0], field), field)
    return _default_value(field)


def number_in(record: Record, field: str, spec: RecordSet) -> Decimal | None:
    """Return the number in a field, or its default; None where there is none."""
    described, stored = spec.field.get(field), record.value(field)
    with suppress(values.ValueProblem, ArithmeticError):
        if described is None:
            return None if stored is None else Decimal(stored)
        value = values.read(stored, described) if stored is not None else values.default_of(described)
        number = values.number_behind(value, described) if value is not None else None
        return Decimal(number) if isinstance(number, Decimal | int) and not isinstance(number, bool) else None
    return None


def find_records(records: Sequence[Record], spec: RecordSet, word: str) -> list[Record]:
    """Return the records that a word means: by their key; else, case aside, by key, title, or a name in the title."""
    exact = [record for record in records if record.key == word]
    if exact:
        return exact
    lowered = word.lower()
    by_key = [record for record in records if record.key.lower() == lowered]
    return by_key or [record for record in records if lowered in _names(record, spec)]


def _names(record: Record, spec: RecordSet) -> Iterator[str]:
    yield record.title(spec).lower()
    yield from ((record.value(field) or "").lower() for field in IN_BRACES.findall(spec.title))


def columns(records: Sequence[Record], spec: RecordSet) -> list[str]:
    """Return fields that a table of the records shows: the described ones, then others, in the order of the file."""
    found = dict.fromkeys(name for record in records for name in record.fields)
    return [*(name for name in spec.field if name in found), *(name for name in found if name not in spec.field)]


def referring(spec_name: str, sets: Mapping[str, RecordSet]) -> list[tuple[str, str, RecordField]]:
    """Return the fields of all sets that name records of one: set, field, and the field's description."""
    return [
        (name, field_name, field)
        for name, spec in sets.items()
        for field_name, field in spec.field.items()
        if field.to == spec_name
    ]
