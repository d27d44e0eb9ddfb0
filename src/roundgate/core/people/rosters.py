"""Who is on which roster of a server, whose time there is over, and what they are called."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from contextlib import suppress
from datetime import date
from typing import TYPE_CHECKING

from msgspec import Struct

from roundgate.core import values
from roundgate.core.files import ServerFiles
from roundgate.core.people.until import end_on, is_over
from roundgate.core.records.model import Record
from roundgate.core.records.sets import records_in
from roundgate.core.rulebook.model import ItemKind, RecordSet, Roster, Rulebook

if TYPE_CHECKING:
    from roundgate.core.people.book import People


class Standing(Struct, frozen=True):
    """Somebody on a roster: the roster, the id, what they are there, until when by the file, and the record."""

    roster: str
    id: str
    rank: str
    record: Record
    until: str = ""


def kind_of_roster(book: Rulebook, roster: Roster) -> str:
    """Return the kind of ids of a roster's records."""
    return kind_of_set(book.records[roster.records])


def kind_of_set(spec: RecordSet) -> str:
    """Return the kind of ids that name the records of a set; empty where they are no ids."""
    if spec.key == "*":
        return spec.kind
    return spec.field[spec.key].kind if spec.key in spec.field else ""


def people_kinds(book: Rulebook) -> dict[str, ItemKind]:
    """Return the kinds of ids that people have: those with a form, but for what only other records or lists have."""
    of_people = {kind_of_set(book.records[roster.records]) for roster in book.roster.values()}
    of_others = {kind_of_set(spec) for spec in book.records.values()} | {spec.item for spec in book.list.values()}
    others = of_others - of_people if book.roster else set()
    return {name: kind for name, kind in book.kind.items() if kind.pattern and name not in others}


def people_kind(book: Rulebook, spec: RecordSet) -> str:
    """Return kind of a set whose records are people; empty where they are something else that has a kind of name."""
    kind = kind_of_set(spec)
    return kind if kind in people_kinds(book) or not book.roster else ""


def standings_in(files: ServerFiles, names: Collection[str] | None = None) -> list[Standing]:
    """Return everybody on the rosters of a server, or on some of them, in the order of its rulebook and its files."""
    book, found = files.book, []
    for name, roster in book.roster.items():
        if names is not None and name not in names:
            continue
        spec = book.records[roster.records]
        for record in records_in(files.document(book.file[spec.file].path), spec):
            rank = record.value(roster.rank) if roster.rank else None
            found.append(Standing(name, record.key, rank or "", record, _until(record, roster, spec)))
    return found


def _until(record: Record, roster: Roster, spec: RecordSet) -> str:
    """Return the day on which a time ends by the file, as YYYY-MM-DD; empty where it does not end or cannot be read."""
    if not roster.until:
        return ""
    stored = record.value(roster.until)
    with suppress(values.ValueProblem):
        return str(values.read(stored, spec.field[roster.until])) if stored else ""
    return ""


class EndedStanding(Struct, frozen=True):
    """Somebody whose time on a roster is over, and who is still on it."""

    standing: Standing
    end: str
    in_file: bool
    """True where the server's own file says when it ends, False where the people book does."""


def ended_on(files: ServerFiles, people: People, places: Collection[str], today: date) -> Iterator[EndedStanding]:
    """Yield those whose time on a roster is over; ``places`` are the server's name, its tags, and ``@all``."""
    kinds = files.book.kind
    by_book = {where.rpartition("/")[2] for person in people.people.values() for where in person.until}
    ending = [name for name, roster in files.book.roster.items() if roster.until or name in by_book]
    for standing in standings_in(files, ending):
        if standing.until:
            if is_over(standing.until, today):
                yield EndedStanding(standing, standing.until, in_file=True)
            continue
        key = people.named(standing.id, kinds) if standing.roster in by_book else ""
        end = end_on(people.people[key], standing.roster, places) if key else ""
        if end and is_over(end, today):
            yield EndedStanding(standing, end, in_file=False)
