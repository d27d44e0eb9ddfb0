"""People: ``people`` and ``roster``."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING, Annotated

import typer

from roundgate.cli.complete import complete_server
from roundgate.cli.opening import open_call
from roundgate.cli.screen.output import echo, echo_json, echo_table, plain, styled
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
_VERBS = ("show", "add", "note", "rename", "merge", "remove", "seen", "want")


def people(
    arguments: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[VERB] [ARGUMENT]...",
            help="nothing: list; show NAME; add NAME ID...; note NAME TEXT; rename NAME NEW; merge NAME OTHER; "
            "want NAME WHERE ROSTER[:RANK] (or nothing); remove NAME; seen [SERVER]",
        ),
    ] = None,
    since: Annotated[str, typer.Option(help="seen: only who was there within this time, such as 2d.")] = "",
    as_json: Json = False,
) -> None:
    """The site's people: who is who, by which ids, what they are meant to be, and who was seen on a server.

    The book is people.toml in the site's folder. Wherever an id is wanted, a name of it will do.
    """
    context = open_call()
    verb, *rest = arguments or ["list"]
    if verb == "list" and not rest:
        _list(context, as_json=as_json)
    elif verb == "show" and len(rest) == 1:
        _show(context, rest[0], as_json=as_json)
    elif verb == "seen" and len(rest) < 2:
        _seen(context, rest[0] if rest else None, since, as_json=as_json)
    elif verb in ("add", "note", "rename", "merge", "remove", "want"):
        _change(context, verb, rest)
    else:
        raise WrongUsage(
            f"What about people? One of: list, {', '.join(_VERBS)}.", "roundgate people, or: roundgate people --help"
        )


def _book(context: CallContext) -> People:
    from roundgate.host.people.book import load_people

    return load_people(context.site)


def _list(context: CallContext, *, as_json: bool) -> None:
    book = _book(context)
    if as_json:
        echo_json([_output(key, person) for key, person in book.people.items()])
        return
    if not book.people:
        echo("Nobody is in the people book yet.\n  do: roundgate people add NAME ID")
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
    from roundgate.core.nearest import nearest

    found = book.find(word)
    if len(found) > 1:
        raise WrongUsage(f"'{word}' could be {', '.join(found)}.", "Specify which, by the key.")
    if not found:
        near = nearest(word, [person.name for person in book.people.values()])
        hint = f"Did you mean {near}?" if near else "roundgate people add NAME ID"
        raise UnknownName(f"Nobody called '{word}' is in the people book.", hint)
    return found[0]


def _show(context: CallContext, word: str, *, as_json: bool) -> None:
    """Print everything about one person, on all servers."""
    book = _book(context)
    key = _one(book, word)
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
            _when(server.first),
            _when(server.last),
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
    """Give where somebody is on a server, and when they were seen there."""
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


def _when(seconds: float) -> str:
    return time.strftime("%Y-%m-%d %H:%M", time.localtime(seconds)) if seconds else "-"


def _seen(context: CallContext, word: str | None, since: str, *, as_json: bool) -> None:
    """Print who was seen on servers, out of their logs."""
    from roundgate.core.values import ValueProblem
    from roundgate.core.values.units import parse_seconds
    from roundgate.host.people.seen import seen_on
    from roundgate.host.people.seen import since as within

    try:
        seconds = float(parse_seconds(since)) if since else 0.0
    except ValueProblem as error:
        raise WrongUsage(f"--since: {error.cause}", "--since 2d") from error
    output: list[SeenOutput] = []
    book = _book(context)
    for server in context.readable(word or "@all"):
        found = seen_on(server.server)
        found = within(found, seconds) if seconds else found
        latest = sorted(found.items(), key=lambda pair: -pair[1].last)
        output += [_seen_output(server, person_id, person, book) for person_id, person in latest]
    if as_json:
        echo_json(output)
        return
    if not output:
        echo("Nobody was seen.")
        return
    rows = [
        (
            row.server,
            _harmless(row.name),
            plain(row.id),
            row.person,
            _when(row.first),
            _when(row.last),
            str(row.visits),
            _stayed(row.seconds),
        )
        for row in output
    ]
    echo_table(("server", "name", "id", "in the book", "first", "last", "visits", "stayed"), rows)
    echo(f"{len(rows)} in all. One of them into the book: roundgate people add NAME ID")


def _harmless(name: str) -> str:
    """Give a name from a log without what acts on a terminal, and say where its letters only look like others."""
    from roundgate.core.people.ids import plain_letters

    looks = plain_letters(name)
    return plain(name) + (f" (looks like {plain(looks)})" if looks != name and plain(looks) != plain(name) else "")


def _seen_output(server: OpenServer, person_id: str, person: SeenPerson, book: People) -> SeenOutput:
    from roundgate.cli.screen.outputs import SeenOutput

    key = book.named(person_id, server.book.kind)
    return SeenOutput(
        server.name, person_id, person.name, key, person.first, person.last, person.visits, person.seconds
    )


def _change(context: CallContext, verb: str, rest: list[str]) -> None:
    """Change the people book."""
    from roundgate.core.formats.protocol import EditRefused
    from roundgate.core.people.book import with_table, with_values
    from roundgate.host.people.book import save_people

    needed, example = _ARGUMENTS[verb]
    if len(rest) < needed or (verb != "note" and verb != "add" and len(rest) > needed):
        raise WrongUsage(f"'people {verb}' needs other arguments.", f"roundgate people {example}")
    book = _book(context)
    if verb == "add":
        _add(context, book, rest[0], rest[1:])
        return
    key = _one(book, rest[0])
    person = book.people[key]
    path = ("person", key)
    try:
        if verb == "note":
            text, message = with_values(book.text, [((*path, "note"), " ".join(rest[1:]))]), "noted"
        elif verb == "rename":
            also = [*person.also, person.name]
            text = with_values(book.text, [((*path, "name"), rest[1]), ((*path, "also"), also)])
            message = f"called {plain(rest[1])} now"
        elif verb == "merge":
            other = _one(book, rest[1])
            text, message = _merged(book, key, other), f"one person now with {plain(book.people[other].name)}"
        elif verb == "want":
            _check_wanted(context, rest[1], rest[2])
            wanted = {**person.wanted, rest[1]: rest[2]} if rest[2] != "nothing" else dict(person.wanted)
            if rest[2] == "nothing":
                wanted.pop(rest[1], None)
            text = with_table(book.text, (*path, "wanted"), person.wanted, wanted)
            message = f"wanted on {rest[1]}: {rest[2]}"
        else:
            _say_where(context, key, book)
            text, message = with_values(book.text, [(path, None)]), "out of the book"
    except EditRefused as error:
        raise Trouble(f"people.toml: {error}.", "Edit the file by hand.") from error
    save_people(context.site, text)
    echo(f"{plain(person.name)}: {message}.")
    if verb == "want":
        echo("  next: roundgate roster sync @all")


_ARGUMENTS = {
    "add": (2, "add NAME ID..."),
    "note": (2, "note NAME TEXT"),
    "rename": (2, "rename NAME NEW-NAME"),
    "merge": (2, "merge NAME OTHER"),
    "remove": (1, "remove NAME"),
    "want": (3, "want NAME SERVER-OR-@TAG ROSTER[:RANK]"),
}
"""How many arguments each verb needs, and which."""


def _merged(book: People, key: str, other: str) -> Text:
    """Give the book with two people made one: the first keeps its name and what it is wanted for."""
    from roundgate.core.people.book import with_table, with_values

    if key == other:
        raise WrongUsage("That is one person already.", f"roundgate people show {key}")
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
        hint = f"Did you mean {near}?" if near else f"Rosters: {', '.join(sorted(known)) or 'none'}"
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
            raise WrongUsage(f"{found} is {book.people[owner].name} already.", f"roundgate people show {owner}")
        ids.setdefault(kind, []).append(found)
    key = key_for(name, book.people)
    save_people(context.site, with_person(book.text, key, name, ids))
    shown = ", ".join(f"{kind} {person_id}" for kind, several in ids.items() for person_id in several)
    echo(f"{plain(name)} is in the people book: {shown}")


def roster(
    arguments: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[SERVER [ROSTER]]",
            help="nothing or SERVER: who is on what; SERVER ROSTER: one of them; sync [SERVER]: as the people book "
            "wants it; import SERVER ROSTER FILE (- for standard input); first SERVER: its first admin",
            autocompletion=complete_server,
        ),
    ] = None,
    exact: Annotated[bool, typer.Option("--exact", help="sync: also take off whom the book does not want.")] = False,
    yes_really: Annotated[
        bool, typer.Option("--yes-really", help="sync --exact: even the last admin of a server, or yourself.")
    ] = False,
    as_rank: Annotated[str, typer.Option("--as", metavar="RANK", help="first: the rank of the first admin.")] = "",
    within: Annotated[str, typer.Option(help="first: how long to wait for somebody to join.")] = "10m",
    yes: Annotated[bool, typer.Option("--yes", "-y", help="first: do not ask.")] = False,
    as_json: Json = False,
) -> None:
    """Who is on which roster (admins, guests, bans) of which server; or make the rosters as the people book wants them.

    'sync' puts what is missing onto the slates. Who is not wanted, on a roster on which the book wants others, is told
    and kept, unless --exact.
    'import' takes the ids out of any text: a list, CSV, JSON, a chat. Doubtful ones are told and not taken.
    'first' starts a fresh server, waits for you to join, and makes you admin: for when nobody is yet.
    """
    context = open_call()
    arguments = arguments or []
    if arguments[:1] == ["sync"] and "sync" not in context.names:
        from roundgate.cli.who.syncing import sync

        sync(
            context, arguments[1] if len(arguments) > 1 else "@all", _book(context), exact=exact, yes_really=yes_really
        )
        return
    if arguments[:1] == ["import"] and "import" not in context.names:
        _import(context, arguments[1:])
        return
    if arguments[:1] == ["first"] and "first" not in context.names:
        from roundgate.cli.changes.first_admin import first_admin

        first_admin(context, arguments[1:], as_rank, within, yes=yes)
        return
    if len(arguments) == 2:
        _one_roster(context, arguments[0], arguments[1], as_json=as_json)
        return
    if len(arguments) > 1:
        raise WrongUsage("Which servers?", "roundgate roster SERVER, or: roundgate roster sync SERVER")
    servers = context.readable(arguments[0] if arguments else "@all")
    _matrix(context, servers, as_json=as_json)


def _matrix(context: CallContext, servers: list[OpenServer], *, as_json: bool) -> None:
    """Print people by servers, and what each is there."""
    from roundgate.api.people import standings
    from roundgate.core.people.until import end_on
    from roundgate.host.people.book import places_of

    book = _book(context)
    cells: dict[str, dict[str, list[str]]] = {}
    names: dict[str, str] = {}
    for server in servers:
        places = places_of(server.server)
        for standing in standings(server):
            key = book.named(standing.id, server.book.kind)
            end = standing.until or (end_on(book.people[key], standing.roster, places) if key else "")
            place = standing.roster + (f":{standing.rank}" if standing.rank else "") + (f" until {end}" if end else "")
            cells.setdefault(standing.id, {}).setdefault(server.name, []).append(place)
            names[standing.id] = (
                book.people[key].name if key else names.get(standing.id) or standing.record.value("name") or ""
            )
    if as_json:
        from roundgate.cli.screen.outputs import RosterOutput

        echo_json([RosterOutput(person_id, names[person_id], found) for person_id, found in cells.items()])
        return
    if not cells:
        echo("Nobody is on any roster.")
        return
    columns = [server.name for server in servers]
    ordered = sorted(cells.items(), key=lambda pair: (names[pair[0]] == "", names[pair[0]].lower(), pair[0]))
    rows = [
        (plain(names[person_id]), person_id, *(", ".join(found.get(column, [])) or "-" for column in columns))
        for person_id, found in ordered
    ]
    echo_table(("name", "id", *columns), rows)


def _one_roster(context: CallContext, word: str, name: str, *, as_json: bool) -> None:
    """Print who is on one roster of servers, what they are there, until when, and when they were seen."""
    from roundgate.api.people import roster_named, seen_everywhere, standings
    from roundgate.cli.screen.outputs import StandingOutput
    from roundgate.cli.who.syncing import name_of
    from roundgate.core.people.until import end_on
    from roundgate.host.people.book import places_of

    book, output = _book(context), []
    servers = context.readable(word)
    seen = seen_everywhere(servers)
    for server in servers:
        roster, places = roster_named(server, name), places_of(server.server)
        for standing in standings(server):
            if standing.roster != roster:
                continue
            key = book.named(standing.id, server.book.kind)
            end = standing.until or (end_on(book.people[key], roster, places) if key else "")
            last = seen.get(server.name, {}).get(standing.id)
            output.append(
                StandingOutput(
                    server.name,
                    standing.id,
                    name_of(server, standing, book) or (last.name if last is not None else ""),
                    standing.rank,
                    end,
                    last.last if last is not None else 0.0,
                    key,
                )
            )
    if as_json:
        echo_json(output)
        return
    if not output:
        echo(f"Nobody is on it.\n  do: roundgate add {word} {name} NAME")
        return
    rows = [
        (row.server, _harmless(row.name), row.id, row.rank, row.until, _when(row.last), row.person) for row in output
    ]
    echo_table(("server", "name", "id", "as", "until", "last seen", "in the book"), rows)


def _import(context: CallContext, arguments: list[str]) -> None:
    """Put the ids that a text holds onto a roster."""
    import sys
    from pathlib import Path

    from roundgate.api.people import imported
    from roundgate.cli.edit import put

    if len(arguments) != 3:
        raise WrongUsage("A server, a roster and a file are needed.", "roundgate roster import SERVER ROSTER FILE")
    server, name = context.server(arguments[0]), arguments[1]
    if name not in server.book.roster:
        raise UnknownName(
            f"{server.name} has no roster '{name}'.", f"Rosters: {', '.join(server.book.roster) or 'none'}"
        )
    try:
        text = sys.stdin.read() if arguments[2] == "-" else Path(arguments[2]).read_text("utf-8", "replace")
    except OSError as error:
        raise Trouble(f"{arguments[2]} cannot be read: {(error.strerror or str(error)).lower()}.") from error
    found = imported(server, _book(context), name, text)
    for doubtful in found.doubtful:
        echo(f"{server.name}  skipped, because it is not written like an id: {plain(doubtful)}")
    if found.there:
        echo(f"{server.name}  {len(found.there)} of them are on {name} already")
    if found.operations:
        put(server, found.operations)
    else:
        echo(f"{server.name}: nobody new for {name} is in that text.")
