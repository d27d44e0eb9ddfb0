"""Reading a server's ranks out of sets of records, in whichever shape its files have them; members out of rosters."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from contextlib import suppress

from roundgate.core.advice import holds
from roundgate.core.files import ServerFiles
from roundgate.core.findings import Place
from roundgate.core.formats.places import find_key
from roundgate.core.formats.protocol import Entry as FileEntry
from roundgate.core.people.book import People
from roundgate.core.ranks.model import RankEntry, RankGroup, RankMember, Scheme
from roundgate.core.records.model import Record, entries_in
from roundgate.core.records.rows import rows_with
from roundgate.core.records.sets import records_in
from roundgate.core.rulebook.model import RankFlags, Ranks, Roster, Rulebook


def schemes_of(files: ServerFiles, people: People | None = None) -> list[Scheme]:
    """Read the ranks that count on a server, one scheme for each of its rulebook's tables that does."""
    names = [name for name in tables_of(files.book) if counts(files, name) and is_loaded(files, name)]
    return [scheme_of(files, name, people) for name in names]


def tables_of(book: Rulebook) -> list[str]:
    """Name the tables of ranks that have files; of ranks by world, one for each world that has a file."""
    return [name for name, spec in book.ranks.items() if spec.groups or spec.levels]


def counts(files: ServerFiles, name: str) -> bool:
    """Return whether a server goes by one of the tables of ranks that its rulebook has."""
    when = files.book.ranks[name].when
    return not when or holds(when, files.names)


def is_loaded(files: ServerFiles, name: str) -> bool:
    """Return whether the ranks are those of the world that the server loads; true where there is one file for all."""
    world = files.book.ranks[name].world
    return not world or files.counting_text(world) == name.partition("@")[2]


def scheme_of(files: ServerFiles, name: str, people: People | None = None) -> Scheme:
    """Read the ranks of one of the rulebook's tables, as the files of a server have them."""
    spec = files.book.ranks[name]
    default = _default(files, spec)
    members = _members(files, spec, people)
    if spec.levels:
        groups = _numbers(files, spec, {default, *(group for member in members.values() for group in member.groups)})
    else:
        groups = _groups(files, spec)
    defaults = _flagged(files, spec) if spec.newcomer and spec.groups else [default] if default else []
    return Scheme(
        groups,
        members,
        default=defaults[0] if defaults else "",
        order=spec.order,
        any_case=spec.any_case,
        unknown=spec.unknown == "may",
        wildcard=spec.wildcard,
        name=name,
        defaults=tuple(defaults),
    )


def records_of(files: ServerFiles, name: str) -> list[Record]:
    """Return the records of a set of a server's rulebook."""
    spec = files.book.records[name]
    return records_in(files.document(files.book.file[spec.file].path), spec)


def paths_of(files: ServerFiles, name: str) -> list[str]:
    """Return the paths of the files that hold a table's ranks and their members, each once."""
    book, spec = files.book, files.book.ranks[name]
    sets = [set_name for set_name in (spec.groups, spec.levels) if set_name]
    sets += [*spec.more, *(book.roster[member].records for member in spec.members)]
    return list(dict.fromkeys(book.file[book.records[set_name].file].path for set_name in sets))


# --- groups ---


def _groups(files: ServerFiles, spec: Ranks) -> dict[str, RankGroup]:
    """Read ranks that are records, each with the fields that further sets have of it."""
    found: dict[str, RankGroup] = {}
    further = {set_name: {record.key: record for record in records_of(files, set_name)} for set_name in spec.more}
    for record in records_of(files, spec.groups):
        parts = [
            (spec.groups, record),
            *((set_name, held[record.key]) for set_name, held in further.items() if record.key in held),
        ]
        entries: list[tuple[int, RankEntry]] = []
        parents: list[str] = []
        power = 0.0
        for set_name, part in parts:
            reader = _Part(files, set_name, part, record.key)
            entries += reader.flags(spec) if spec.flags is not None else reader.lists(spec)
            parents += [entry.value for entry in reader.entries(spec.also)]
            with suppress(ValueError):
                power = float(part.value(spec.power) or power) if spec.power else power
        if spec.flags is None:
            entries.sort(key=lambda entry: entry[0])  # as the file has them, grants and denials among each other
        found[record.key] = RankGroup(record.key, tuple(entry for _, entry in entries), tuple(parents), power)
    return found


class _Part:
    """What one set of records says of a rank, or of a member."""

    def __init__(self, files: ServerFiles, set_name: str, record: Record, holder: str) -> None:
        self.files, self.record, self.holder = files, record, holder
        self.set = files.book.records[set_name]
        self.path = files.book.file[self.set.file].path

    def entries(self, field: str) -> list[FileEntry]:
        """Return the entries of a field that holds several."""
        held = self.record.fields.get(field) if field else None
        return entries_in(held, field, self.set) if held is not None else []

    def lists(self, spec: Ranks | Roster) -> list[tuple[int, RankEntry]]:
        """Return what fields that are lists grant and deny, each with its place in the file."""
        return [
            (entry.start, RankEntry(entry.value, allows, self.holder, self.place(entry)))
            for field, allows in ((spec.may, True), (spec.never, False))
            for entry in self.entries(field)
        ]

    def flags(self, spec: Ranks) -> list[tuple[int, RankEntry]]:
        """Return what fields that are switches grant and deny; what has neither of the two values is not an entry."""
        flags = spec.flags or RankFlags()
        found = []
        for name, held in self.record.fields.items():
            is_other = name in self.set.field and name not in spec.permissions and name != flags.everything
            if is_other or not held.entries or held.values[0] not in (flags.on, flags.off):
                continue
            entry, is_on = held.entries[0], held.values[0] == flags.on
            if name == flags.everything:
                if is_on:
                    found.append(
                        (entry.start, RankEntry(spec.wildcard, True, self.holder, self.place(entry), flags.but))
                    )
                continue
            found.append((entry.start, RankEntry(name, is_on, self.holder, self.place(entry))))
        return found

    def place(self, entry: FileEntry) -> Place:
        """Return the place of an entry."""
        return entry_place(self.files, self.path, entry)


def _numbers(files: ServerFiles, spec: Ranks, more: Collection[str]) -> dict[str, RankGroup]:
    """Make a rank of each number that is needed or held: it grants what needs just that, and has what is below."""
    needed: dict[str, list[RankEntry]] = {level: [] for level in more if _number(level) is not None}
    path = files.book.file[files.book.records[spec.levels].file].path
    for record in records_of(files, spec.levels):
        held = record.fields.get(spec.level)
        value = held.values[0] if held is not None and held.values else ""
        if held is not None and _number(value) is not None:
            place = entry_place(files, path, held.entries[0])
            needed.setdefault(value, []).append(RankEntry(record.key, True, value, place))
    ordered = sorted(needed, key=lambda level: _number(level) or 0.0)
    return {
        level: RankGroup(level, tuple(needed[level]), (ordered[at - 1],) if at else (), _number(level) or 0.0)
        for at, level in enumerate(ordered)
    }


def _number(text: str) -> float | None:
    try:
        return float(text)
    except ValueError:
        return None


def entry_place(files: ServerFiles, path: str, entry: FileEntry) -> Place:
    """Return the place of an entry of a file."""
    document = files.document(path)
    if document is None:
        return Place(path)
    line, column = document.text.place(entry.start)
    return Place(path, line, column, max(1, entry.end - entry.start))


def record_place(files: ServerFiles, set_name: str, record: Record) -> Place:
    """Return the place of a record."""
    path = files.book.file[files.book.records[set_name].file].path
    document = files.document(path)
    entry = document.find(record.path) if document is not None and record.path else None
    entry = entry or next((entry for held in record.fields.values() for entry in held.entries), None)
    if entry is None or document is None:
        return Place(path)
    line, column = document.text.place(entry.key_start)
    return Place(path, line, column, max(1, entry.key_end - entry.key_start))


def _default(files: ServerFiles, spec: Ranks) -> str:
    """Return the group of those who are in none: by a key of a file, else as the rulebook says."""
    file, colon, key = spec.newcomers.rpartition(":")
    if not colon:
        return spec.newcomers
    entry = find_key(files.document(file), key)
    return entry.value if entry is not None else ""


def _flagged(files: ServerFiles, spec: Ranks) -> list[str]:
    """Return the groups whose field says that they are that of newcomers."""
    return [
        record.key
        for record in records_of(files, spec.groups)
        if (record.value(spec.newcomer) or "").lower() in ("1", "true", "yes", "on")
    ]


# --- members ---


def _members(files: ServerFiles, spec: Ranks, people: People | None) -> Mapping[str, RankMember]:
    groups: dict[str, tuple[str, ...]] = {}
    shared: dict[tuple[str, ...], tuple[str, ...]] = {}
    """Equal ranks of many people are one tuple."""
    own: dict[str, tuple[RankEntry, ...]] = {}
    names: dict[str, str] = {}
    for name in spec.members:
        roster = files.book.roster[name]
        records = files.book.records[roster.records]
        document = files.document(files.book.file[records.file].path)
        for member, (ranks, called) in rows_with(document, records, (roster.rank, "name")):
            names[member] = (
                _known(files, member, people) or (called[0] if called else "") or names.get(member, "") or member
            )
            whole = (*groups.get(member, ()), *ranks)
            groups[member] = shared.setdefault(whole, whole)
        if roster.may or roster.never:
            _add_own(files, roster, names, own)
    return {
        member: RankMember(member, names[member], _once(found), own.get(member, ())) for member, found in groups.items()
    }


def _add_own(
    files: ServerFiles, roster: Roster, names: Mapping[str, str], own: dict[str, tuple[RankEntry, ...]]
) -> None:
    """Add what people of a roster are granted and denied by themselves."""
    for record in records_of(files, roster.records):
        found = sorted(_Part(files, roster.records, record, names[record.key]).lists(roster), key=lambda at: at[0])
        if found:
            own[record.key] = (*own.get(record.key, ()), *(entry for _, entry in found))


def _once(names: tuple[str, ...]) -> tuple[str, ...]:
    """Return names each once, in order."""
    return names if len(set(names)) == len(names) else tuple(dict.fromkeys(names))


def _known(files: ServerFiles, identifier: str, people: People | None) -> str:
    """Return what the people book calls somebody; empty where they are not in it."""
    key = people.named(identifier, files.book.kind) if people is not None else ""
    return people.people[key].name if people is not None and key else ""
