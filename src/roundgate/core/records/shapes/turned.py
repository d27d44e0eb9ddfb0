"""Records of a matrix turned on its side: ``race.start: [marshal, coxswain]``, where the roles are the records.

The names of the map (``race.start``) are the values of the records' one field.
"""

from __future__ import annotations

from collections.abc import Mapping

from roundgate.core.formats.protocol import Document, EditRefused, Entry, Path
from roundgate.core.records.model import HeldField, Record, separator_of
from roundgate.core.records.shapes.places import place_of_set
from roundgate.core.records.shapes.protocol import Editor
from roundgate.core.rulebook.model import RecordSet


class Turned:
    """Records that stand in lists, each of which is one value of theirs."""

    def read(self, document: Document, spec: RecordSet) -> list[Record]:
        """See Shape. A record is known by being in one of the lists."""
        found: dict[str, list[Entry]] = {}
        for name, entries in _rows(document, spec).items():
            for entry in entries:
                found.setdefault(entry.value, []).append(entry._replace(value=name))
        return [
            Record(
                key,
                (),
                {spec.turned: HeldField(tuple(entry.value for entry in held), is_list=True, entries=tuple(held))},
            )
            for key, held in found.items()
        ]

    def set_field(self, editor: Editor, spec: RecordSet, record: Record, field: str, value: str | None) -> None:
        """See Shape."""
        wanted = [name for name in (value or "").split(separator_of(field, spec)) if name]
        rows = _rows(editor.document, spec)
        unknown = [name for name in wanted if name not in rows]
        for name, entries in rows.items():
            at = [number for number, entry in enumerate(entries) if entry.value == record.key]
            if name in wanted and not at:
                self._put(editor, spec, name, record.key)
            elif name not in wanted:
                for number in reversed(at):
                    editor.make(editor.document.remove(entries[number].path))
        for name in unknown:
            editor.make(editor.document.set((*place_of_set(spec).home, name), [record.key]))

    def _put(self, editor: Editor, spec: RecordSet, name: str, key: str) -> None:
        path: Path = (*place_of_set(spec).home, name)
        editor.make(editor.document.insert((*path, len(_rows(editor.document, spec)[name])), key))

    def replace(self, editor: Editor, spec: RecordSet, record: Record, field: str, old: str, new: str) -> None:
        """See Shape."""
        editor.make(editor.document.rename((*place_of_set(spec).home, old), new))

    def add(self, editor: Editor, spec: RecordSet, key: str, values: Mapping[str, str], at: int | None) -> None:
        """See Shape. Raises EditRefused. A record without a value cannot be written: it would be in no list."""
        if not values.get(spec.turned):
            raise EditRefused(f"{key} needs a {spec.turned}, or it is nowhere in the file")
        self.set_field(editor, spec, Record(key, (), {}), spec.turned, values[spec.turned])

    def remove(self, editor: Editor, spec: RecordSet, record: Record) -> None:
        """See Shape. It goes out of all lists; a list of nobody else stays, empty."""
        self.set_field(editor, spec, record, spec.turned, None)

    def rename(self, editor: Editor, spec: RecordSet, record: Record, new: str) -> None:
        """See Shape."""
        for entries in _rows(editor.document, spec).values():
            for entry in entries:
                if entry.value == record.key:
                    editor.make(editor.document.set(entry.path, new))

    def move(self, editor: Editor, spec: RecordSet, record: Record, to: int) -> None:
        """See Shape. Raises EditRefused. They have no order of their own."""
        raise EditRefused("they stand in several lists, and have no order of their own")


def _rows(document: Document, spec: RecordSet) -> dict[str, list[Entry]]:
    """Return the lists of a matrix by their names; an empty one too."""
    home = place_of_set(spec).home
    rows: dict[str, list[Entry]] = {}
    for entry in document.entries():
        if len(entry.path) > len(home) and entry.path[: len(home)] == home:
            row = rows.setdefault(str(entry.path[len(home)]), [])
            if len(entry.path) == len(home) + 2 and isinstance(entry.path[-1], int):
                row.append(entry)
    return rows
