"""Whom a word means: an id, a name out of the people book, or one that was seen in the logs of a server."""

from __future__ import annotations

from msgspec import Struct

from roundgate.core.nearest import how_near, nearest_of_people
from roundgate.core.next_step import did_you_mean, typed_command
from roundgate.core.people.book import People
from roundgate.core.people.ids import has_form, id_mistake, meant_id
from roundgate.core.people.rosters import people_kinds
from roundgate.core.people.seen import SeenPerson
from roundgate.core.rulebook.model import ItemKind
from roundgate.host.errors import SeveralMeant, Trouble, UnknownName, WrongUsage
from roundgate.host.people.book import load_people
from roundgate.host.people.seen import seen_on
from roundgate.host.servers import Server
from roundgate.host.site import Site


class Someone(Struct, frozen=True):
    """Whom a word means: an id, the name where it is known, and the key in the people book, empty where not there."""

    id: str
    name: str = ""
    key: str = ""


def whoever(site: Site, server: Server, word: str, kind_name: str) -> Someone:
    """Return whom a word means: an id of a kind as it is, else a name out of the people book, else out of the logs.

    Raises SeveralMeant where a name means several, UnknownName where nobody is called so, WrongUsage for another id.
    """
    kind = server.book.kind.get(kind_name, ItemKind())
    people = load_people(site)
    identifier = meant_id(word, kind) if kind.pattern else ""
    if identifier:
        key = people.named(identifier, server.book.kind)
        return Someone(identifier, people.people[key].name if key else "", key)
    mistake = id_mistake(word, kind) if kind.pattern and has_form(word, kind) else ""
    if mistake:
        raise WrongUsage(mistake, "Compare it with where it comes from.")
    other = next((name for name, kind in people_kinds(server.book).items() if has_form(word, kind)), "")
    if other:
        example = f", such as {kind.example}" if kind.example else ""
        raise WrongUsage(f"'{word}' is the id of a {other}, and here the id of a {kind_name} is needed{example}.")
    found = [key for key in people.find(word) if people.people[key].ids.get(kind_name)]
    if len(found) > 1:
        shown = ", ".join(f"{people.people[key].name} ({key})" for key in found)
        choices = [(people.people[key].ids[kind_name][0], f"{people.people[key].name} ({key})") for key in found]
        raise SeveralMeant(f"'{word}' could be {shown}.", "Specify which, by the key in brackets.", word, choices)
    if found:
        person = people.people[found[0]]
        ids = person.ids[kind_name]
        if len(ids) > 1:
            cause = f"{person.name} has several ids: {', '.join(ids)}."
            raise SeveralMeant(
                cause, "Give the one that is meant.", word, [(person_id, person.name) for person_id in ids]
            )
        return Someone(ids[0], person.name, found[0])
    return _from_logs(server, word, people, kind)


def _as_an_id(word: str, kind: ItemKind) -> str:
    """Return what an id needs, for a word that was more likely meant as one than as a name; else an empty text."""
    example = kind.example
    if not example or sum(char.isdigit() for char in word) < max(4, len(word) // 2):
        return ""
    if example.isdigit() and word.isdigit():
        return f"An id has {len(example)} digits, and this has {len(word)}."
    return f"An id looks like {example}."


def _from_logs(server: Server, word: str, people: People, kind: ItemKind) -> Someone:
    seen = _seen_on(server)
    lowered = word.lower()
    hits = [
        (person_id, person) for person_id, person in seen.items() if lowered in (name.lower() for name in person.names)
    ]
    if not hits:  # somebody who plays on another server of the site
        others = [_seen_on(Server(server.site, name)) for name in server.site.file.server if name != server.name]
        everywhere = {person_id: person for found in others for person_id, person in found.items()}
        hits = [
            (person_id, person) for person_id, person in everywhere.items() if lowered in map(str.lower, person.names)
        ]
    if len(hits) > 1:
        shown = ", ".join(f"{person.name} ({person_id}, {person.visits} visits)" for person_id, person in hits)
        cause = f"'{word}' was {shown} in the logs."
        choices = [(person_id, f"{person.name}, {person.visits} visits") for person_id, person in hits]
        raise SeveralMeant(cause, "Give the id of the one that is meant.", word, choices)
    if hits:
        return Someone(hits[0][0], hits[0][1].name)
    known = [person.name for person in people.people.values()] + [person.name for person in seen.values()]
    near = nearest_of_people(word, known)
    hint = did_you_mean(word, *near) if near else typed_command("people seen", server.name, hint="or give the id")
    how = _as_an_id(word, kind) or how_near(word, known)
    cause = f"Nobody called '{word}' is in the people book or in the logs. {how}"
    raise UnknownName(cause.rstrip(), hint)


def _seen_on(server: Server) -> dict[str, SeenPerson]:
    """Return who was seen on a server; nobody where its rulebook names no logs, or is broken."""
    try:
        return seen_on(server)
    except Trouble:
        return {}
