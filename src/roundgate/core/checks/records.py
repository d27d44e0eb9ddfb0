"""Are the records of a set whole, each with a key of its own, and do the records that they name exist?"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping
from decimal import Decimal
from itertools import pairwise

from roundgate.core import values
from roundgate.core.advice import holds
from roundgate.core.checks.context import CheckContext
from roundgate.core.findings import Finding, FindingCode, Level, Place
from roundgate.core.formats.protocol import Entry
from roundgate.core.nearest import nearest
from roundgate.core.next_step import Advice
from roundgate.core.people.ids import has_form, identities, meant_id
from roundgate.core.people.rosters import kind_of_set
from roundgate.core.records.model import HeldField, Record, entries_in, parts_in
from roundgate.core.records.sets import records_below, records_in, referring
from roundgate.core.rulebook.model import RecordField, RecordSet
from roundgate.core.values import ValueProblem

CODES = (
    FindingCode(
        "record-field-missing",
        "error",
        "A record without a field that it needs",
        "The server leaves the record out, or stops at it.",
    ),
    FindingCode(
        "record-field-unknown",
        "warning",
        "A field that records of this set do not have",
        "Often a misspelt one: the server ignores it and uses the default of the right one.",
    ),
    FindingCode(
        "record-twice",
        "error",
        "Two records with the same key",
        "The server takes one of them, and which one is undefined.",
    ),
    FindingCode(
        "record-value-twice",
        "error",
        "Two records with the same value in a field that must be unique",
        "Such as one id in two entries.",
    ),
    FindingCode(
        "record-reference",
        "error",
        "A record that names another one which is not there",
        "Such as an officer's rank that is not defined. The server drops it, or stops.",
    ),
    FindingCode(
        "record-order",
        "warning",
        "A record out of order",
        "The server reads them in the order of the file, and expects a number that rises from one to the next.",
    ),
    FindingCode(
        "record-unused",
        "note",
        "A record that no other one names",
        "Such as a category without a role. It does nothing, or is a leftover of something that was removed.",
    ),
    FindingCode("records-few", "error", "Too few records", "The server needs more of them."),
    FindingCode("records-many", "error", "Too many records", "The server reads only the first ones."),
    FindingCode(
        "roster-off",
        "warning",
        "A list of people that does not count",
        "Such as an allow list while the setting that switches it on is off: anybody may join.",
    ),
    FindingCode(
        "person-banned",
        "warning",
        "Somebody who is banned, and admin or guest as well",
        "Most servers let the ban count. One of the two is left over.",
    ),
    FindingCode(
        "record-value-same",
        "note",
        "Two records with the same value where each should have its own",
        "Such as the same colour for two categories, or the same place in the order: players mix them up, or "
        "the server puts them in an order of its own. The rulebook says whether it is a note or a warning.",
        'category("HELM", { order = 1 })  category("DECK", { order = 1 })',
        'category("HELM", { order = 1 })  category("DECK", { order = 2 })',
    ),
    FindingCode(
        "record-unseen",
        "warning",
        "Something that no catalogue has and no other record",
        "The rulebook cannot list all that there is, as mods bring more. What no other record has as well is often "
        "misspelt, and the server silently leaves it out.",
        'gear = { "compas" }',
        'gear = { "compass" }',
    ),
    FindingCode(
        "position-twice",
        "warning",
        "Two positions in the same place",
        "What is put there is one inside the other, or the server uses only one. Often a line was pasted twice.",
        '"positions": ["12 3 0|90 0 0", "12 3 0|45 0 0"]',
        '"positions": ["12 3 0|90 0 0", "14 3 0|45 0 0"]',
    ),
    FindingCode(
        "record-plain",
        "error",
        "A plain value among records, or a record among plain values",
        "The server expects the same kind of entry everywhere in the list.",
    ),
)


def check_records(context: CheckContext, written: Collection[str] | None = None) -> Iterator[Finding]:
    """Check every set of records whose file exists; where ``written`` names files, only what those can have changed."""
    sets = context.book.records
    paths = {name: context.book.file[spec.file].path for name, spec in sets.items()}
    looked_at = {name for name in sets if written is None or paths[name] in written}
    looked_at |= {name for to in set(looked_at) for name, _, _ in referring(to, sets)}
    looked_at |= {field.to for name in set(looked_at) for field in sets[name].field.values() if field.to in sets}
    needed = looked_at | {field.to for name in looked_at for field in sets[name].field.values() if field.to in sets}
    known = {name: records_in(context.files.document(paths[name]), sets[name]) for name in needed}
    keys = {  # where a set's file is not there, the server has records of its own that nobody can see
        name: [record.key for record in records]
        for name, records in known.items()
        if paths[name] in context.files.texts
    }
    for name in keys:  # those that only the overridden file has count too
        keys[name] += [record.key for record in records_below(context.book, sets[name], context.files.document)]
    for name in sets:
        if name in looked_at and context.files.document(paths[name]) is not None:
            yield from _count(context, name, sets[name], len(known[name]))
            yield from _doubles(context, name, sets[name], known[name])
            yield from _out_of_order(context, name, sets[name], known[name])
            yield from _unused(context, name, known)
            yield from _same_values(context, name, sets[name], known[name])
            yield from _unseen(context, name, sets[name], known[name])
            for record in known[name] if sets[name].field or sets[name].key != "*" else ():
                yield from _record(context, name, sets[name], record, keys)


def check_rosters(context: CheckContext) -> Iterator[Finding]:
    """Check rosters against each other, and whether they count at all."""
    book = context.book
    held: dict[str, list[Record]] = {}
    for name, roster in book.roster.items():
        spec = book.records[roster.records]
        path = book.file[spec.file].path
        held[name] = records_in(context.files.document(path), spec) if path in context.files.texts else []
        if roster.on and held[name] and not holds(roster.on, context.files.names):
            cause = f"{name} has {len(held[name])} entries and does not count: {roster.on} does not hold."
            assignments = [f"{setting}={value}" for setting, value in roster.switch.items()]
            do = context.command("set", *assignments) if assignments else context.command("explain", roster.records)
            yield context.finding("roster-off", "warning", Place(path), cause, do, name)
    for ban in (name for name, roster in book.roster.items() if roster.meaning == "ban"):
        banned = {record.key for record in held[ban]}
        for name in (other for other, roster in book.roster.items() if roster.meaning in ("admin", "allow")):
            spec = book.records[book.roster[name].records]
            for record in (record for record in held[name] if record.key in banned):
                cause = f"{record.title(spec)} is on {name} and on {ban}."
                do = context.command("remove", f"{book.roster[name].records}/{record.key}")
                place = _place(context, spec, record)
                yield context.finding("person-banned", "warning", place, cause, do, name)


def _place(context: CheckContext, spec: RecordSet, record: Record, held: HeldField | None = None) -> Place:
    path = context.book.file[spec.file].path
    entries = held.entries if held is not None else next((field.entries for field in record.fields.values()), ())
    document = context.files.document(path)
    entry = entries[0] if entries else document.find(record.path) if document else None
    return context.entry_place(path, entry) if entry else Place(path)


def _count(context: CheckContext, name: str, spec: RecordSet, count: int) -> Iterator[Finding]:
    place = Place(context.book.file[spec.file].path)
    if count < spec.least:
        cause = f"{name} needs at least {spec.least}; there {'is' if count == 1 else 'are'} {count}."
        yield context.finding("records-few", "error", place, cause, context.command("add", name), name)
    if spec.most is not None and count > spec.most:
        cause = f"{name} may have {spec.most}; there are {count}."
        yield context.finding("records-many", "error", place, cause, f"Remove {count - spec.most} of them.", name)


def _doubles(context: CheckContext, name: str, spec: RecordSet, records: list[Record]) -> Iterator[Finding]:
    seen: dict[str, str] = {}
    kind = context.book.kind.get(kind_of_set(spec))
    keys = [record.key for record in records]
    known = list(identities(keys, kind)) if kind is not None and kind.pattern else [(key, "") for key in keys]
    is_well = len({meant for meant, _ in known}) == len(known) and not any(wrong for _, wrong in known)
    for record, (meant, wrong) in zip(records, known, strict=True) if not is_well else ():
        mistake = wrong if spec.key == "*" else ""  # the value of a field is checked as such
        if meant in seen:
            place = _place(context, spec, record, record.fields.get(spec.key))
            other = "" if seen[meant] == record.key else f", as {seen[meant]}"
            cause = f"{name} has {record.key} more than once{other}."
            yield context.finding("record-twice", "error", place, cause, "Delete one of them.", name)
        seen[meant] = record.key
        if mistake and kind is not None:
            right = meant_id(record.key, kind)
            like = f" It should look like {kind.example}." if not has_form(record.key, kind) else ""
            hint = f" Did you mean {right}?" if right else like
            do = context.command("rename", f"{name}/{record.key}", right) if right else context.command("explain", name)
            place = _place(context, spec, record)
            yield context.finding("value-pattern", "error", place, f"{mistake}{hint}", do, name)
    for field in (unique for unique, described in spec.field.items() if described.unique and unique != spec.key):
        held: set[str] = set()
        for record in records:
            value = record.value(field)
            if value is not None and value in held:
                place = _place(context, spec, record, record.fields[field])
                cause = f"The {field} {value} is in more than one of {name}."
                yield context.finding("record-value-twice", "error", place, cause, "Correct one of them.", name)
            held.add(value or "")


def _out_of_order(context: CheckContext, name: str, spec: RecordSet, records: list[Record]) -> Iterator[Finding]:
    """Find the first record whose number does not rise above that of the one before."""
    field = spec.field.get(spec.ordered)
    before: tuple[Record, object] | None = None
    for record in records if field is not None else ():
        stored = record.value(spec.ordered)
        try:
            value = values.number_behind(values.read(stored, field), field) if stored is not None and field else None
        except ValueProblem:
            continue
        if not isinstance(value, Decimal | int):
            continue
        if before is not None and isinstance(before[1], Decimal | int) and value <= before[1]:
            cause = (
                f"{record.title(spec)} has {spec.ordered} {stored}, and {before[0].title(spec)} before it has "
                f"{before[0].value(spec.ordered)}: they must rise."
            )
            place = _place(context, spec, record, record.fields[spec.ordered])
            do = _move_into_order(context, name, spec, records, record)
            yield context.finding("record-order", "warning", place, cause, do, name)
            return
        before = record, value


def _move_into_order(
    context: CheckContext, name: str, spec: RecordSet, records: list[Record], record: Record
) -> Advice:
    """Return the command that moves a record to where its number belongs; advice where more than that is wrong."""
    field = spec.field[spec.ordered]
    numbers = [_number(other, spec, field) for other in records]
    was = records.index(record)
    number = numbers.pop(was)
    at = sum(other < number for other in numbers)
    numbers.insert(at, number)
    if any(one >= other for one, other in pairwise(numbers)):
        return f"Correct {spec.ordered} of one of them."
    return context.command("move", f"{name}/{record.key}", options=("--to", str(at)))


def _number(record: Record, spec: RecordSet, field: RecordField | None) -> Decimal | int:
    stored = record.value(spec.ordered)
    try:
        value = values.number_behind(values.read(stored, field), field) if stored is not None and field else None
    except ValueProblem:
        value = None
    return value if isinstance(value, Decimal | int) else Decimal("-Infinity")


def _unused(context: CheckContext, name: str, known: Mapping[str, list[Record]]) -> Iterator[Finding]:
    """Find records that nothing names, where the rulebook says that this is odd."""
    spec = context.book.records[name]
    if not spec.used:
        return
    named = {
        value
        for other, field, _ in referring(name, context.book.records)
        for record in _known(context, other, known)
        if field in record.fields
        for value in parts_in(record.fields[field], field, context.book.records[other])
    }
    for record in known[name]:
        if record.key not in named:
            others = ", ".join(dict.fromkeys(other for other, _, _ in referring(name, context.book.records)))
            cause = f"None of {others} names {name}/{record.key}."
            do = context.command("remove", f"{name}/{record.key}")
            yield context.finding("record-unused", "note", _place(context, spec, record), cause, do, name)


def _same_values(context: CheckContext, name: str, spec: RecordSet, records: list[Record]) -> Iterator[Finding]:
    """Find records with the same value in a field where the rulebook calls that odd."""
    for field, described in spec.field.items():
        first: dict[str, Record] = {}
        for record in records if described.distinct else ():
            value = record.value(field)
            other = first.setdefault(value, record) if value is not None else record
            if other is not record:
                cause = f"{record.title(spec)} and {other.title(spec)} have the same {field}, {value}."
                do = context.command("set", f"{name}/{record.key}.{field}=<value>")
                place = _place(context, spec, record, record.fields[field])
                level: Level = "warning" if described.distinct == "warning" else "note"
                yield context.finding("record-value-same", level, place, cause, do, name)


def _unseen(context: CheckContext, name: str, spec: RecordSet, records: list[Record]) -> Iterator[Finding]:
    """Find entries that neither the catalogue of their field has nor another record."""
    path = context.book.file[spec.file].path
    for field, described in spec.field.items():
        if not described.seen:
            continue
        holders: dict[str, set[str]] = {}
        entries = [
            (record, entry)
            for record in records
            if field in record.fields
            for entry in entries_in(record.fields[field], field, spec)
        ]
        for record, entry in entries:
            holders.setdefault(entry.value, set()).add(record.key)
        for record, entry in entries:
            if entry.value in described.catalogue or len(holders[entry.value]) > 1 or not entry.value:
                continue
            others = [key for key, keys in holders.items() if len(keys) > 1]
            near = nearest(entry.value, [*described.catalogue, *others], least=70)
            hint = f" Did you mean {near}?" if near else ""
            cause = (
                f"{record.title(spec)}: the {field} '{entry.value}' is in no other record and in no catalogue.{hint}"
            )
            held = record.fields[field]
            right = described.separator.join(
                near if part == entry.value else part for part in parts_in(held, field, spec)
            )
            do = (
                context.command("set", f"{name}/{record.key}.{field}={right}")
                if near
                else context.command("explain", name)
            )
            yield context.finding("record-unseen", "warning", context.entry_place(path, entry), cause, do, name)


def _known(context: CheckContext, name: str, known: Mapping[str, list[Record]]) -> list[Record]:
    if name in known:
        return known[name]
    spec = context.book.records[name]
    return records_in(context.files.document(context.book.file[spec.file].path), spec)


def _record(
    context: CheckContext, name: str, spec: RecordSet, record: Record, keys: Mapping[str, list[str]]
) -> Iterator[Finding]:
    if spec.field and not record.fields and spec.key != "*":
        cause = f"This is a plain value, and the entries of {name} are records."
        do = context.command("remove", f"{context.book.file[spec.file].path}:{spec.at[:-3]}", record.key or "ENTRY")
        yield context.finding("record-plain", "error", _place(context, spec, record), cause, do, name)
        return
    for field, described in spec.field.items():
        if described.needed and field not in record.fields:
            cause = f"{record.title(spec)} has no {field}."
            do = context.command("set", f"{name}/{record.key}.{field}=<value>")
            yield context.finding("record-field-missing", "error", _place(context, spec, record), cause, do, name)
    for field, held in record.fields.items():
        if field in spec.field:
            yield from _field(context, name, record, held, spec, field, keys)
        elif not spec.partly:
            near = nearest(field, [missing for missing in spec.field if missing not in record.fields], least=75)
            hint = f" Did you mean {near}?" if near else ""
            cause = f"The rulebook knows no field '{field}' of {name}.{hint}"
            do = context.command("explain", name)
            place = _place(context, spec, record, held)
            yield context.finding("record-field-unknown", "warning", place, cause, do, name)


def _field(
    context: CheckContext,
    name: str,
    record: Record,
    held: HeldField,
    spec: RecordSet,
    field: str,
    keys: Mapping[str, list[str]],
) -> Iterator[Finding]:
    """Check one field of one record: its value, and what it names."""
    described, path = spec.field[field], context.book.file[spec.file].path
    if held.is_nested:
        return
    wrong: set[int] = set()
    yield from _positions(context, name, record, held, spec, field)
    yield from _missing_paths(context, name, record, held, spec, field)
    for entry in entries_in(held, field, spec) if held.is_list else held.entries[:1]:
        problem = _problem(entry, described, is_one_of_list=held.is_list)
        address = f"{name}/{record.key}.{field}"
        if problem is not None:
            meant = values.sure_meaning(problem.meant, described) if not held.is_list else ""
            do = context.command("set", f"{address}={meant}") if meant else context.command("explain", name)
            place = context.entry_place(path, entry)
            yield context.finding(problem.code, "error", place, f"{record.title(spec)}: {problem.cause}", do, name)
            wrong.add(entry.start)
    for entry in entries_in(held, field, spec) if described.to in keys else ():
        if not entry.value or entry.start in wrong or entry.value in keys[described.to]:
            continue
        near = nearest(entry.value, keys[described.to])
        hint = f" Did you mean {near}?" if near else ""
        cause = f"{record.title(spec)}: there is no {described.to}/{entry.value}.{hint}"
        right = described.separator.join(near if part == entry.value else part for part in parts_in(held, field, spec))
        do = context.command("show", described.to)
        if near:
            do = context.command("set", f"{name}/{record.key}.{field}={right}")
        yield context.finding("record-reference", "error", context.entry_place(path, entry), cause, do, name)


def _positions(
    context: CheckContext, name: str, record: Record, held: HeldField, spec: RecordSet, field: str
) -> Iterator[Finding]:
    """Find positions of a list that lie in the same place, whatever way they face."""
    described, path = spec.field[field], context.book.file[spec.file].path
    if described.type != "list" or described.of != "vector":
        return
    known: dict[tuple[str, ...], str] = {}
    for entry in entries_in(held, field, spec):
        where = tuple(re.findall(r"-?\d+(?:\.\d+)?", entry.value)[:_AXES])
        first = known.setdefault(where, entry.value)
        if first is not entry.value and len(where) > 1:
            cause = f"{record.title(spec)}: {entry.value} is in the same place as {first}."
            do = context.command("remove", f"{name}/{record.key}.{field}", entry.value)
            yield context.finding("position-twice", "warning", context.entry_place(path, entry), cause, do, name)


_AXES = 3
"""Numbers of a position that say where it is; those after them say which way it faces."""


def _missing_paths(
    context: CheckContext, name: str, record: Record, held: HeldField, spec: RecordSet, field: str
) -> Iterator[Finding]:
    """Find paths in a field that lead to nothing."""
    described, path = spec.field[field], context.book.file[spec.file].path
    if "path" not in (described.type, described.of):
        return
    for entry in entries_in(held, field, spec):
        target = f"{described.below.rstrip('/')}/{entry.value}" if described.below else entry.value
        if not entry.value or target in context.files.texts or context.files.facts.has(target) is not False:
            continue
        cause = f"{record.title(spec)}: there is no {target} in the server's folder."
        do = f"Check the name, or put the file there: {target}"
        yield context.finding("path-missing", "error", context.entry_place(path, entry), cause, do, name)


def _problem(entry: Entry, described: RecordField, *, is_one_of_list: bool) -> ValueProblem | None:
    """Return what is wrong with a value; of a list, with one of its entries."""
    try:
        values.read(entry.value, described)
    except ValueProblem as problem:
        if is_one_of_list and problem.code == "value-length":
            return None
        return problem
    return None
