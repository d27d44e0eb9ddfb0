"""A few fields of many records: from a very large file without the places of all that is in it."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence

from roundgate.core.formats.protocol import Document
from roundgate.core.formats.shared.gc_paused import gc_paused
from roundgate.core.records.model import field_key, parts_in
from roundgate.core.records.sets import records_in
from roundgate.core.records.shapes.places import place_of_set
from roundgate.core.rulebook.model import RecordSet

Row = tuple[str, tuple[tuple[str, ...], ...]]
"""The key of a record, and the values of each field that was asked for."""
_LARGE = 1_000_000


def rows_with(
    document: Document | None, spec: RecordSet, fields: Sequence[str], *, quick: bool = True
) -> Iterator[Row]:
    """Yield the key and some fields of each record of a set. ``quick`` is off to compare both ways.

    A large JSON list of objects with plain values is decoded and no more; all else is read as records.
    """
    found = _decoded(document, spec, fields) if quick else None
    if found is not None:
        yield from found
        return
    for record in records_in(document, spec):
        held = (record.fields.get(name) for name in fields)
        yield (
            record.key,
            tuple(
                tuple(part for part in parts_in(row, name, spec) if part) if row is not None else ()
                for name, row in zip(fields, held, strict=True)
            ),
        )


def _decoded(document: Document | None, spec: RecordSet, fields: Sequence[str]) -> list[Row] | None:
    """Decode the records of a large list; None where that would not give just what reading them does."""
    if document is None or document.format_name != "json" or len(document.text.body) < _LARGE:
        return None
    from roundgate.core.formats.json.document import JsonDocument  # a format is loaded where it is needed

    if not isinstance(document, JsonDocument) or document.error:
        return None
    place = place_of_set(spec)
    keys = [field_key(name, spec) for name in (spec.key, *fields)]
    is_plain = not (spec.form or spec.parts or spec.signs or spec.turned or place.is_map or spec.key == "*")
    if not is_plain or document.has_doubles or any("." in key or "[" in key or '"' in key for key in keys):
        return None
    with gc_paused():
        tree = json.JSONDecoder(parse_int=str, parse_float=str, parse_constant=str, strict=False).decode(
            document.strict
        )
        for step in place.home:
            tree = tree.get(step) if isinstance(tree, dict) else None
        if not isinstance(tree, list):
            return None
        found: list[Row] = []
        for row in tree:
            values: list[str] = [row.get(key, "") for key in keys] if isinstance(row, dict) else []
            if not values or any(value.__class__ is not str for value in values):
                return None  # a list, a switch, a map: the records know what to make of it
            found.append((values[0], tuple((value,) if value else () for value in values[1:])))
    return found
