"""Who a name means, who is on which roster, and what would make the rosters as the people book wants them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from msgspec import Struct

from roundgate.api.record_changes import RecordChanges
from roundgate.api.server import OpenServer
from roundgate.core.nearest import nearest
from roundgate.core.operations import AddRecord, Operation, RemoveRecord, SetField
from roundgate.core.operations.records import in_order
from roundgate.core.people.book import People
from roundgate.core.people.ids import ids_in, meant_id
from roundgate.core.people.seen import SeenPerson
from roundgate.core.records.model import Record
from roundgate.core.records.sets import records_in
from roundgate.core.rulebook.model import ItemKind, RecordSet, Roster, Rulebook
from roundgate.host.errors import Trouble, UnknownName, WrongWords
from roundgate.host.people.book import load_people
from roundgate.host.people.seen import seen_on
from roundgate.host.servers import Server
from roundgate.host.site import Site


class Someone(Struct, frozen=True):
    """Whom a word means: an id, the name where it is known, and the key in the people book, empty where not there."""

    id: str
    name: str = ""
    key: str = ""


def kind_of_roster(book: Rulebook, roster: Roster) -> str:
    """Give the kind of ids of a roster's records."""
    return kind_of_set(book.records[roster.records])


def kind_of_set(spec: RecordSet) -> str:
    """Give the kind of ids that name the records of a set; empty where they are no ids."""
    if spec.key == "*":
        return spec.kind
    return spec.field[spec.key].kind if spec.key in spec.field else ""


def whoever(site: Site, server: Server, word: str, kind_name: str) -> Someone:
    """Give whom a word means: an id of a kind as it is, else a name out of the people book, else out of the logs.

    Raises WrongWords where a name means several, UnknownName where nobody is called so.
    """
    kind = server.book.kind.get(kind_name, ItemKind())
    people = load_people(site)
    identifier = meant_id(word, kind) if kind.pattern else ""
    if identifier:
        key = people.named(identifier, server.book.kind)
        return Someone(identifier, people.people[key].name if key else "", key)
    found = [key for key in people.find(word) if people.people[key].ids.get(kind_name)]
    if len(found) > 1:
        shown = ", ".join(f"{people.people[key].name} ({key})" for key in found)
        raise WrongWords(f"'{word}' could be {shown}.", "Say which, by the key in brackets.")
    if found:
        person = people.people[found[0]]
        ids = person.ids[kind_name]
        if len(ids) > 1:
            raise WrongWords(f"{person.name} has several ids: {', '.join(ids)}.", "Give the one that is meant.")
        return Someone(ids[0], person.name, found[0])
    return _from_logs(server, word, people)


def _from_logs(server: Server, word: str, people: People) -> Someone:
    try:
        seen = seen_on(server)
    except Trouble:
        seen = {}
    lowered = word.lower()
    hits = [(one, person) for one, person in seen.items() if lowered in (name.lower() for name in person.names)]
    if len(hits) > 1:
        shown = ", ".join(f"{person.name} ({one}, {person.visits} visits)" for one, person in hits)
        raise WrongWords(f"'{word}' was {shown} in the logs of {server.name}.", "Give the id of the one that is meant.")
    if hits:
        return Someone(hits[0][0], hits[0][1].name)
    known = [person.name for person in people.people.values()] + [person.name for person in seen.values()]
    near = nearest(word, known)
    hint = f"Did you mean {near}?" if near else f"roundgate people seen {server.name}, or give the id"
    raise UnknownName(f"Nobody called '{word}' is in the people book or in the logs of {server.name}.", hint)


class Standing(Struct, frozen=True):
    """Somebody on a roster: the roster, the id, what they are there, and the record."""

    roster: str
    id: str
    rank: str
    record: Record


def standings(server: OpenServer, *, with_slate: bool = False) -> list[Standing]:
    """Give everybody on the rosters of a server, on disk or as the slate would leave them."""
    book = server.book
    outcome = server.workspace.outcome(server.workspace.operations)
    files = outcome.after if with_slate else outcome.before
    found = []
    for name, roster in book.roster.items():
        spec = book.records[roster.records]
        for record in records_in(files.document(book.file[spec.file].path), spec):
            rank = record.value(roster.rank) if roster.rank else None
            found.append(Standing(name, record.key, rank or "", record))
    return found


def wanted_on(people: People, server: Server, kinds: Iterable[str]) -> dict[tuple[str, str], tuple[str, str]]:
    """Give what the people book wants on a server: (roster, id) to what they are to be there and their key."""
    tags = {f"@{tag}" for tag in server.entry.tags} | {"@all", server.name}
    found: dict[tuple[str, str], tuple[str, str]] = {}
    for key, person in people.people.items():
        for where, what in person.wanted.items():
            if where not in tags:
                continue
            roster, _, rank = what.partition(":")
            for kind in kinds:
                found.update({(roster, one): (rank, key) for one in person.ids.get(kind, ())})
    return found


class Synced(Struct, frozen=True):
    """What would make the rosters of a server as the people book wants them."""

    operations: tuple[Operation, ...]
    unwanted: tuple[Standing, ...]
    """Those on a roster whom the book does not want there; they are kept unless asked otherwise."""
    unknown: tuple[str, ...]
    """Rosters that the book names and the server does not have."""


def synced(server: OpenServer, people: People, *, exact: bool = False) -> Synced:
    """Work out who is to be added, changed and, where ``exact``, removed."""
    book = server.book
    kinds = {kind_of_roster(book, roster) for roster in book.roster.values()} - {""}
    wanted = wanted_on(people, server.server, kinds)
    unknown = sorted({roster for roster, _ in wanted if roster not in book.roster})
    there = {(one.roster, one.id): one for one in standings(server, with_slate=True)}
    made: list[Operation] = []
    for (name, identifier), (rank, key) in wanted.items():
        roster = book.roster.get(name)
        if roster is None:
            continue
        spec, path = book.records[roster.records], book.file[book.records[roster.records].file].path
        present = there.get((name, identifier))
        if present is None:
            given = {roster.rank: rank} if rank and roster.rank else {}
            made.append(_joining(spec, path, roster, Someone(identifier, people.people[key].name), given))
        elif rank and roster.rank and present.rank != rank:
            made.append(SetField(path, roster.records, identifier, roster.rank, rank, present.rank))
    unwanted = [one for at, one in there.items() if at not in wanted]
    if exact:
        for one in unwanted:
            spec = book.records[book.roster[one.roster].records]
            made.append(RemoveRecord(book.file[spec.file].path, book.roster[one.roster].records, one.id))
    return Synced(tuple(made), tuple(unwanted), tuple(unknown))


class Imported(Struct, frozen=True):
    """What an import would bring onto a roster."""

    operations: tuple[Operation, ...]
    there: tuple[str, ...]
    """Ids that are on it already."""
    doubtful: tuple[str, ...]
    """What looks like an id and is not written as one."""


def imported(server: OpenServer, people: People, name: str, text: str) -> Imported:
    """Take the ids of a roster's kind out of a text, and make the operations that put the new ones onto it."""
    book = server.book
    roster = book.roster[name]
    spec, kind = book.records[roster.records], book.kind.get(kind_of_roster(book, roster), ItemKind())
    sure, doubtful = ids_in(text, kind)
    there = {one.id for one in standings(server, with_slate=True) if one.roster == name}
    path = book.file[spec.file].path
    made: list[Operation] = []
    for one in sure:
        if one not in there:
            key = people.named(one, book.kind)
            made.append(_joining(spec, path, roster, Someone(one, people.people[key].name if key else ""), {}))
    return Imported(tuple(made), tuple(one for one in sure if one in there), tuple(doubtful))


def _joining(spec: RecordSet, path: str, roster: Roster, who: Someone, given: Mapping[str, str]) -> Operation:
    values = {name: str(value) for name, value in spec.template.items()}
    if spec.key != "*":
        values[spec.key] = who.id
    if "name" in spec.field and who.name:
        values["name"] = who.name
    return AddRecord(path, roster.records, who.id, tuple(in_order({**values, **given}, spec).items()))


def words_with_people(
    site: Site, server: OpenServer, name: str, words: Sequence[str], rank: str = ""
) -> tuple[list[str], Someone | None]:
    """Give the words of a new record with a name in place of an id made an id, and whom it means.

    Raises WrongWords or UnknownName.
    """
    spec = server.book.records[name]
    kind = kind_of_set(spec)
    plain = [word for word in words if "=" not in word]
    given = [word for word in words if "=" in word]
    if not kind or len(plain) != 1:
        return list(words), None
    who = whoever(site, server.server, plain[0], kind)
    roster = next((one for one in server.book.roster.values() if one.records == name), None)
    if rank:
        if roster is None or not roster.rank:
            raise WrongWords(f"The records of {name} have no rank.", "leave --as out")
        given.append(f"{roster.rank}={rank}")
    if spec.key == "*":
        return [who.id, *given], who
    has_name = any(word.startswith("name=") for word in given)
    named = [f"name={who.name}"] if "name" in spec.field and who.name and not has_name else []
    return [f"{spec.key}={who.id}", *named, *given], who


def roster_named(server: OpenServer, word: str) -> str:
    """Give the name of a roster of a server, by its own name or that of its set of records. Raises UnknownName."""
    for name, roster in server.book.roster.items():
        if word.lower() in (name.lower(), roster.records.lower()):
            return name
    near = nearest(word, server.book.roster)
    hint = f"Did you mean {near}?" if near else f"Rosters: {', '.join(server.book.roster) or 'none'}"
    raise UnknownName(f"{server.name} has no roster '{word}'.", hint)


def moved_person(site: Site, server: OpenServer, word: str, to: str, rank: str = "") -> list[Operation]:
    """Make the operations that take somebody, ``ROSTER/WHO``, off one roster and put them on another.

    Raises WrongWords or UnknownName.
    """
    changes = RecordChanges(server.workspace)
    old, slash, who = word.partition("/")
    if not slash:
        raise WrongWords("Who moves, and from which roster?", f"roundgate move {server.name} guests/NAME --to {to}")
    target = roster_named(server, to)
    records = server.book.roster[roster_named(server, old)].records
    record = changes.address(f"{records}/{who}", with_field=False).records[0]
    words, _ = words_with_people(site, server, server.book.roster[target].records, [record.key], rank)
    name = record.value("name")
    spec = server.book.records[server.book.roster[target].records]
    if name and "name" in spec.field and not any(one.startswith("name=") for one in words):
        words.append(f"name={name}")
    return [*changes.removed(f"{records}/{record.key}"), *changes.added(server.book.roster[target].records, words)]


def seen_everywhere(servers: Iterable[OpenServer]) -> dict[str, dict[str, SeenPerson]]:
    """Give who was seen on each server; those whose rulebook names no logs are left out."""
    found: dict[str, dict[str, SeenPerson]] = {}
    for server in servers:
        try:
            found[server.name] = seen_on(server.server)
        except Trouble:
            continue
    return found
