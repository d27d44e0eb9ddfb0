"""Where a rank is, for a finding about it."""

from __future__ import annotations

from roundgate.core.checks.context import CheckContext
from roundgate.core.findings import Place
from roundgate.core.ranks.reading import record_place, records_of
from roundgate.core.rulebook.model import Ranks


def group_place(context: CheckContext, spec: Ranks, name: str) -> Place:
    """Return the place of a rank; of one that is a number, the file."""
    if spec.levels:
        return Place(context.book.file[context.book.records[spec.levels].file].path)
    found = next((record for record in records_of(context.files, spec.groups) if record.key == name), None)
    return context.shown(record_place(context.files, spec.groups, found)) if found is not None else Place("")
