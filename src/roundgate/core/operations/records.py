"""Operations on records, by their key and not by their number: they replay on a file that has changed meanwhile."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec.structs import replace

from roundgate.core.formats import apply_edit
from roundgate.core.formats.protocol import Document, Edit, EditRefused, EntryKind, Path, PlainData
from roundgate.core.formats.shared.paths import parse_path
from roundgate.core.formats.shared.scalars import fitted
from roundgate.core.operations.base import Change, FormatValue, Operation, Target
from roundgate.core.records.sets import Record, field_key, find_records, place_of_set, records_in
from roundgate.core.rulebook.model import RecordField, RecordSet
from roundgate.core.values import document_kind

_LISTS = ("list", "choices", "refs")
_KINDS: dict[str, EntryKind] = {"number": "number", "text": "text", "bool": "bool"}


class RecordOperation(Operation, frozen=True):
    """What they have in common: the set's name in the rulebook, and the record's key."""

    set: str
    record: str

    @property
    def shown_name(self) -> str:
        """The address of the record."""
        return f"{self.set}/{self.record}"

    def spec(self, target: Target) -> RecordSet:
        """Give the set. Raises EditRefused where the rulebook has it no longer."""
        found = target.records.get(self.set)
        if found is None:
            raise EditRefused(f"the rulebook has no set of records '{self.set}'")
        return found

    def found(self, target: Target) -> Record:
        """Give the record. Raises EditRefused where there is none, or more than one."""
        spec = self.spec(target)
        records = find_records(records_in(target.document, spec), spec, self.record)
        if len(records) != 1:
            why = "is not there" if not records else f"is there {len(records)} times"
            raise EditRefused(f"{self.record} {why}")
        return records[0]

    def in_words(self, change: Change, format_value: FormatValue, *, is_secret: bool) -> tuple[str, str]:
        """See Operation."""
        if is_secret:
            return "(hidden, old)" if change.before else "-", "(hidden, new)"
        return change.before or "-", change.after or "-"

    def change(
        self, target: Target, edit: Edit | None, before: str | None, after: str | None
    ) -> tuple[Change, Document]:
        """Make an edit, and say from what to what."""
        document = target.document if edit is None else apply_edit(target.format, target.document, edit)
        return Change(self, self.shown_name, self.file, before, after), document


def plain_field(value: str, field: RecordField | None) -> tuple[PlainData, EntryKind | None]:
    """Give a field's stored value as plain data of the kind that a file which knows kinds wants."""
    if field is None:
        return value, None
    if field.type in _LISTS:
        return [part for part in value.split(field.separator) if part], None
    return value, _KINDS.get(document_kind(field))


class SetField(RecordOperation, frozen=True, tag="record-set"):
    """Give a field of a record a value, as the file will hold it; None takes the field out."""

    field: str
    stored: str | None
    then: str | None = None

    @property
    def shown_name(self) -> str:
        """The address of the field."""
        return f"{self.set}/{self.record}.{self.field}"

    @property
    def value_when_slated(self) -> str | None:
        """Its ``then``."""
        return self.then

    def has_moved_on(self, before: str | None) -> bool:
        """See Operation."""
        return self.then != before

    def shifts(self, file: str) -> bool:
        """Records are found by their keys, so nothing gets another meaning but by a new key."""
        return False

    def put_on(self, waiting: Sequence[Operation]) -> list[Operation]:
        """Take the place of another value for the same field, and keep what that field held before it."""
        same = [old for old in waiting if isinstance(old, SetField) and old.shown_name == self.shown_name]
        then = same[0].then if same else self.then
        return [*(old for old in waiting if old not in same), replace(self, then=then)]

    def make(self, target: Target) -> tuple[Change, Document]:
        """See Operation."""
        spec, record = self.spec(target), self.found(target)
        described = spec.field.get(self.field)
        held = record.fields.get(self.field)
        before = None if held is None else (described.separator if described else ",").join(held.values)
        path = (*record.path, *parse_path(field_key(self.field, spec)))
        if self.stored is None:
            edit = target.document.remove(path) if held is not None else None
        elif before == self.stored:
            edit = None
        else:
            value, kind = plain_field(self.stored, described)
            if held is not None and held.is_list and isinstance(value, list):
                document = _with_items(target, path, list(held.values), value)
                if document is not None:
                    return Change(self, self.shown_name, self.file, before, self.stored), document
            edit = target.document.set(path, value, kind if held is None else None)
        return self.change(target, edit, before, self.stored)


def _with_items(target: Target, path: Path, old: list[str], new: list[str]) -> Document | None:
    """Take items out of a list and put new ones in, so that the others stay as they are written.

    None where that does not lead there: where the order changes, or no item would be left meanwhile.
    """
    kept = [item for item in old if item in new]
    if kept != [item for item in new if item in old] or len(set(old)) < len(old) or not kept:
        return None
    document = target.document
    for at in reversed([number for number, item in enumerate(old) if item not in new]):
        document = apply_edit(target.format, document, document.remove((*path, at)))
    for at, item in enumerate(new):
        if item not in old:
            document = apply_edit(target.format, document, document.insert((*path, at), item))
    return document


class AddRecord(RecordOperation, frozen=True, tag="record-add"):
    """Put a record into a set, in the look of its neighbours."""

    values: tuple[tuple[str, str], ...]
    """Its fields, each as the file will hold it."""
    at: int | None = None

    def make(self, target: Target) -> tuple[Change, Document]:
        """See Operation. Raises EditRefused where another record has its key."""
        spec = self.spec(target)
        records = records_in(target.document, spec)
        if any(record.key == self.record for record in records):
            same = next(record for record in records if record.key == self.record)
            if all(same.value(name) == value for name, value in self.values if name in same.fields):
                return self.change(target, None, "there already", "there already")
            raise EditRefused(f"{self.record} is there already, with other values")
        place = place_of_set(spec)
        made = self._plain(target, spec, records)
        shown = ", ".join(f"{name}={value}" for name, value in self.values) or self.record
        if place.is_map:
            edit = target.document.set((*place.home, self.record), made)
        else:
            at = len(records) if self.at is None else min(self.at, len(records))
            is_begun = bool(records) or not place.home or target.document.find(place.home) is not None
            if is_begun:
                edit = target.document.insert((*place.home, at), made)
            else:
                edit = target.document.set(place.home, [made])
        return self.change(target, edit, "not there", shown)

    def _plain(self, target: Target, spec: RecordSet, records: Sequence[Record]) -> PlainData:
        """Give the record as plain data: its keys in the order of the record most like it, others behind them."""
        if target.format.name == "lines":
            return self._line(target, spec)
        given = dict(self.values)
        first = max(
            (list(record.fields) for record in records), key=lambda one: len(given.keys() & set(one)), default=[]
        )
        names = [*(name for name in first if name in given), *(name for name in given if name not in first)]
        made: dict[str, PlainData] = {}
        for name in names:
            value, kind = plain_field(given[name], spec.field.get(name))
            made[str(parse_path(field_key(name, spec))[-1])] = (
                value if isinstance(value, list) else fitted(value, kind, None)
            )
        return made

    def _line(self, target: Target, spec: RecordSet) -> str:
        """Give the record as the text of one entry of a list."""
        dialect = target.document.dialect
        parts = dialect.fields
        if not parts:
            return self.record
        given = dict(self.values)
        texts = [given.get(_name_of(part, spec), "") for part in parts]
        if dialect.records:
            return "\n".join(f"{part}: {text}" for part, text in zip(parts, texts, strict=True) if text)
        while texts and not texts[-1]:
            texts.pop()
        if not all(texts):
            raise EditRefused(f"a line needs {' '.join(parts)}, in this order")
        return (dialect.separator or " ").join(texts)


def _name_of(key: str, spec: RecordSet) -> str:
    return next((name for name, field in spec.field.items() if (field.key or name) == key), key)


class RemoveRecord(RecordOperation, frozen=True, tag="record-remove"):
    """Take a record out of its set."""

    def make(self, target: Target) -> tuple[Change, Document]:
        """See Operation. A record that is gone already is none to take out."""
        spec = self.spec(target)
        if not find_records(records_in(target.document, spec), spec, self.record):
            return self.change(target, None, "not there", "not there")
        record = self.found(target)
        return self.change(target, target.document.remove(record.path), record.title(spec), "taken out")


class RenameRecord(RecordOperation, frozen=True, tag="record-rename"):
    """Give a record another key."""

    new: str

    def make(self, target: Target) -> tuple[Change, Document]:
        """See Operation. Raises EditRefused where another record has the new key."""
        spec, record = self.spec(target), self.found(target)
        if any(other.key == self.new for other in records_in(target.document, spec)):
            raise EditRefused(f"{self.new} is there already")
        if spec.key != "*":
            edit = target.document.set((*record.path, *parse_path(field_key(spec.key, spec))), self.new)
        elif isinstance(record.path[-1], str):
            edit = target.document.rename(record.path, self.new)
        else:
            edit = target.document.set(record.path, self.new)
        return self.change(target, edit, self.record, self.new)


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
        document, count = target.document, 0
        for path in self._places(document, spec):
            document = apply_edit(target.format, document, document.set(path, self.new))
            count += 1
        before = f"{count} name {self.old}" if count else "none"
        return Change(self, self.shown_name, self.file, before, f"they name {self.new}" if count else "none"), document

    def _places(self, document: Document, spec: RecordSet) -> list[Path]:
        held = (record.fields.get(self.field) for record in records_in(document, spec))
        return [entry.path for one in held if one for entry in one.entries if entry.value == self.old]


def template_values(spec: RecordSet, given: Mapping[str, str], like: Record | None) -> dict[str, str]:
    """Give the fields of a new record: those given, then those of the record it is to be like, then the template's."""
    found = {name: str(value) for name, value in spec.template.items()}
    if like is not None:
        unique = {name for name, field in spec.field.items() if field.unique} | {spec.key}
        for name, held in like.fields.items():
            separator = spec.field[name].separator if name in spec.field else ","
            if name not in unique and not held.is_nested:
                found[name] = separator.join(held.values)
    return in_order({**found, **given}, spec)


def in_order(values: Mapping[str, str], spec: RecordSet) -> dict[str, str]:
    """Give the fields of a record in the order in which its set describes them, others behind them."""
    named = {name: values[name] for name in spec.field if name in values}
    return {**named, **{name: value for name, value in values.items() if name not in named}}
