"""From the arguments of ``set``, ``add``, ``remove`` and ``rename`` to operations on records: ``SET/RECORD.FIELD``."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence

from msgspec.structs import replace

from roundgate.api.lookup import OPEN, assignment
from roundgate.api.record_addresses import RecordAddress, book_for, is_address, set_named
from roundgate.core import values
from roundgate.core.nearest import nearest
from roundgate.core.next_step import Meant, did_you_mean, typed_command
from roundgate.core.operations.base import Operation
from roundgate.core.operations.records import (
    AddRecord,
    FollowRename,
    MoveRecord,
    RecordOperation,
    RemoveRecord,
    RenameRecord,
    SetField,
    SwitchRecord,
    commented_out,
    in_order,
    path_when_off,
    template_values,
)
from roundgate.core.people.rosters import people_kind
from roundgate.core.records.model import LISTS, Record, field_key, parts_in, separator_of
from roundgate.core.records.nested import is_deep, nested_in
from roundgate.core.records.sets import file_below, find_records, records_below, records_in, referring
from roundgate.core.rulebook.model import RecordField, RecordSet
from roundgate.core.secrets import is_secret_field
from roundgate.core.values import ValueProblem
from roundgate.core.values.relative import changed_by, is_relative
from roundgate.host.errors import Trouble, UnknownName, WrongUsage
from roundgate.host.workspace import Holder, Workspace

ALL = "*"
"""In an address, every record of the set."""


AskField = Callable[[str, RecordField | None], str]
"""Asks a person for a field of a new record: what it is called, and its description. Gives what was typed."""


def is_pattern(word: str) -> bool:
    """Return whether a word means all records whose names fit it: ``*`` stands for any letters."""
    return ALL in word


def _matches(record: Record, spec: RecordSet, word: str) -> bool:
    pattern = "".join(".*" if sign == ALL else re.escape(sign) for sign in word)
    return any(re.fullmatch(pattern, name, re.IGNORECASE | re.DOTALL) for name in (record.key, record.title(spec)))


TwinOf = Callable[[str, str], Record | None]
"""Gives a record of another server that a word means, by the name of its set; None where it means none."""


class RecordChanges:
    """Makes operations on records, given what waits already."""

    def __init__(self, holder: Holder, ask: AskField | None = None, twin_of: TwinOf | None = None) -> None:
        """Keep what the operations are about.

        ``ask`` is for fields of a new record that nobody has given, ``twin_of`` for records of other servers.
        """
        self.ask = ask
        self.twin_of = twin_of
        self.holder = holder
        self.book = holder.book
        self._after = holder.outcome(holder.operations).after

    def records(self, name: str) -> list[Record]:
        """Return the records of a set, with what waits already."""
        spec = self.book.records[name]
        path = self.book.file[spec.file].path
        self.holder.read([path])
        return records_in(self._after.document(path), spec)

    def below(self, name: str) -> list[Record]:
        """Return the records that only the file has which the set's own overrides, such as those of the game."""
        spec = self.book.records[name]
        lower = file_below(self.book, spec)
        if not lower:
            return []
        self.holder.read([lower])
        return records_below(self.book, spec, self._after.document)

    def _path(self, spec: RecordSet) -> str:
        return self.book.file[spec.file].path

    def address(self, word: str, *, with_field: bool) -> RecordAddress:
        """Return what an address means. Raises UnknownName or WrongUsage."""
        self.book, word = book_for(self.holder, word)
        name = set_named(self.book, word)
        if not name:
            near = nearest(word.partition("/")[0], self.book.records)
            raise UnknownName(f"No set of records is called '{word}'.", did_you_mean(word, near) if near else "")
        spec, rest = self.book.records[name], word[len(name) + 1 :]
        if not with_field:
            return RecordAddress(name, spec, self._own(name, spec, self._meant(name, spec, rest)))
        head, _, field = self._split(name, spec, rest)
        if not field:
            fields = ", ".join(spec.field) or "any"
            raise WrongUsage(f"'{word}' names no field.", f"{name}/{rest}.FIELD; fields: {fields}")
        return RecordAddress(name, spec, self._meant(name, spec, head), self._field(name, spec, field))

    def named(self, word: str) -> tuple[Record, ...]:
        """Return the records that an address without a field means, to look at. Raises UnknownName or WrongUsage."""
        self.book, word = book_for(self.holder, word)
        name = set_named(self.book, word)
        return self._meant(name, self.book.records[name], word[len(name) + 1 :])

    def _split(self, name: str, spec: RecordSet, rest: str) -> tuple[str, str, str]:
        """Part a record from its field: at the dot after which a field is, and before which a record is."""
        records = [*self.records(name), *self.below(name)]
        dots = [at for at, char in enumerate(rest) if char == "."]
        for at in dots:
            if is_pattern(rest[:at]) or find_records(records, spec, rest[:at]):
                return rest[:at], ".", rest[at + 1 :]
        return (rest[: dots[-1]], ".", rest[dots[-1] + 1 :]) if dots else (rest, "", "")

    def _field(self, name: str, spec: RecordSet, word: str) -> str:
        known = {field.lower(): field for field in spec.field}
        if word.lower() in known:
            return known[word.lower()]
        if spec.partly or not spec.field:
            return word
        near = nearest(word, spec.field)
        hint = did_you_mean(word, near) if near else f"Fields: {', '.join(spec.field)}"
        raise UnknownName(f"{name} has no field '{word}'.", hint)

    def _own(self, name: str, spec: RecordSet, meant: tuple[Record, ...]) -> tuple[Record, ...]:
        """Leave out the records of the overridden file. Raises WrongUsage where no other one is left."""
        below = {record.key for record in self.below(name)}
        own = tuple(record for record in meant if record.key not in below)
        if meant and not own:
            lower, here = file_below(self.book, spec), self._path(spec)
            field = next(iter(spec.field), "FIELD")
            raise WrongUsage(
                f"{name}/{meant[0].key} is in {lower} alone, which {here} overrides: Round Gate leaves that file as it "
                "is. Nothing was changed.",
                typed_command(
                    "set", self.holder.name, f"{name}/{meant[0].key}.{field}={OPEN}", hint=f"changes it in {here}"
                ),
            )
        return own

    def _meant(self, name: str, spec: RecordSet, word: str) -> tuple[Record, ...]:
        records = [*self.records(name), *self.below(name)]
        if word == ALL:
            return tuple(records)
        if is_pattern(word):
            several = [record for record in records if _matches(record, spec, word)]
            if not several:
                raise UnknownName(
                    f"No {name} of {self.holder.name} matches '{word}'.", typed_command("show", self.holder.name, name)
                )
            return tuple(several)
        found = find_records(records, spec, word)
        if len(found) == 1:
            return tuple(found)
        if found:
            titles = ", ".join(f"{record.title(spec)} ({record.key})" for record in found)
            raise WrongUsage(f"'{word}' could be {titles}.", f"Specify which, by its key: {name}/{found[0].key}")
        by_name = self._person(spec, word, {record.key: record for record in records})
        if by_name is not None:
            return (by_name,)
        near = nearest(word, [*(record.key for record in records), *(record.title(spec) for record in records)])
        hint = did_you_mean(word, f"{name}/{near}") if near else typed_command("show", self.holder.name, name)
        raise UnknownName(f"{self.holder.name} has no {name}/{word}.", hint)

    def _person(self, spec: RecordSet, word: str, records: Mapping[str, Record]) -> Record | None:
        """Return record of whoever is called so in the people book, or in the logs; None where none of them is there.

        Raises WrongUsage where several are.
        """
        from roundgate.api.whom import whoever  # only where a name has to be looked up

        kind = people_kind(self.book, spec)
        if not kind or not isinstance(self.holder, Workspace):
            return None
        try:
            who = whoever(self.holder.server.site, self.holder.server, word, kind)
        except UnknownName:
            return None
        return records.get(who.id)

    # --- operations ---

    def changed(self, word: str, given: str) -> list[Operation]:
        """Make the operations that give a field of a record, or of all with ``*``, a value. Raises Trouble."""
        address = self.address(word, with_field=True)
        described = address.spec.field.get(address.field)
        shown = f"{address.name}/{{}}.{address.field}"
        if described is not None and is_relative(given, described):
            return self._given_each(
                address, lambda record, held: self._changed_by(shown, described, given, record, held)
            )
        stored = self.stored(shown, described, given, address.records)
        return self._given_each(address, lambda _record, _held: stored)

    def _given_each(self, address: RecordAddress, value: Callable[[Record, str | None], str]) -> list[Operation]:
        """Make the operations that give a field of each record a value, from the record and its present value."""
        made: list[Operation] = []
        below = {record.key for record in self.below(address.name)}
        for record in address.records:
            if record.key in below:  # what is changed is the club's from now on
                made.append(self._copied(address, record))
            held = record.fields.get(address.field)
            held_before = None if held is None else separator_of(address.field, address.spec).join(held.values)
            stored = value(record, held_before)
            made.append(
                SetField(self._path(address.spec), address.name, record.key, address.field, stored, held_before)
            )
        return self._marked(made)

    def _copied(self, address: RecordAddress, record: Record) -> Operation:
        """Make the operation that copies a record of the overridden file as it is."""
        values = {
            name: separator_of(name, address.spec).join(held.values)
            for name, held in record.fields.items()
            if not is_deep(record, name)
        }
        kept = tuple(in_order(values, address.spec).items())
        return AddRecord(self._path(address.spec), address.name, record.key, kept, nested=nested_in(record))

    def _changed_by(self, shown: str, described: RecordField, given: str, record: Record, held: str | None) -> str:
        """Apply a difference such as ``+10%``. Raises Trouble."""
        try:
            return changed_by(given, held, described)
        except ValueProblem as error:
            address = shown.format(record.key)
            now = f" (it is {held} now)" if held is not None else ""
            right = values.sure_meaning(error.meant, described)
            do = typed_command("set", self.holder.name, f"{address}={right}") if right else ""
            raise Trouble(
                f"{address}={given}: {error.cause}{now} ({error.code})\n  It may be {values.describe(described)}. "
                "Nothing was changed.",
                do,
            ) from error

    # --- lists in a field ---

    def is_list_field(self, word: str) -> bool:
        """Return whether a word is the address of a field that holds a list."""
        book, inner = book_for(self.holder, word)
        if not is_address(book, inner):
            return False
        name = set_named(book, inner)
        rest = inner[len(name) + 1 :]
        return any(
            rest.lower().endswith(f".{field.lower()}") and described.type in LISTS
            for field, described in book.records[name].field.items()
        )

    def items_added(self, word: str, items: Sequence[str], at: int | None) -> list[Operation]:
        """Make the operations that put entries into a list in a field. Raises Trouble."""
        address, described = self._list_address(word)

        def longer(record: Record, _then: str | None) -> str:
            held = self._parts(address, record)
            place = len(held) if at is None else max(0, at)
            new = self._items(address, described, items, record)
            twice = next((item for item in new if described.unique and item in held), None)
            if twice is not None:
                shown = f"{address.name}/{record.key}.{address.field}"
                raise WrongUsage(f"{twice} is in {shown} already. Nothing was changed.")
            return self._joined(address, described, record, [*held[:place], *new, *held[place:]])

        return self._given_each(address, longer)

    def items_removed(self, word: str, items: Sequence[str]) -> list[Operation]:
        """Make the operations that take entries out of a list in a field. Raises Trouble or UnknownName."""
        address, described = self._list_address(word)

        def shorter(record: Record, _then: str | None) -> str:
            held = self._parts(address, record)
            for item in items:
                held.remove(self._held_item(address, record, held, item))
            return self._joined(address, described, record, held)

        return self._given_each(address, shorter)

    def item_moved(self, word: str, item: str, to: int | str) -> list[Operation]:
        """Make the operations that move an entry of a list in a field, to a number, or before another one.

        Raises Trouble or UnknownName.
        """
        address, described = self._list_address(word)

        def reordered(record: Record, _then: str | None) -> str:
            held = self._parts(address, record)
            found = self._held_item(address, record, held, item)
            at = to if isinstance(to, int) else number_before(held, found, self._held_item(address, record, held, to))
            held.remove(found)
            held.insert(at, found)
            return self._joined(address, described, record, held)

        return self._given_each(address, reordered)

    def _list_address(self, word: str) -> tuple[RecordAddress, RecordField]:
        address = self.address(word, with_field=True)
        return address, address.spec.field[address.field]

    @staticmethod
    def _parts(address: RecordAddress, record: Record) -> list[str]:
        held = record.fields.get(address.field)
        return parts_in(held, address.field, address.spec) if held is not None else []

    def _items(self, address: RecordAddress, described: RecordField, items: Sequence[str], record: Record) -> list[str]:
        """Return entries as the file will hold them; each may be typed as people say it."""
        shown = f"{address.name}/{{}}.{address.field}"
        if described.of:
            one_of = replace(described, type=described.of, of="", length=None)
            return [self.stored(shown, one_of, item, (record,)) for item in items]
        free = replace(described, length=None)
        given = [self.stored(shown, free, item, (record,)) for item in items]
        return [part for entry in given for part in entry.split(described.separator) if part]

    def _joined(self, address: RecordAddress, described: RecordField, record: Record, items: Sequence[str]) -> str:
        shown = f"{address.name}/{{}}.{address.field}"
        return self.stored(shown, described, described.separator.join(items), (record,))

    def _held_item(self, address: RecordAddress, record: Record, held: Sequence[str], item: str) -> str:
        """Return the entry that a word means: itself, case aside, or by what it begins with. Raises UnknownName."""
        lowered = item.lower()
        found = [entry for entry in held if entry == item] or [entry for entry in held if entry.lower() == lowered]
        found = found or [entry for entry in held if entry.lower().startswith(lowered)]
        if len(set(found)) == 1:
            return found[0]
        shown = f"{address.name}/{record.key}.{address.field}"
        if found:
            raise WrongUsage(f"'{item}' could be {', '.join(found)}.", f"Say all of it: {found[0]}")
        near = nearest(item, held)
        hint = did_you_mean(item, near) if near else f"There are {', '.join(held) or 'none'}"
        raise UnknownName(f"{shown} has no '{item}'.", hint)

    def _marked(self, made: Sequence[Operation]) -> list[Operation]:
        """Let operations on a set that no rulebook describes say where it is and what names its records."""
        marked = []
        for operation in made:
            if isinstance(operation, RecordOperation) and operation.set not in self.holder.book.records:
                spec = self.book.records[operation.set]
                operation = replace(operation, looks=(spec.at, spec.key))
            marked.append(operation)
        return marked

    def reset(self, word: str) -> list[Operation]:
        """Make the operations that take a field out of a record."""
        address = self.address(word, with_field=True)
        path = self._path(address.spec)
        made = [SetField(path, address.name, record.key, address.field, None) for record in address.records]
        return self._marked(made)

    def stored(self, shown: str, described: RecordField | None, given: str, records: Sequence[Record]) -> str:
        """Return a field's value as the file will hold it; ``shown`` is its address in a message. Raises Trouble."""
        if described is None:
            return given
        try:
            return values.store(values.parse(given, described), described)
        except ValueProblem as error:
            address = shown.format(records[0].key if len(records) == 1 else ALL)
            right = values.sure_meaning(error.meant, described)
            do = typed_command("set", self.holder.name, f"{address}={right}") if right else ""
            may_be = values.describe(described)
            what = f"{address}={given}: {error.cause} ({error.code})\n  It may be {may_be}. Nothing was changed."
            raise Trouble(what, Meant(do, given, right) if right else do) from error

    def added(self, name: str, arguments: Sequence[str], *, like: str = "", at: int | None = None) -> list[Operation]:
        """Make the operation that adds a record. Raises WrongUsage where a field is missing or is none of its set."""
        self.book, word = book_for(self.holder, name)
        name = set_named(self.book, word)
        spec = self.book.records[name]
        key, given = self._given(name, spec, arguments)
        twin = self.twin_of(name, like) if like and self.twin_of is not None else None
        twin = twin or (self._meant(name, spec, like)[0] if like else None)
        found = template_values(spec, given, twin)
        nested = nested_in(twin) if twin is not None else ()
        deep = {pair[0][0] for pair in nested}
        missing = [
            field
            for field, described in spec.field.items()
            if described.needed and not found.get(field) and field_key(field, spec) not in deep
        ]
        for field in list(missing):
            typed = self.ask(f"{name}: {field}", spec.field[field]) if self.ask is not None else ""
            if typed:
                found[field] = self.stored(f"{name}/{{}}.{field}", spec.field[field], typed, ())
                missing.remove(field)
        if spec.key != "*":
            key = found.get(spec.key, "")
        if not key and spec.key not in missing:
            missing.insert(0, spec.key if spec.key != "*" else "its name")
        if missing:
            fields = [f"{field}={OPEN}" if field in spec.field else OPEN for field in missing]
            call = typed_command("add", self.holder.name, name, *arguments, *fields)
            raise WrongUsage(f"A new record of {name} needs {', '.join(missing)}. Nothing was changed.", call)
        if any(record.key == key for record in self.records(name)):
            field = next((field for field in spec.field if field != spec.key), "")
            look = typed_command("show", self.holder.name, name)
            do = typed_command("set", self.holder.name, f"{name}/{key}.{field}={OPEN}") if field else look
            raise WrongUsage(f"{name}/{key} already exists. Nothing was changed.", do)
        if spec.key == "*":
            found.pop("*", None)
        given_keys = {field_key(field, spec) for field in found}
        nested = tuple(pair for pair in nested if pair[0][0] not in given_keys)
        return self._marked([AddRecord(self._path(spec), name, key, tuple(found.items()), at, nested)])

    def _given(self, name: str, spec: RecordSet, arguments: Sequence[str]) -> tuple[str, dict[str, str]]:
        """Read the arguments for a new record: its name where its name in the file is its key, and its fields."""
        key, given = "", {}
        for word in arguments:
            field, value = assignment(word)
            if value is None:
                if key or spec.key != "*":
                    example = [f"{field}={OPEN}" for field in spec.field]
                    call = typed_command("add", self.holder.name, name, *example)
                    raise WrongUsage(f"'{word}' is not a field of a record: a field is given as FIELD=VALUE.", call)
                key = word
                continue
            field = self._field(name, spec, field)
            if is_secret_field(self.book, name, field):
                raise WrongUsage(
                    f"{field} is a secret and must not be part of the command: others on this machine can read it.",
                    f"Leave it out, then: {typed_command('set', self.holder.name, f'{name}/<key>.{field}')} asks you.",
                )
            given[field] = self.stored(f"{name}/{{}}.{field}", spec.field.get(field), value, ())
        return key, given

    def removed(self, word: str) -> list[Operation]:
        """Make the operations that take a record out."""
        address = self.address(word, with_field=False)
        path = self._path(address.spec)
        return self._marked([RemoveRecord(path, address.name, record.key) for record in address.records])

    def moved(self, word: str, to: int | str) -> list[Operation]:
        """Make the operation that moves a record to another number of its set, or before another one.

        Raises WrongUsage or UnknownName.
        """
        address = self.address(word, with_field=False)
        if len(address.records) != 1:
            raise WrongUsage(
                "One record at a time.",
                typed_command("move", self.holder.name, f"{address.name}/<record>", options=("--to", "0")),
            )
        record = address.records[0]
        if isinstance(to, str):
            others = self.address(f"{address.name}/{to.removeprefix(f'{address.name}/')}", with_field=False).records
            if len(others) != 1:
                raise WrongUsage("One record to move it before.", "--before <record>")
            to = number_before([each.key for each in self.records(address.name)], record.key, others[0].key)
        return self._marked([MoveRecord(self._path(address.spec), address.name, record.key, to)])

    def switched(self, word: str, *, on: bool) -> Operation:
        """Make the operation that comments a record out, or lets it count again. Raises WrongUsage or UnknownName."""
        self.book, inner = book_for(self.holder, word)
        name = set_named(self.book, inner)
        spec = self.book.records[name]
        if on:
            key, path = inner[len(name) + 1 :], self._path(spec)
            document = self.holder.outcome(self.holder.operations, [path]).after.document(path)
            is_off = document is not None and path_when_off(document, spec, key) is not None
            if not is_off and not find_records(self.records(name), spec, key):
                off = commented_out(document, spec) if document is not None else {}
                near = nearest(key, off)
                look = typed_command("show", self.holder.name, name)
                hint = did_you_mean(word, f"{name}/{near}") if near else look
                raise UnknownName(f"No {name}/{key} is commented out.", hint)
        else:
            address = self.address(word, with_field=False)
            if len(address.records) != 1:
                do = typed_command("switch", self.holder.name, f"{name}/<record>", options=("--off",))
                raise WrongUsage("One record at a time.", do)
            key = address.records[0].key
        return self._marked([SwitchRecord(self._path(spec), name, key, on)])[0]

    def renamed(self, word: str, new: str) -> list[Operation]:
        """Make the operations that give a record another key, in its own set and wherever it is named.

        Raises WrongUsage where the key is taken, or several records are meant.
        """
        address = self.address(word, with_field=False)
        if len(address.records) != 1:
            do = typed_command("rename", self.holder.name, f"{address.name}/<record>", "<new-name>")
            raise WrongUsage("One record at a time.", do)
        record = address.records[0]
        if any(other.key == new for other in self.records(address.name)):
            raise WrongUsage(f"{address.name}/{new} already exists. Nothing was changed.")
        made: list[Operation] = [RenameRecord(self._path(address.spec), address.name, record.key, new)]
        for name, field, _ in referring(address.name, self.book.records):
            spec = self.book.records[name]
            held = [other.fields[field] for other in self.records(name) if field in other.fields]
            if any(record.key in parts_in(held_value, field, spec) for held_value in held):
                made.append(FollowRename(self._path(spec), name, field, record.key, new))
        return self._marked(made)


def number_before(entries: Sequence[str], moved: str, before: str) -> int:
    """Return the number that an entry gets where it is moved before another one; before itself, the one that it has."""
    return [entry for entry in entries if entry != moved or entry == before].index(before)
