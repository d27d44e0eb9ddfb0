"""Records that are one text each, in a form: repeated commands, items of a list, values of a map, pairs in a list."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from roundgate.core.formats.protocol import Document, EditRefused, Entry, EntryKind, Path
from roundgate.core.records.model import HeldField, Record
from roundgate.core.records.shapes.forms import fields_of, text_of, with_field
from roundgate.core.records.shapes.places import entries_by_record, is_begun, place_of_set
from roundgate.core.records.shapes.protocol import Editor
from roundgate.core.rulebook.model import RecordSet

PAIR = ": "
"""What stands between the two texts of an entry such as ``- GW-7K3M-Q2XD: marshal``, which YAML reads as a map."""


class Texts:
    """Records that are a whole text each."""

    def read(self, document: Document, spec: RecordSet) -> list[Record]:
        """See Shape."""
        groups = entries_by_record(document, spec)
        return [record_of(path, _text(path, entries), entries[0], spec) for path, entries in groups.items()]

    def set_field(self, editor: Editor, spec: RecordSet, record: Record, field: str, value: str | None) -> None:
        """See Shape."""
        old = self._text_of(editor.document, spec, record)
        self._write(editor, spec, record.path, with_field(old, spec, field, value))

    def replace(self, editor: Editor, spec: RecordSet, record: Record, field: str, old: str, new: str) -> None:
        """See Shape."""
        if record.value(field) == old:
            self.set_field(editor, spec, record, field, new)

    def add(self, editor: Editor, spec: RecordSet, key: str, values: Mapping[str, str], at: int | None) -> None:
        """See Shape."""
        place, records = place_of_set(spec), self.read(editor.document, spec)
        text = text_of(values, spec)
        if place.is_map:
            editor.make(editor.document.set((*place.home, key), text))
            return
        made: object = text
        if editor.format.name in ("yaml", "json", "toml") and PAIR in text:
            made = dict([text.split(PAIR, 1)])
        number = len(records) if at is None else min(at, len(records))
        if is_begun(editor.document, place, records) or editor.format.name in ("ini", "launch"):
            editor.make(editor.document.insert((*place.home, number), made, _kind(editor)))
        else:
            editor.make(editor.document.set(place.home, text if _kind(editor) else [made], _kind(editor)))

    def remove(self, editor: Editor, spec: RecordSet, record: Record) -> None:
        """See Shape."""
        editor.make(editor.document.remove(record.path))

    def rename(self, editor: Editor, spec: RecordSet, record: Record, new: str) -> None:
        """See Shape. Raises EditRefused."""
        if spec.key != "*":
            self.set_field(editor, spec, record, spec.key, new)
        elif isinstance(record.path[-1], str):
            editor.make(editor.document.rename(record.path, new))
        else:
            raise EditRefused("the form names no field by which its records are called")

    def move(self, editor: Editor, spec: RecordSet, record: Record, to: int) -> None:
        """See Shape. Raises EditRefused. Only a list has an order that can be changed."""
        if place_of_set(spec).is_map:
            raise EditRefused("they are the entries of a map, whose order means nothing")
        editor.make(editor.document.move(record.path, to))

    def _text_of(self, document: Document, spec: RecordSet, record: Record) -> str:
        return _text(record.path, entries_by_record(document, spec)[record.path])

    def _write(self, editor: Editor, spec: RecordSet, path: Path, text: str) -> None:
        entries = entries_by_record(editor.document, spec)[path]
        if not _is_pair(path, entries):
            editor.make(editor.document.set(path, text, _kind(editor)))
            return
        name, gap, value = text.partition(PAIR)
        if not gap:
            raise EditRefused(f"'{text}' must have a '{PAIR.strip()}' in it, like its neighbours")
        old, whole = entries[0], (*path, entries[0].path[-1])
        if value != old.value:
            editor.make(editor.document.set(whole, value))
        if name != whole[-1]:
            editor.make(editor.document.rename(whole, name))


def _kind(editor: Editor) -> EntryKind | None:
    """In a file of commands, the words of a record are written as they are, without quotes around them all."""
    return "code" if editor.format.name == "directives" else None


def _is_pair(path: Path, entries: Sequence[Entry]) -> bool:
    return len(entries) == 1 and len(entries[0].path) == len(path) + 1 and isinstance(entries[0].path[-1], str)


def _text(path: Path, entries: Sequence[Entry]) -> str:
    if _is_pair(path, entries):
        return f"{entries[0].path[-1]}{PAIR}{entries[0].value}"
    return entries[0].value


def record_of(path: Path, text: str, entry: Entry, spec: RecordSet) -> Record:
    """Read a record out of a text; one that is not of the form has its text as its key, and no fields."""
    found = fields_of(text, spec) if spec.form else None
    if found is None:
        return Record(text if spec.parts else _name(path, text), path, {})
    has_its_text = entry.end - entry.start == len(text) and entry.value == text
    fields = {
        name: HeldField(
            (value,),
            is_list=False,
            entries=(
                entry._replace(
                    path=path,
                    value=value,
                    start=entry.start + (start if has_its_text else 0),
                    end=entry.start + stop if has_its_text else entry.end,
                ),
            ),
        )
        for name, (value, start, stop) in found.items()
    }
    if spec.key != "*":
        key = fields[spec.key].values[0] if spec.key in fields else ""
    else:
        key = text if spec.parts else _name(path, text)
    return Record(key, path, fields)


def _name(path: Path, text: str) -> str:
    """Return what names a record that no field names: its name in a map, else its text."""
    return path[-1] if path and isinstance(path[-1], str) else text
