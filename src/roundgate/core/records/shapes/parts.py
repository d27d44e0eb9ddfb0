"""Records that are the parts of one value, each whole or in a form: ``GW-7K3M-Q2XD, GW-8P2C-W4TN``, ``rope|0.25``."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec import Struct

from roundgate.core.formats.protocol import Document, EditRefused, Entry
from roundgate.core.records.model import Record
from roundgate.core.records.shapes.forms import text_of, with_field
from roundgate.core.records.shapes.places import place_of_set
from roundgate.core.records.shapes.protocol import Editor
from roundgate.core.records.shapes.texts import record_of
from roundgate.core.rulebook.model import RecordSet


class _Part(Struct, frozen=True):
    """One part of a value, without the spaces around it: its text, and where it is in the value."""

    text: str
    start: int
    end: int


def _parts(value: str, separator: str) -> list[_Part]:
    found, at = [], 0
    for raw in value.split(separator) if separator.strip() else value.split():
        if not separator.strip():
            at = value.index(raw, at)
            found.append(_Part(raw, at, at + len(raw)))
            at += len(raw)
            continue
        start = at + len(raw) - len(raw.lstrip())
        text = raw.strip()
        if text:  # between two separators that stand side by side there is nobody
            found.append(_Part(text, start, start + len(text)))
        at += len(raw) + len(separator)
    return found


class Parts:
    """Records that share one value with each other."""

    def read(self, document: Document, spec: RecordSet) -> list[Record]:
        """See Shape."""
        entry = document.find(place_of_set(spec).home)
        if entry is None or entry.kind in ("list", "map"):
            return []
        is_plain = entry.end - entry.start == len(entry.value)
        found = []
        for part in _parts(entry.value, spec.parts):
            start, end = (entry.start + part.start, entry.start + part.end) if is_plain else (entry.start, entry.end)
            here = entry._replace(value=part.text, start=start, end=end)
            found.append(record_of(place_of_set(spec).home, part.text, here, spec))
        return found

    def set_field(self, editor: Editor, spec: RecordSet, record: Record, field: str, value: str | None) -> None:
        """See Shape."""
        part = self._part(editor, spec, record)
        self._put(editor, spec, part.start, part.end, with_field(part.text, spec, field, value))

    def replace(self, editor: Editor, spec: RecordSet, record: Record, field: str, old: str, new: str) -> None:
        """See Shape."""
        if record.value(field) == old:
            self.set_field(editor, spec, record, field, new)

    def add(self, editor: Editor, spec: RecordSet, key: str, values: Mapping[str, str], at: int | None) -> None:
        """See Shape. Raises EditRefused."""
        text = text_of(values, spec) if spec.form else key
        if (spec.parts.strip() and spec.parts in text) or (not spec.parts.strip() and " " in text):
            raise EditRefused(f"'{text}' contains their separator, '{spec.parts}'")
        value = self._value(editor, spec)
        parts = _parts(value, spec.parts)
        if not parts:
            editor.make(editor.document.set(place_of_set(spec).home, text))
        elif at is not None and at < len(parts):
            self._put(editor, spec, parts[at].start, parts[at].start, text + _gap(value, parts, spec))
        else:
            self._put(editor, spec, parts[-1].end, parts[-1].end, _gap(value, parts, spec) + text)

    def remove(self, editor: Editor, spec: RecordSet, record: Record) -> None:
        """See Shape. The separator after it goes with it; of the last one, the separator before it."""
        parts = _parts(self._value(editor, spec), spec.parts)
        number = self._number(parts, spec, record)
        if number + 1 < len(parts):
            self._put(editor, spec, parts[number].start, parts[number + 1].start, "")
        else:
            self._put(editor, spec, parts[number - 1].end if number else parts[0].start, parts[number].end, "")

    def rename(self, editor: Editor, spec: RecordSet, record: Record, new: str) -> None:
        """See Shape."""
        if spec.key != "*":
            self.set_field(editor, spec, record, spec.key, new)
            return
        part = self._part(editor, spec, record)
        self._put(editor, spec, part.start, part.end, new)

    def move(self, editor: Editor, spec: RecordSet, record: Record, to: int) -> None:
        """See Shape. The parts change places; what stands between them stays."""
        value = self._value(editor, spec)
        parts = _parts(value, spec.parts)
        texts = [part.text for part in parts]
        texts.insert(to, texts.pop(self._number(parts, spec, record)))
        built, at = "", 0
        for part, text in zip(parts, texts, strict=True):
            built, at = built + value[at : part.start] + text, part.end
        editor.make(editor.document.set(place_of_set(spec).home, built + value[at:]))

    def _value(self, editor: Editor, spec: RecordSet) -> str:
        entry = editor.document.find(place_of_set(spec).home)
        return entry.value if entry is not None else ""

    def _number(self, parts: Sequence[_Part], spec: RecordSet, record: Record) -> int:
        entry = Entry((), "", 0, 0, 0, 0)
        for number, part in enumerate(parts):
            if record_of((), part.text, entry, spec).key == record.key:
                return number
        raise EditRefused(f"{record.key} is not there")

    def _part(self, editor: Editor, spec: RecordSet, record: Record) -> _Part:
        parts = _parts(self._value(editor, spec), spec.parts)
        return parts[self._number(parts, spec, record)]

    def _put(self, editor: Editor, spec: RecordSet, start: int, end: int, text: str) -> None:
        value = self._value(editor, spec)
        editor.make(editor.document.set(place_of_set(spec).home, value[:start] + text + value[end:]))


def _gap(value: str, parts: Sequence[_Part], spec: RecordSet) -> str:
    """Return what stands between two parts, as the last two have it."""
    return value[parts[-2].end : parts[-1].start] if len(parts) > 1 else spec.parts
