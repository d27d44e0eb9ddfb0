"""Who a name means, who is on which roster, and what would make the rosters as the people book wants them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import date

from msgspec import Struct
from msgspec.structs import replace

from roundgate.api.record_changes import RecordChanges
from roundgate.api.server import OpenServer
from roundgate.api.whom import Someone, whoever
from roundgate.core.advice import holds
from roundgate.core.formats.protocol import EditRefused
from roundgate.core.nearest import nearest
from roundgate.core.next_step import did_you_mean, typed_command
from roundgate.core.operations.base import Operation
from roundgate.core.operations.records import AddRecord, RemoveRecord, SetField, in_order, template_of
from roundgate.core.people.book import People, key_for, with_person, with_table
from roundgate.core.people.ids import ids_in
from roundgate.core.people.rosters import (
    EndedStanding,
    Standing,
    ended_on,
    kind_of_roster,
    kind_of_set,
    people_kind,
    standings_in,
)
from roundgate.core.people.seen import SeenPerson
from roundgate.core.people.until import end_of, end_on, is_over
from roundgate.core.rulebook.model import ItemKind, RecordSet, Roster
from roundgate.host.errors import Trouble, UnknownName, WrongUsage
from roundgate.host.people.book import load_people, places_of, save_people
from roundgate.host.people.seen import seen_on
from roundgate.host.servers import Server
from roundgate.host.site import Site


def standings(server: OpenServer, *, with_slate: bool = False) -> list[Standing]:
    """Return everybody on the rosters of a server, on disk or as the slate would leave them."""
    outcome = server.workspace.outcome(server.workspace.operations)
    return standings_in(outcome.after if with_slate else outcome.before)


def wanted_on(people: People, server: Server, kinds: Iterable[str]) -> dict[tuple[str, str], tuple[str, str]]:
    """Return what the people book wants on a server: (roster, id) to what they are to be there and their key."""
    places = places_of(server)
    found: dict[tuple[str, str], tuple[str, str]] = {}
    for key, person in people.people.items():
        for where, what in person.wanted.items():
            roster, _, rank = what.partition(":")
            if where not in places or is_over(end_on(person, roster, places), date.today()):
                continue
            for kind in kinds:
                found.update({(roster, person_id): (rank, key) for person_id in person.ids.get(kind, ())})
    return found


class Synced(Struct, frozen=True):
    """What would make the rosters of a server as the people book wants them."""

    operations: tuple[Operation, ...]
    unwanted: tuple[Standing, ...]
    """Those whom the book does not want on a roster on which it wants others; they are kept unless asked otherwise."""
    ended: tuple[EndedStanding, ...]
    """Those whose time on a roster is over; they are taken off."""
    standings: tuple[Standing, ...]
    """Those whom the operations change or take off, as they are now."""
    unknown: tuple[str, ...]
    """Rosters that the book names and the server does not have."""


def synced(server: OpenServer, people: People, *, exact: bool = False) -> Synced:
    """Work out who is to be added, changed, and removed: those whose time is over, and where ``exact`` all unwanted."""
    book = server.book
    kinds = {kind_of_roster(book, roster) for roster in book.roster.values()} - {""}
    wanted = wanted_on(people, server.server, kinds)
    unknown = sorted({roster for roster, _ in wanted if roster not in book.roster})
    there = {(standing.roster, standing.id): standing for standing in standings(server, with_slate=True)}
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
    after = server.workspace.outcome(server.workspace.operations).after
    ended = list(ended_on(after, people, places_of(server.server), date.today()))
    over = {(end.standing.roster, end.standing.id) for end in ended}
    managed = {roster for roster, _ in wanted}  # of the others the book says nothing, so nobody on them is unwanted
    unwanted = [
        standing for at, standing in there.items() if standing.roster in managed and at not in wanted and at not in over
    ]
    for leaving in [*(end.standing for end in ended), *(unwanted if exact else ())]:
        spec = book.records[book.roster[leaving.roster].records]
        made.append(RemoveRecord(book.file[spec.file].path, book.roster[leaving.roster].records, leaving.id))
    touched = {operation.record for operation in made if isinstance(operation, SetField | RemoveRecord)}
    standing = tuple(standing for standing in there.values() if standing.id in touched) if touched else ()
    return Synced(tuple(made), tuple(unwanted), tuple(ended), standing, tuple(unknown))


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
    there = {standing.id for standing in standings(server, with_slate=True) if standing.roster == name}
    path = book.file[spec.file].path
    made: list[Operation] = []
    for joining in sure:
        if joining not in there:
            key = people.named(joining, book.kind)
            made.append(_joining(spec, path, roster, Someone(joining, people.people[key].name if key else ""), {}))
    return Imported(tuple(made), tuple(joining for joining in sure if joining in there), tuple(doubtful))


def _joining(spec: RecordSet, path: str, roster: Roster, who: Someone, given: Mapping[str, str]) -> Operation:
    values = template_of(spec)
    if spec.key != "*":
        values[spec.key] = who.id
    if "name" in spec.field and who.name:
        values["name"] = who.name
    return AddRecord(path, roster.records, who.id, tuple(in_order({**values, **given}, spec).items()))


class Joining(Struct, frozen=True):
    """Somebody who is put on a roster: the arguments of `add`, who it is, and when it ends."""

    arguments: list[str]
    who: Someone
    end: str = ""
    """The day on which it ends, where the file has no place for it and the people book has to keep it."""


def joining(
    site: Site, server: OpenServer, name: str, arguments: Sequence[str], rank: str = "", until: str = ""
) -> list[Joining]:
    """Return the arguments for new records of a set, with each name or pasted id made the id that it means.

    Nothing where the records are no people, or no word is one. Raises WrongUsage or UnknownName.
    """
    spec = server.book.records[name]
    kind = people_kind(server.book, spec)
    roster = next((roster for roster in server.book.roster.values() if roster.records == name), None)
    plain = [word for word in arguments if "=" not in word]
    given = [word for word in arguments if "=" in word]
    if rank:
        if roster is None or not roster.rank:
            raise WrongUsage(f"The records of {name} have no rank.", "leave --as out")
        given.append(f"{roster.rank}={rank}")
    end = _end(until)
    if end and roster is None:
        raise WrongUsage(f"{name} is not a roster: nobody's time on it ends.", "leave --until out")
    if end and roster is not None and roster.until:
        given.append(f"{roster.until}={end}")
        end = ""
    if not kind or not plain:
        if rank or until:
            raise WrongUsage("Who?", typed_command("add", server.name, name, "<who>"))
        return []
    return [_joined(spec, whoever(site, server.server, word, kind), given, end) for word in plain]


def _end(until: str) -> str:
    end = end_of(until, date.today()) if until else None
    if until and end is None:
        raise WrongUsage(f"'{until}' is not a time at which something ends.", "--until 2026-12-31, or --until 7d")
    if end is not None and end <= date.today():
        raise WrongUsage(f"{end} is over already.", "--until takes a day to come.")
    return "" if end is None else end.isoformat()


def _joined(spec: RecordSet, who: Someone, given: Sequence[str], end: str) -> Joining:
    if spec.key == "*":
        has_name = any(word.startswith("name=") for word in given) or "name" not in spec.field
        return Joining([who.id, *([] if has_name or not who.name else [f"name={who.name}"]), *given], who, end)
    has_name = any(word.startswith("name=") for word in given)
    named = [f"name={who.name}"] if "name" in spec.field and who.name and not has_name else []
    return Joining([f"{spec.key}={who.id}", *named, *given], who, end)


def keep_end(site: Site, server: OpenServer, records: str, joining: Joining) -> str:
    """Write into the people book when somebody's time on a roster ends, or that it no longer does; say what was done.

    Whoever is not in the book yet comes into it. Raises Trouble.
    """
    roster = next((name for name, roster in server.book.roster.items() if roster.records == records), "")
    people = load_people(site)
    key = people.named(joining.who.id, server.book.kind)
    text, message = people.text, ""
    old = dict(people.people[key].until) if key else {}
    before = dict(old)
    where = f"{server.name}/{roster}"
    if joining.end:
        if not key:
            name = joining.who.name or joining.who.id
            key = key_for(name, people.people)
            text = with_person(text, key, name, {kind_of_set(server.book.records[records]): [joining.who.id]})
            message = f"{name} is in the people book now, as {key}"
        old[where] = joining.end
    elif old.pop(where, None) is None:
        return ""
    try:
        save_people(site, with_table(text, ("person", key, "until"), before, old))
    except EditRefused as error:
        raise Trouble(f"people.toml: {error}.", f"Correct 'until' of {key} by hand.") from error
    kept = f"until {joining.end}: the people book keeps that, because the file has no place for it"
    return "; ".join(
        filter(None, (message, kept if joining.end else "the end that the people book had for it is taken out"))
    )


def off_switch(server: OpenServer, records: str) -> list[str]:
    """Return the assignments that let the roster of a set count, where a setting on disk and slate keeps it off."""
    after = server.workspace.outcome(server.workspace.operations).after
    for roster in server.book.roster.values():
        if roster.records == records and roster.on and roster.switch and not holds(roster.on, after.names):
            return [f"{name}={value}" for name, value in roster.switch.items()]
    return []


def roster_named(server: OpenServer, word: str) -> str:
    """Return the name of a roster of a server, by its own name or that of its set of records. Raises UnknownName."""
    for name, roster in server.book.roster.items():
        if word.lower() in (name.lower(), roster.records.lower()):
            return name
    near = nearest(word, server.book.roster)
    hint = did_you_mean(word, near) if near else f"Rosters: {', '.join(server.book.roster) or 'none'}"
    raise UnknownName(f"{server.name} has no roster '{word}'.", hint)


def moved_person(
    site: Site, server: OpenServer, word: str, to: str, rank: str = "", until: str = ""
) -> tuple[list[Operation], str, Joining]:
    """Make the operations that take somebody, ``ROSTER/WHO``, off one roster and put them on another.

    Gives the set of the other roster, and who joins it, too.

    Raises WrongUsage or UnknownName.
    """
    changes = RecordChanges(server.workspace)
    old, slash, who = word.partition("/")
    if not slash:
        raise WrongUsage(
            "Who moves, and from which roster?",
            typed_command("move", server.name, "guests/<name>", options=("--to", to)),
        )
    target = roster_named(server, to)
    records = server.book.roster[roster_named(server, old)].records
    record = changes.address(f"{records}/{who}", with_field=False).records[0]
    into = server.book.roster[target].records
    (newcomer,) = joining(site, server, into, [record.key], rank, until)
    name = record.value("name")
    if (
        name
        and "name" in server.book.records[into].field
        and not any(word.startswith("name=") for word in newcomer.arguments)
    ):
        newcomer = replace(newcomer, arguments=[*newcomer.arguments, f"name={name}"])
    return [*changes.removed(f"{records}/{record.key}"), *changes.added(into, newcomer.arguments)], into, newcomer


def seen_everywhere(servers: Iterable[OpenServer]) -> dict[str, dict[str, SeenPerson]]:
    """Return who was seen on each server; those whose rulebook names no logs are left out."""
    found: dict[str, dict[str, SeenPerson]] = {}
    for server in servers:
        try:
            found[server.name] = seen_on(server.server)
        except Trouble:
            continue
    return found
