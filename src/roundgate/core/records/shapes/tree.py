"""Records that are objects in a list, entries of a map, or lines of a file, whole or in parts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress

from roundgate.core.formats.lines.document import LinesDocument
from roundgate.core.formats.places import key_of
from roundgate.core.formats.protocol import Document, EditRefused, Entry, EntryKind, Path, PlainData
from roundgate.core.formats.shared.paths import parse_path
from roundgate.core.formats.shared.scalars import fitted, is_number
from roundgate.core.records.model import LISTS, HeldField, Record, field_key
from roundgate.core.records.shapes.places import entries_by_record, is_begun, place_of_set
from roundgate.core.records.shapes.protocol import Editor
from roundgate.core.rulebook.model import RecordField, RecordSet
from roundgate.core.values import document_kind
from roundgate.core.values.texts import is_code

_FLAT = ("ini", "lines", "properties", "directives", "launch")
"""Formats whose values are single texts."""
_KINDS: dict[str, EntryKind] = {"number": "number", "text": "text", "bool": "bool"}


class Tree:
    """Records as the file's own lists and maps hold them."""

    def read(self, document: Document, spec: RecordSet) -> list[Record]:
        """See Shape."""
        if isinstance(document, LinesDocument) and not document.dialect.fields and spec.key == "*":
            return [Record(entry.value, entry.path, {}) for entry in document.entries()]  # there may be very many
        names = {key_of(parse_path(field.key)) if field.key else name: name for name, field in spec.field.items()}
        groups = entries_by_record(document, spec)
        for path in groups if document.dialect.fields else ():
            parts = (document.find((*path, part)) for part in document.dialect.fields)
            groups[path] += [part for part in parts if part is not None]
        return [_record(path, entries, spec, names) for path, entries in groups.items()]

    def set_field(self, editor: Editor, spec: RecordSet, record: Record, field: str, value: str | None) -> None:
        """See Shape."""
        described, held = spec.field.get(field), record.fields.get(field)
        path = (*record.path, *_steps_of(record, field, spec))
        if editor.document.dialect.fields and (held is None or value is None):
            self._set_part(editor, record, str(path[-1]), value)
            return
        if value is None:
            if held is not None:
                editor.make(editor.document.remove(path))
            return
        plain, kind = plain_field(value, described)
        is_text = held is not None and not held.is_list  # one value of the file that holds several
        if isinstance(plain, list) and (is_text or editor.format.name in _FLAT):
            plain, kind = value, None
        if described is not None and described.type == "condition" and editor.format.name == "lua":
            editor.make(editor.document.set(path, value, "code" if is_code(value) else "text"))
            return
        is_list = held is not None and held.is_list and isinstance(plain, list)
        if is_list and held is not None and _with_items(editor, path, list(held.values), plain):
            return
        editor.make(editor.document.set(path, plain, kind if held is None else _kind_instead(held, described, value)))

    def _set_part(self, editor: Editor, record: Record, part: str, value: str | None) -> None:
        """Give an entry of a list of lines a part that it does not have, or take one out: the entry is rewritten."""
        dialect, entry = editor.document.dialect, editor.document.find(record.path)
        if part not in dialect.fields or entry is None:
            raise EditRefused(f"an entry has the parts {', '.join(dialect.fields)}, and no {part}")
        if dialect.records:
            lines = [line for line in entry.value.split("\n") if line.partition(":")[0].strip() != part]
            before = dialect.fields[: dialect.fields.index(part)]
            at = sum(1 for line in lines if line.partition(":")[0].strip() in before)
            made = "\n".join([*lines[:at], *([] if value is None else [f"{part}: {value}"]), *lines[at:]])
        else:
            found = {
                name: part_entry
                for name in dialect.fields
                if (part_entry := editor.document.find((*record.path, name)))
            }
            texts = {name: part_entry.value for name, part_entry in found.items() if name != part} | (
                {part: value} if value else {}
            )
            if list(texts) != list(dialect.fields[: len(texts)]):
                raise EditRefused(
                    f"a line has {' '.join(dialect.fields)}, in this order, and only the last may be left out"
                )
            gap = dialect.separator or " "
            made = gap.join(texts.values()) if value is None else entry.value + gap + value
        editor.make(editor.document.set(record.path, made))

    def replace(self, editor: Editor, spec: RecordSet, record: Record, field: str, old: str, new: str) -> None:
        """See Shape."""
        held = record.fields.get(field)
        for entry in held.entries if held is not None else ():
            if entry.value == old:
                editor.make(editor.document.set(entry.path, new))

    def add(self, editor: Editor, spec: RecordSet, key: str, values: Mapping[str, str], at: int | None) -> None:
        """See Shape."""
        place, records = place_of_set(spec), self.read(editor.document, spec)
        if editor.format.name == "ini" and place.is_map:
            self._add_section(editor, (*place.home, key), spec, values)
            return
        made: PlainData = _object(editor, spec, values, records)
        if editor.format.name == "lines":
            made = _line(editor, spec, key, values)
        elif spec.key == "*" and not place.is_map and not made:
            made = key  # a name alone
        if place.is_map:
            editor.make(editor.document.set((*place.home, key), made))
        elif is_begun(editor.document, place, records):
            number = len(records) if at is None else min(at, len(records))
            editor.make(editor.document.insert((*place.home, number), made))
        else:
            editor.make(editor.document.set(place.home, [made]))

    def _add_section(self, editor: Editor, path: Path, spec: RecordSet, values: Mapping[str, str]) -> None:
        """Add a record that is a section: one line after the other, the first with the heading."""
        if not values:
            raise EditRefused(f"{path[-1]} needs a value: a section without one says nothing")
        for name, value in values.items():
            editor.make(editor.document.set((*path, *_steps_of(Record(str(path[-1]), path, {}), name, spec)), value))

    def remove(self, editor: Editor, spec: RecordSet, record: Record) -> None:
        """See Shape."""
        editor.make(editor.document.remove(record.path))

    def rename(self, editor: Editor, spec: RecordSet, record: Record, new: str) -> None:
        """See Shape."""
        if spec.key != "*":
            path = (*record.path, *parse_path(field_key(spec.key, spec)))
            editor.make(editor.document.set(path, new))
        elif isinstance(record.path[-1], str):
            editor.make(editor.document.rename(record.path, new))
        else:
            editor.make(editor.document.set(record.path, new))

    def move(self, editor: Editor, spec: RecordSet, record: Record, to: int) -> None:
        """See Shape. Raises EditRefused. Only a list has an order that can be changed."""
        if place_of_set(spec).is_map:
            raise EditRefused("they are the entries of a map, whose order means nothing")
        editor.make(editor.document.move(record.path, to))


def _steps_of(record: Record, field: str, spec: RecordSet) -> Path:
    """Return the path of a field below its record.

    A dot in the name of a field that no rulebook describes separates two names only where the record has such a map:
    ``race.abort`` may well be one name.
    """
    steps = parse_path(field_key(field, spec))
    if field in spec.field or len(steps) < 2:
        return steps
    held = record.fields.get(field)
    known = held.entries if held is not None else [entry for other in record.fields.values() for entry in other.entries]
    inner = [entry.path[len(record.path) :] for entry in known]
    is_nested = any(len(path) > 1 and path[0] == steps[0] for path in inner)
    return steps if is_nested else (field,)


def _kind_instead(held: HeldField, field: RecordField | None, value: str) -> EntryKind | None:
    """Return what the field wants, where something else is in its place that cannot hold it; None to go by that."""
    present = held.entries[0].kind if held.entries and not held.is_list else None
    if field is None or present not in ("code", "bool", "number"):
        return None
    kind = _KINDS.get(document_kind(field))
    if kind == present or (kind == "text" and present != "code"):
        return None
    fits = value in ("true", "false") if kind == "bool" else kind == "text" or is_number(value)
    return kind if fits else None


def plain_field(value: str, field: RecordField | None) -> tuple[PlainData, EntryKind | None]:
    """Return a field's stored value as plain data of the kind that a file which knows kinds wants."""
    if field is None:
        return value, None
    if field.type in LISTS:
        return [part for part in value.split(field.separator) if part], None
    return value, _KINDS.get(document_kind(field))


def _record(path: Path, entries: Sequence[Entry], spec: RecordSet, names: Mapping[str, str]) -> Record:
    fields: dict[str, list[Entry]] = {}
    held: dict[str, HeldField] = {}
    depth = len(path)
    for entry in entries:
        inner = entry.path[depth:]
        if len(inner) == 1 and isinstance(inner[0], str):  # most are: there may be a million
            name = names.get(inner[0], inner[0])
            if name not in fields and name not in held:
                is_empty = entry.kind == "list"  # what is in a list has entries of its own, so there is nothing in it
                held[name] = HeldField(() if is_empty else (entry.value,), is_list=is_empty, entries=(entry,))
                continue
        elif inner:
            plain = [step for step in inner if isinstance(step, str)]
            key = key_of(tuple(plain[:1] if len(plain) < len(inner) else inner))
            name = names.get(key, key)
        else:
            continue
        if name in held and name not in fields:
            fields[name] = list(held[name].entries)
        fields.setdefault(name, []).append(entry)
        held[name] = _HOLE  # it keeps its place in the order
    for name, found in fields.items():
        held[name] = _held(found, depth)
    return Record(_key(path, entries, spec, held), path, held)


_HOLE = HeldField((), is_list=False, entries=())
"""Stands for a field whose entries are still being gathered."""


def _held(entries: Sequence[Entry], depth: int) -> HeldField:
    inner = [entry.path[depth:] for entry in entries]
    is_list = any(isinstance(step, int) for path in inner for step in path)
    is_nested = any(len(path) > 2 for path in inner)
    return HeldField(tuple(entry.value for entry in entries), is_list, tuple(entries), is_nested)


def _key(path: Path, entries: Sequence[Entry], spec: RecordSet, held: Mapping[str, HeldField]) -> str:
    if spec.key != "*":
        named = held.get(spec.key)
        return named.values[0] if named is not None and named.values else ""
    if isinstance(path[-1], str):
        return path[-1]
    return next((entry.value for entry in entries if entry.path == path), str(path[-1]))


def _with_items(editor: Editor, path: Path, old: list[str], new: list[str]) -> bool:
    """Take items out of a list and put new ones in, so that the others stay as they are written.

    False where that does not lead there: where the order changes, or no item would be left meanwhile.
    """
    kept = [item for item in old if item in new]
    if kept != [item for item in new if item in old] or len(set(old)) < len(old) or not kept:
        return False
    for at in reversed([number for number, item in enumerate(old) if item not in new]):
        editor.make(editor.document.remove((*path, at)))
    for at, item in enumerate(new):
        if item not in old:
            editor.make(editor.document.insert((*path, at), item))
    return True


def _object(editor: Editor, spec: RecordSet, values: Mapping[str, str], records: Sequence[Record]) -> PlainData:
    """Return a record as plain data: its keys in the order of the record most like it, others after them."""
    first = max(
        (list(record.fields) for record in records), key=lambda names: len(values.keys() & set(names)), default=[]
    )
    made: dict[str, PlainData] = {}
    for name in [*(name for name in first if name in values), *(name for name in values if name not in first)]:
        value, kind = plain_field(values[name], spec.field.get(name))
        key = str(parse_path(field_key(name, spec))[-1]) if name in spec.field else name
        described = spec.field.get(name)
        if described is not None and described.type == "condition" and editor.format.name == "lua":
            from roundgate.core.formats.lua.writer import Code  # a format is loaded where it is needed

            made[key] = Code(values[name]) if is_code(values[name]) else values[name]
            continue
        made[key] = value if isinstance(value, list) else _as_neighbours(values[name], kind, name, records)
    return made


def _as_neighbours(value: str, kind: EntryKind | None, name: str, records: Sequence[Record]) -> PlainData:
    """Give a value the kind that the other records' values of the field have, where it can have it."""
    held = next((record.fields[name] for record in records if name in record.fields), None)
    present = held.entries[0].kind if held is not None and held.entries and not held.is_list else None
    if present in ("number", "bool", "text") and present != kind:
        with suppress(EditRefused):
            return fitted(value, present, None)
    return fitted(value, kind, None)


def _line(editor: Editor, spec: RecordSet, key: str, values: Mapping[str, str]) -> str:
    """Return a record as the text of one entry of a list."""
    dialect = editor.document.dialect
    parts = dialect.fields
    if not parts:
        return key
    names = {(field.key or name): name for name, field in spec.field.items()}
    texts = [values.get(names.get(part, part), "") for part in parts]
    if dialect.records:
        return "\n".join(f"{part}: {text}" for part, text in zip(parts, texts, strict=True) if text)
    while texts and not texts[-1]:
        texts.pop()
    if not all(texts):
        raise EditRefused(f"a line needs {' '.join(parts)}, in this order")
    return (dialect.separator or " ").join(texts)
