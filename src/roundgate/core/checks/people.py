"""Does the people book agree with the rosters: whose time is over, who has two entries, and who has another name?"""

from __future__ import annotations

from collections.abc import Collection, Iterator
from datetime import date
from typing import TYPE_CHECKING

from roundgate.core.checks.context import CheckContext
from roundgate.core.findings import Finding, FindingCode, Place
from roundgate.core.formats.protocol import Entry
from roundgate.core.next_step import Advice, typed_command
from roundgate.core.people.rosters import Standing, ended_on, standings_in

if TYPE_CHECKING:
    from roundgate.core.people.book import People

CLUSTER_DIFFERS = "cluster-differs"

CODES = (
    FindingCode(
        "person-due",
        "warning",
        "Somebody whose time on a roster is over",
        "A ban or a trial rank that was meant to end, and is still there. 'roster sync' takes it off.",
    ),
    FindingCode(
        "person-name",
        "note",
        "Somebody who has another name in the people book",
        "The id says who it is. An unknown name is easily mistaken for somebody else's.",
    ),
    FindingCode(
        "person-doubled",
        "note",
        "One person on a roster under two ids",
        "The people book says that both ids are the same person's. Take one off, and the other goes on counting.",
    ),
    FindingCode(
        "people-same-id",
        "error",
        "One id of two people in the people book",
        "Whoever has it would be both. 'people merge' makes one person of two.",
        'ids.sailor = ["GW-7K3M-Q2XD"], for Wren and for Jenny Wren',
        'ids.sailor = ["GW-7K3M-Q2XD"], for Wren, who is also called Jenny Wren',
    ),
    FindingCode(
        CLUSTER_DIFFERS,
        "warning",
        "A setting that a cluster shares, and that is not the same on all of its servers",
        "The site file says that it must be. Players who go from one server to the other meet the difference.",
        "tick.rate is 30 on harbour and 20 on regatta",
        "tick.rate is 30 on both",
    ),
    FindingCode("people-book", "error", "A mistake in the people book", "The line named is where it cannot be read."),
)


def check_people(
    context: CheckContext, people: People, places: Collection[str], today: date, file: str
) -> Iterator[Finding]:
    """Compare a server's rosters with the people book, whose name is ``file``.

    ``places`` are the names by which the book means the server.
    """
    book = context.book
    for end in ended_on(context.files, people, places, today):
        who = _name(end.standing, people, context)
        by = "" if end.in_file else f", by {file}"
        cause = f"{who}'s time on {end.standing.roster} ended on {end.end}{by}."
        do = context.command("roster sync")
        yield _finding(context, "person-due", end.standing, cause, do)
    held: dict[tuple[str, str], Standing] = {}
    for standing in standings_in(context.files) if people.people else ():
        key = people.named(standing.id, book.kind)
        if not key:
            continue
        person, records = people.people[key], book.roster[standing.roster].records
        name = standing.record.value("name")
        if name and name.lower() not in {called.lower() for called in (person.name, *person.also)}:
            cause = f"{standing.id} is called {name} in {standing.roster}, and {person.name} in the people book."
            do = context.command("set", f"{records}/{standing.id}.name={person.name}")
            yield _finding(context, "person-name", standing, cause, do)
        first = held.setdefault((standing.roster, key), standing)
        if first.id != standing.id:
            cause = f"{person.name} is on {standing.roster} twice: as {first.id} and as {standing.id}."
            do = context.command("remove", f"{records}/{standing.id}")
            yield _finding(context, "person-doubled", standing, cause, do)


def _name(standing: Standing, people: People, context: CheckContext) -> str:
    key = people.named(standing.id, context.book.kind)
    return people.people[key].name if key else standing.record.value("name") or standing.id


def _finding(context: CheckContext, code: str, standing: Standing, cause: str, do: Advice) -> Finding:
    level = next(known.level for known in CODES if known.name == code)
    return context.finding(code, level, _place(context, standing), cause, do, standing.roster)


def _place(context: CheckContext, standing: Standing) -> Place:
    spec = context.book.records[context.book.roster[standing.roster].records]
    path = context.book.file[spec.file].path
    document = context.files.document(path)
    entries = next((field.entries for field in standing.record.fields.values()), ())
    entry: Entry | None = entries[0] if entries else document.find(standing.record.path) if document else None
    return context.entry_place(path, entry) if entry else Place(path)


def same_ids(people: People, file: str) -> Iterator[Finding]:
    """Find ids that the book gives to two people."""
    owners: dict[str, str] = {}
    for key, person in people.people.items():
        for person_id in sorted(person.all_ids()):
            other = owners.setdefault(person_id, key)
            if other != key:
                cause = f"{person_id} is an id of {people.people[other].name} ({other}) and of {person.name} ({key})."
                line, column = _line_of(people, key)
                do = typed_command("people merge", "", other, key)
                yield Finding("people-same-id", "error", Place(file, line, column), cause, do)


def _line_of(people: People, key: str) -> tuple[int, int]:
    from roundgate.core.formats import FORMATS

    for entry in FORMATS["toml"].read(people.text).entries():
        if entry.path[:2] == ("person", key):
            return people.text.place(entry.key_start if entry.key_end > entry.key_start else entry.start)
    return 0, 0
