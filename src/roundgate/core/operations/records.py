"""Operations on records, by their key and not by their number: they replay on a file that has changed meanwhile."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence

import msgspec
from msgspec.structs import replace

from roundgate.core.formats import apply_switch
from roundgate.core.formats.protocol import Document, EditRefused, Path
from roundgate.core.formats.shared.paths import parse_path
from roundgate.core.operations.base import Change, FormatValue, Operation, Target
from roundgate.core.records.model import Record, field_key, parts_in, separator_of
from roundgate.core.records.nested import Nested, is_deep, trees_of
from roundgate.core.records.sets import find_records, records_in
from roundgate.core.records.shapes import Editor, Shape, shape_of
from roundgate.core.records.shapes.forms import fields_of
from roundgate.core.records.shapes.places import place_of_set
from roundgate.core.rulebook.model import RecordSet
from roundgate.core.values import plain_text


class _ByLooks(Operation, frozen=True, kw_only=True):
    """Of a set that no rulebook describes: where its records are, and the field that names them."""

    looks: tuple[str, str] | None = None


class RecordOperation(_ByLooks, frozen=True):
    """What they have in common: the set's name in the rulebook, and the record's key."""

    set: str
    record: str

    @property
    def shown_name(self) -> str:
        """The address of the record."""
        return f"{self.set}/{self.record}"

    def spec(self, target: Target) -> RecordSet:
        """Return the set. Raises EditRefused where the rulebook has it no longer."""
        if self.looks is not None:
            return RecordSet(file="", at=self.looks[0], key=self.looks[1])
        found = target.records.get(self.set)
        if found is None:
            raise EditRefused(f"the rulebook has no set of records '{self.set}'")
        return found

    def records(self, target: Target) -> list[Record]:
        """Return the records of the set as they are."""
        return records_in(target.document, self.spec(target))

    def found(self, target: Target) -> Record:
        """Return the record. Raises EditRefused where there is none, or more than one."""
        spec = self.spec(target)
        records = find_records(self.records(target), spec, self.record)
        if len(records) != 1:
            why = "is not there" if not records else f"is there {len(records)} times"
            raise EditRefused(f"{self.record} {why}")
        return records[0]

    def describe_change(self, change: Change, format_value: FormatValue, *, is_secret: bool) -> tuple[str, str]:
        """See Operation."""
        if is_secret:
            return "(hidden, old)" if change.before else "-", "(hidden, new)"
        return change.before or "-", change.after or "-"

    def unchanged(self, target: Target, before: str | None, after: str | None) -> tuple[Change, Document]:
        """Describe from what to what, where the file stays as it is."""
        return Change(self, self.shown_name, self.file, before, after), target.document

    def edited(
        self, target: Target, before: str | None, after: str | None, edit: Callable[[Shape, Editor], None]
    ) -> tuple[Change, Document]:
        """Make an edit in the set's shape, and say from what to what."""
        editor = Editor(target.format, target.document, target.planned)
        edit(shape_of(self.spec(target)), editor)
        return Change(self, self.shown_name, self.file, before, after), editor.document


class SetField(RecordOperation, frozen=True, tag="record-set"):
    """Give a field of a record a value, as the file will hold it; None takes the field out."""

    field: str
    stored: str | None
    held_before: str | None = msgspec.field(default=None, name="then")

    @property
    def shown_name(self) -> str:
        """The address of the field."""
        return f"{self.set}/{self.record}.{self.field}"

    @property
    def joins(self) -> bool:
        """See Operation."""
        return self.stored is not None

    @property
    def built_on(self) -> str:
        """The record, which may be a new one."""
        return f"{self.set}/{self.record}"

    @property
    def value_when_slated(self) -> str | None:
        """Its ``held_before``."""
        return self.held_before

    def has_moved_on(self, before: str | None) -> bool:
        """See Operation."""
        return self.held_before != before

    def shifts(self, file: str) -> bool:
        """Records are found by their keys, so nothing gets another meaning but by a new key."""
        return False

    def put_on(self, waiting: Sequence[Operation]) -> list[Operation]:
        """Take the place of another value for the same field, and keep what that field held before it."""
        same = [old for old in waiting if isinstance(old, SetField) and old.shown_name == self.shown_name]
        held = same[0].held_before if same else self.held_before
        return [*(old for old in waiting if old not in same), replace(self, held_before=held)]

    def make(self, target: Target) -> tuple[Change, Document]:
        """See Operation."""
        spec, record = self.spec(target), self.found(target)
        held = record.fields.get(self.field)
        before = None if held is None else separator_of(self.field, spec).join(held.values)
        if before == self.stored and held is not None:
            return self.unchanged(target, before, self.stored)
        return self.edited(
            target,
            before,
            self.stored,
            lambda shape, editor: shape.set_field(editor, spec, record, self.field, self.stored),
        )


class AddRecord(RecordOperation, frozen=True, tag="record-add"):
    """Put a record into a set, in the look of its neighbours."""

    values: tuple[tuple[str, str], ...]
    """Its fields, each as the file will hold it."""
    at: int | None = None
    nested: tuple[Nested, ...] = ()
    """What lies deeper in it than its fields: lists of objects, and maps."""

    @property
    def joins(self) -> bool:
        """See Operation. What is put between others moves them."""
        return self.at is None and not self.nested

    def put_on(self, waiting: Sequence[Operation]) -> list[Operation]:
        """Add it once: the same record is copied for each of its fields that is to be another."""
        return list(waiting) if self in waiting else [*waiting, self]

    def make(self, target: Target) -> tuple[Change, Document]:
        """See Operation. Raises EditRefused where another record has its key."""
        spec = self.spec(target)
        records = self.records(target)
        if any(record.key == self.record for record in records):
            same = next(record for record in records if record.key == self.record)
            if all(same.value(name) == value for name, value in self.values if name in same.fields):
                return self.unchanged(target, "there already", "there already")
            raise EditRefused(f"{self.record} already exists, with other values")
        if target.planned is not None and not records:
            raise EditRefused("the first record of a set may begin what the others are in")
        deeper = trees_of(self.nested)
        shown = ", ".join([*(f"{name}={value}" for name, value in self.values), *(f"{name}=(...)" for name in deeper)])

        def edit(shape: Shape, editor: Editor) -> None:
            shape.add(editor, spec, self.record, dict(self.values), self.at)
            for name, tree in deeper.items():
                added = next(record for record in shape.read(editor.document, spec) if record.key == self.record)
                editor.make(editor.document.set((*added.path, name), tree))

        return self.edited(target, "not there", shown or self.record, edit)


class RemoveRecord(RecordOperation, frozen=True, tag="record-remove"):
    """Take a record out of its set."""

    def make(self, target: Target) -> tuple[Change, Document]:
        """See Operation. A record that is gone already is none to take out."""
        spec = self.spec(target)
        if not find_records(self.records(target), spec, self.record):
            return self.unchanged(target, "not there", "not there")
        record = self.found(target)
        return self.edited(
            target, record.title(spec), "taken out", lambda shape, editor: shape.remove(editor, spec, record)
        )


class RenameRecord(RecordOperation, frozen=True, tag="record-rename"):
    """Give a record another key."""

    new: str

    def make(self, target: Target) -> tuple[Change, Document]:
        """See Operation. Raises EditRefused where another record has the new key."""
        spec, record = self.spec(target), self.found(target)
        if any(other.key == self.new for other in self.records(target)):
            raise EditRefused(f"{self.new} already exists")
        return self.edited(
            target, self.record, self.new, lambda shape, editor: shape.rename(editor, spec, record, self.new)
        )


class MoveRecord(RecordOperation, frozen=True, tag="record-move"):
    """Move a record to another place of its set, counted from 0."""

    to: int

    def make(self, target: Target) -> tuple[Change, Document]:
        """See Operation. A place after the last one is the last one."""
        spec, record = self.spec(target), self.found(target)
        keys = [record.key for record in self.records(target)]
        here, to = keys.index(record.key), min(self.to, len(keys) - 1)
        texts = f"number {here + 1}", f"number {to + 1}"
        if here == to:
            return self.unchanged(target, *texts)
        return self.edited(target, *texts, lambda shape, editor: shape.move(editor, spec, record, to))


class SwitchRecord(RecordOperation, frozen=True, tag="record-switch"):
    """Comment a record out, so that it no longer counts but is still there; or let it count again as it is."""

    on: bool

    def make(self, target: Target) -> tuple[Change, Document]:
        """See Operation. Raises EditRefused where records of this shape cannot be commented out."""
        spec = self.spec(target)
        if spec.parts or spec.turned:
            raise EditRefused("a record of this shape is a part of something and cannot be commented out: remove it")
        off = path_when_off(target.document, spec, self.record)
        found = find_records(self.records(target), spec, self.record)
        texts = ("commented out", "counts") if self.on else ("counts", "commented out")
        if (bool(found) and self.on) or (not found and not self.on and off is not None):
            return self.unchanged(target, texts[1], texts[1])
        if self.on and off is None:
            raise EditRefused(f"no {self.record} is commented out there")
        path = off if self.on and off is not None else self.found(target).path
        document = apply_switch(target.format, target.document, path, on=self.on)
        return Change(self, self.shown_name, self.file, *texts), document


def commented_out(document: Document, spec: RecordSet) -> dict[str, Path]:
    """Return the records of a set that are commented out, by their key, each with its path."""
    place = place_of_set(spec)
    depth = len(place.home) + 1
    key = () if spec.key == "*" else parse_path(field_key(spec.key, spec))
    found: dict[str, Path] = {}
    for entry in document.switched_off():
        if len(entry.path) < depth or entry.path[: depth - 1] != place.home:
            continue
        path = entry.path[:depth]
        if spec.key == "*" and isinstance(path[-1], str):
            found.setdefault(path[-1], path)
        elif spec.key != "*" and entry.path[depth:] == key:
            found[entry.value] = path
        elif spec.form and (fields := fields_of(entry.value, spec)) and spec.key in fields:
            found[fields[spec.key][0]] = path
    return found


def path_when_off(document: Document, spec: RecordSet, key: str) -> Path | None:
    """Return the path of a record that is commented out; None where none of that key is."""
    path = commented_out(document, spec).get(key)
    if path is not None or spec.key != "*":
        return path
    path = (*place_of_set(spec).home, key)
    try:
        document.switch(path, on=True)
    except EditRefused:
        return None
    return path


class FollowRename(Operation, frozen=True, tag="record-follow"):
    """Let every field that names a record follow its new key, in all records of one set."""

    set: str
    field: str
    old: str
    new: str

    @property
    def shown_name(self) -> str:
        """The field, of all records of its set."""
        return f"{self.set}/*.{self.field}"

    def make(self, target: Target) -> tuple[Change, Document]:
        """See Operation. Raises EditRefused where the set is none of the rulebook."""
        spec = target.records.get(self.set)
        if spec is None:
            raise EditRefused(f"the rulebook has no set of records '{self.set}'")
        shape, editor, count = shape_of(spec), Editor(target.format, target.document), 0
        for record in records_in(target.document, spec):
            held = record.fields.get(self.field)
            if held is None:
                continue
            if self.old in held.values:
                shape.replace(editor, spec, record, self.field, self.old, self.new)
                count += 1
            elif self.old in parts_in(held, self.field, spec):
                shape.set_field(editor, spec, record, self.field, _replaced(held.values[0], self.old, self.new))
                count += 1
        before = f"{count} name {self.old}" if count else "none"
        after = f"they name {self.new}" if count else "none"
        return Change(self, self.shown_name, self.file, before, after), editor.document


def _replaced(text: str, old: str, new: str) -> str:
    """Put one part of a text that holds several in the place of another."""
    return re.sub(rf"(?<![\w.-]){re.escape(old)}(?![\w.-])", lambda _hit: new, text)


def template_of(spec: RecordSet) -> dict[str, str]:
    """Return what a new record of a set has where nothing else is said, as the file will hold it."""
    return {
        name: plain_text(value, spec.field[name]) if name in spec.field else str(value)
        for name, value in spec.template.items()
    }


def template_values(spec: RecordSet, given: Mapping[str, str], like: Record | None) -> dict[str, str]:
    """Return fields of a new record: those given, then those of the record it is to be like, then the template's."""
    found = template_of(spec)
    if like is not None:
        unique = {name for name, field in spec.field.items() if field.unique} | {spec.key}
        for name, held in like.fields.items():
            if name not in unique and not is_deep(like, name):
                found[name] = separator_of(name, spec).join(held.values)
    return in_order({**found, **given}, spec)


def in_order(values: Mapping[str, str], spec: RecordSet) -> dict[str, str]:
    """Return the fields of a record in the order in which its set describes them, others after them."""
    named = {name: values[name] for name in spec.field if name in values}
    return {**named, **{name: value for name, value in values.items() if name not in named}}
