"""The people book: ``people list``, ``show``, ``seen``, and its changes."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TYPE_CHECKING, Annotated

import typer

from roundgate.cli.complete import complete_server
from roundgate.cli.opening import open_call
from roundgate.cli.screen.output import echo, echo_do, echo_json, echo_next, echo_table, plain, styled
from roundgate.core.next_step import did_you_mean, typed_command
from roundgate.host.errors import Trouble, UnknownName, WrongUsage

if TYPE_CHECKING:
    from roundgate.api.server import OpenServer
    from roundgate.cli.call import CallContext
    from roundgate.cli.screen.outputs import PersonOnServer, PersonOutput, SeenOutput
    from roundgate.core.formats.protocol import PlainData
    from roundgate.core.people.book import People, Person
    from roundgate.core.people.seen import SeenPerson
    from roundgate.core.text import Text

Json = Annotated[bool, typer.Option("--json", help="Print JSON.")]
Name = Annotated[str, typer.Argument(metavar="NAME", help="Who: a name, a key of the book, or an id.")]


def book_of(context: CallContext) -> People:
    """Return the site's people book."""
    from roundgate.host.people.book import load_people

    return load_people(context.site)


def list_people(as_json: Json = False) -> None:
    """List the people of the book: their ids, and where they are wanted."""
    book = book_of(open_call())
    if as_json:
        echo_json([_output(key, person) for key, person in book.people.items()])
        return
    if not book.people:
        echo("Nobody is in the people book yet.")
        echo_do(typed_command("people add", "", "<name>", "<id>"))
        return
    rows = []
    for key, person in book.people.items():
        ids = ", ".join(person_id for several in person.ids.values() for person_id in several)
        wanted = ", ".join(f"{where}: {what}" for where, what in person.wanted.items())
        rows.append((plain(person.name), key, ids, wanted, plain(person.note)))
    echo_table(("name", "key", "ids", "wanted", "note"), rows)


def _output(key: str, person: Person) -> PersonOutput:
    from roundgate.cli.screen.outputs import PersonOutput

    ids = {kind: list(several) for kind, several in person.ids.items()}
    return PersonOutput(
        key, person.name, ids, list(person.also), person.note, dict(person.wanted), dict(person.until), person.user
    )


def _one(book: People, word: str) -> str:
    from roundgate.core.nearest import nearest_of_people

    found = book.find(word)
    if len(found) > 1:
        raise WrongUsage(f"'{word}' could be {', '.join(found)}.", "Specify which, by the key.")
    if not found:
        near = nearest_of_people(word, [person.name for person in book.people.values()])
        hint = did_you_mean(word, *near) if near else typed_command("people add", "", "<name>", "<id>")
        raise UnknownName(f"Nobody called '{word}' is in the people book.", hint)
    return found[0]


def show(name: Name, as_json: Json = False) -> None:
    """Show everything about one person, on all servers: the rosters they are on, and when they were seen."""
    context = open_call()
    book = book_of(context)
    key = _one(book, name)
    person = book.people[key]
    found = [_on_server(server, person, seen) for server, seen in _with_seen(context)]
    if as_json:
        from roundgate.cli.screen.outputs import PersonPage

        echo_json(PersonPage(_output(key, person), found))
        return
    echo(f"{styled(plain(person.name), 'bold')}  {key}")
    facts = {
        "ids": ", ".join(f"{kind} {person_id}" for kind, several in person.ids.items() for person_id in several),
        "also": ", ".join(map(plain, person.also)),
        "note": plain(person.note),
        "wanted": ", ".join(f"{where}: {what}" for where, what in person.wanted.items()),
        "until": ", ".join(f"{where} {end}" for where, end in person.until.items()),
        "user": plain(person.user),
    }
    for label, value in facts.items():
        if value:
            echo(f"  {label:<8} {value}")
    echo()
    rows = [
        (
            server.server,
            ", ".join(server.rosters) or "-",
            format_when(server.first),
            format_when(server.last),
            str(server.visits or ""),
            _stayed(server.seconds),
        )
        for server in found
    ]
    echo_table(("server", "on", "first seen", "last seen", "visits", "stayed"), rows)


def _with_seen(context: CallContext) -> list[tuple[OpenServer, dict[str, SeenPerson]]]:
    from roundgate.api.people import seen_everywhere

    servers = context.readable("@all")
    seen = seen_everywhere(servers)
    return [(server, seen.get(server.name, {})) for server in servers]


def _on_server(server: OpenServer, person: Person, seen: dict[str, SeenPerson]) -> PersonOnServer:
    """Return where somebody is on a server, and when they were seen there."""
    from roundgate.api.people import standings
    from roundgate.cli.screen.outputs import PersonOnServer
    from roundgate.core.people.ids import same_id
    from roundgate.core.people.until import end_on
    from roundgate.host.people.book import places_of

    def is_theirs(person_id: str) -> bool:
        return any(
            person_id == other or (kind in server.book.kind and same_id(person_id, other, server.book.kind[kind]))
            for kind, several in person.ids.items()
            for other in several
        )

    rosters = []
    for standing in standings(server):
        if is_theirs(standing.id):
            end = standing.until or end_on(person, standing.roster, places_of(server.server))
            rosters.append(
                standing.roster + (f":{standing.rank}" if standing.rank else "") + (f" until {end}" if end else "")
            )
    visits = [found for person_id, found in seen.items() if is_theirs(person_id)]
    return PersonOnServer(
        server.name,
        rosters,
        min((visit.first for visit in visits if visit.first), default=0.0),
        max((visit.last for visit in visits), default=0.0),
        sum(visit.visits for visit in visits),
        sum(visit.seconds for visit in visits),
    )


def _stayed(seconds: float) -> str:
    """Format how long somebody stayed, in days and hours, hours and minutes, or minutes."""
    hours, minutes = divmod(round(seconds / 60), 60)
    if hours >= 24:
        return f"{hours // 24}d{hours % 24}h"
    return f"{hours}h{minutes:02}m" if hours else f"{minutes}m" if seconds >= 1 else ""


def format_when(seconds: float) -> str:
    """Format a moment, in seconds since 1970; a dash for none."""
    return time.strftime("%Y-%m-%d %H:%M", time.localtime(seconds)) if seconds else "-"


def seen(
    server: Annotated[
        str | None,
        typer.Argument(metavar="[SERVER]", help="Which servers; default: all.", autocompletion=complete_server),
    ] = None,
    since: Annotated[str, typer.Option(help="Only who was there within this time, such as 2d.")] = "",
    as_json: Json = False,
) -> None:
    """Show who was seen on servers, from their logs: when, how often, and for how long."""
    from roundgate.core.values import ValueProblem
    from roundgate.core.values.units import parse_seconds
    from roundgate.host.people.seen import seen_on
    from roundgate.host.people.seen import since as within

    try:
        seconds = float(parse_seconds(since)) if since else 0.0
    except ValueProblem as error:
        raise WrongUsage(f"--since: {error.cause}", "--since 2d") from error
    output: list[SeenOutput] = []
    context = open_call()
    book = book_of(context)
    for opened in context.readable(server or "@all"):
        found = seen_on(opened.server)
        found = within(found, seconds) if seconds else found
        latest = sorted(found.items(), key=lambda pair: -pair[1].last)
        output += [_seen_output(opened, person_id, person, book) for person_id, person in latest]
    if as_json:
        echo_json(output)
        return
    if not output:
        echo("Nobody was seen.")
        return
    rows = [
        (
            row.server,
            harmless(row.name),
            plain(row.id),
            row.person,
            format_when(row.first),
            format_when(row.last),
            str(row.visits),
            _stayed(row.seconds),
        )
        for row in output
    ]
    echo_table(("server", "name", "id", "in the book", "first", "last", "visits", "stayed"), rows)
    echo(f"{len(rows)} in all. One of them into the book: roundgate people add <name> <id>")


def harmless(name: str) -> str:
    """Return a name from a log without what acts on a terminal, and say where its letters only look like others."""
    from roundgate.core.people.ids import plain_letters

    looks = plain_letters(name)
    return plain(name) + (f" (looks like {plain(looks)})" if looks != name and plain(looks) != plain(name) else "")


def _seen_output(server: OpenServer, person_id: str, person: SeenPerson, book: People) -> SeenOutput:
    from roundgate.cli.screen.outputs import SeenOutput

    key = book.named(person_id, server.book.kind)
    return SeenOutput(
        server.name, person_id, person.name, key, person.first, person.last, person.visits, person.seconds
    )


def add(
    name: Annotated[str, typer.Argument(metavar="NAME", help="What to call them.")],
    ids: Annotated[list[str], typer.Argument(metavar="ID...", help="Their ids, of any kind.")],
) -> None:
    """Put somebody into the book, each id under its kind."""
    context = open_call()
    _add(context, book_of(context), name, ids)


def note(
    name: Name, text: Annotated[list[str], typer.Argument(metavar="TEXT...", help="The note; it replaces the old.")]
) -> None:
    """Write a note about somebody."""
    from roundgate.core.people.book import with_values

    noted = " ".join(text)
    _change(name, lambda _, book, key: (with_values(book.text, [(("person", key, "note"), noted)]), "noted"))


def rename(name: Name, new: Annotated[str, typer.Argument(metavar="NEW", help="The new name.")]) -> None:
    """Give somebody another name. The old one is kept as another name of theirs."""
    from roundgate.core.people.book import with_values

    def renamed(_context: CallContext, book: People, key: str) -> tuple[Text, str]:
        also = [*book.people[key].also, book.people[key].name]
        path = ("person", key)
        return with_values(book.text, [((*path, "name"), new), ((*path, "also"), also)]), f"called {plain(new)} now"

    _change(name, renamed)


def merge(name: Name, other: Annotated[str, typer.Argument(metavar="OTHER", help="Who is the same person.")]) -> None:
    """Make one person of two: the first keeps its name, and gets the ids of the other."""

    def merged(_context: CallContext, book: People, key: str) -> tuple[Text, str]:
        second = _one(book, other)
        return _merged(book, key, second), f"one person now with {plain(book.people[second].name)}"

    _change(name, merged)


def want(
    name: Name,
    where: Annotated[str, typer.Argument(metavar="SERVER", help="A server, or @TAG.")],
    what: Annotated[str, typer.Argument(metavar="ROSTER[:RANK]", help="A roster, with a rank; or nothing.")],
) -> None:
    """Note on which roster somebody is meant to be; 'roster sync' puts them there."""
    from roundgate.core.people.book import with_table

    def wanting(context: CallContext, book: People, key: str) -> tuple[Text, str]:
        _check_wanted(context, where, what)
        before = book.people[key].wanted
        wanted = {place: roster for place, roster in before.items() if place != where}
        if what != "nothing":
            wanted[where] = what
        return with_table(book.text, ("person", key, "wanted"), before, wanted), f"wanted on {where}: {what}"

    _change(name, wanting)
    echo_next(typed_command("roster sync", "@all"))


def remove(name: Name) -> None:
    """Take somebody out of the book. They stay on the rosters of the servers."""
    from roundgate.core.people.book import with_values

    def removed(context: CallContext, book: People, key: str) -> tuple[Text, str]:
        _say_where(context, key, book)
        return with_values(book.text, [(("person", key), None)]), "out of the book"

    _change(name, removed)


def _change(word: str, make: Callable[[CallContext, People, str], tuple[Text, str]]) -> None:
    """Change what the people book says of somebody. Raises Trouble where the book cannot be changed so."""
    from roundgate.core.formats.protocol import EditRefused
    from roundgate.host.people.book import save_people

    context = open_call()
    book = book_of(context)
    key = _one(book, word)
    try:
        text, message = make(context, book, key)
    except EditRefused as error:
        raise Trouble(f"people.toml: {error}.", "Edit the file by hand.") from error
    save_people(context.site, text)
    echo(f"{plain(book.people[key].name)}: {message}.")


def _merged(book: People, key: str, other: str) -> Text:
    """Return the book with two people made one: the first keeps its name and what it is wanted for."""
    from roundgate.core.people.book import with_table, with_values

    if key == other:
        raise WrongUsage("That is one person already.", typed_command("people show", "", key))
    first, second = book.people[key], book.people[other]
    ids: dict[str, PlainData] = {
        kind: list(dict.fromkeys((*first.ids.get(kind, ()), *second.ids.get(kind, ()))))
        for kind in dict.fromkeys((*first.ids, *second.ids))
    }
    names = (*first.also, second.name, *second.also)
    also = [name for name in dict.fromkeys(names) if name.lower() != first.name.lower()]
    note = "; ".join(dict.fromkeys(filter(None, (first.note, second.note))))
    path = ("person", key)
    plain: dict[str, PlainData] = {"also": also, "note": note, "user": first.user or second.user}
    changes = [((*path, name), value) for name, value in plain.items() if value]
    text = with_values(book.text, [(("person", other), None), *changes])
    text = with_table(text, (*path, "ids"), {kind: list(several) for kind, several in first.ids.items()}, ids)
    text = with_table(text, (*path, "wanted"), first.wanted, {**second.wanted, **first.wanted})
    return with_table(text, (*path, "until"), first.until, {**second.until, **first.until})


def _check_wanted(context: CallContext, where: str, what: str) -> None:
    """See that a server, tag and roster are there. Raises UnknownName."""
    from roundgate.core.nearest import nearest

    servers = context.servers(where)
    if what == "nothing":
        return
    name = what.partition(":")[0]
    known = {roster for server in servers for roster in server.book.roster}
    if name not in known:
        near = nearest(name, known)
        hint = did_you_mean(name, near) if near else f"Rosters: {', '.join(sorted(known)) or 'none'}"
        raise UnknownName(f"No server of {where} has a roster '{name}'.", hint)


def _say_where(context: CallContext, key: str, book: People) -> None:
    """Print on which rosters somebody still is who leaves the book."""
    from roundgate.api.people import standings

    ids = book.people[key].all_ids()
    for server in context.readable("@all"):
        for standing in standings(server):
            if standing.id in ids:
                address = f"{server.book.roster[standing.roster].records}/{standing.id}"
                echo(f"  still on {standing.roster} of {server.name}: roundgate remove {server.name} {address}")


def _add(context: CallContext, book: People, name: str, arguments: list[str]) -> None:
    """Put somebody into the book, each id under its kind."""
    from roundgate.core.people.book import key_for, with_person
    from roundgate.core.people.ids import meant_id
    from roundgate.core.people.rosters import people_kinds
    from roundgate.host.people.book import save_people

    books = [server.book for server in context.readable("@all")]
    kinds = {kind: spec for rulebook in books for kind, spec in people_kinds(rulebook).items()}
    ids: dict[str, list[str]] = {}
    for word in arguments:
        fitting = [(kind, found) for kind, spec in kinds.items() if (found := meant_id(word, spec))]
        if not fitting:
            examples = ", ".join(f"{kind} {spec.example}" for kind, spec in kinds.items() if spec.example)
            raise WrongUsage(f"'{word}' is not an id of any kind.", f"ids look like: {examples}")
        kind, found = fitting[0]
        owner = book.named(found, kinds)
        if owner:
            raise WrongUsage(f"{found} is {book.people[owner].name} already.", typed_command("people show", "", owner))
        ids.setdefault(kind, []).append(found)
    key = key_for(name, book.people)
    save_people(context.site, with_person(book.text, key, name, ids))
    shown = ", ".join(f"{kind} {person_id}" for kind, several in ids.items() for person_id in several)
    echo(f"{plain(name)} is in the people book: {shown}")
