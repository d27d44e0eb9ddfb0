"""Sets of records that no rulebook describes, found by their looks: a list of objects, or a map of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec.structs import replace

from roundgate.core.files import ServerFiles
from roundgate.core.formats.places import key_of
from roundgate.core.formats.protocol import Document, Path
from roundgate.core.records.model import Record
from roundgate.core.records.sets import records_in
from roundgate.core.records.shapes.places import place_of_set
from roundgate.core.rulebook.model import File, RecordSet, Rulebook

_NAMES = ("id", "name", "key", "uid", "title", "@id", "@name")
"""Fields that name a record, the likeliest first."""


def set_by_looks(document: Document, path: Path) -> RecordSet | None:
    """Describe the records at a path: objects that share a field; None where none are there."""
    home = key_of(path)
    in_list = RecordSet(file="", at=f"{home}[*]" if home else "[*]")
    records = records_in(document, in_list)
    if records:
        key = _naming_field(records)
        return replace(in_list, key=key) if key else None
    in_map = RecordSet(file="", at=f"{home}.*" if home else "*")
    records = records_in(document, in_map)
    shared = set.intersection(*(set(record.fields) for record in records)) if len(records) > 1 else set()
    return in_map if shared else None


def _naming_field(records: Sequence[Record]) -> str:
    """Return the field that names the records of a list: one that all have, each with another value."""
    fields = [field for field in records[0].fields if all(record.value(field) for record in records)]
    unique = [field for field in fields if len({record.value(field) for record in records}) == len(records)]
    return next((name for name in _NAMES if name in unique), unique[0] if unique else "")


def with_looks(book: Rulebook, files: ServerFiles, word: str) -> tuple[Rulebook, str]:
    """Return a book that describes what ``FILE:PATH`` or ``FILE:PATH/RECORD`` names, and the address as it names it.

    Where the rulebook describes that set already, its name takes the place of ``FILE:PATH``.
    """
    file, colon, rest = word.partition(":")
    document = files.document(file) if colon else None
    if document is None:
        return book, word
    where, slash, record = rest.partition("/")
    path = document.resolve(where) if where else ()
    described = _described(book.records, book, file, path)
    if described:
        return book, described + slash + record
    spec = set_by_looks(document, path)
    if spec is None:
        return book, word
    name, known = f"{file}:{where}", {file.path: name for name, file in book.file.items()}
    files_too = book.file if file in known else {**book.file, file: File(path=file, format=files.format_name(file))}
    spec = replace(spec, file=known.get(file, file), partly=True)
    return replace(book, file=files_too, records={**book.records, name: spec}), word


def _described(sets: Mapping[str, RecordSet], book: Rulebook, file: str, path: Path) -> str:
    for name, spec in sets.items():
        if book.file[spec.file].path == file and place_of_set(spec).home == path:
            return name
    return ""
