"""People: ``people`` and ``roster``."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING, Annotated

import typer

from roundgate.cli.call import CallContext
from roundgate.cli.complete import complete_server
from roundgate.cli.screen.output import echo, echo_json, echo_table, plain, styled
from roundgate.host.errors import Trouble, UnknownName, WrongWords

if TYPE_CHECKING:
    from roundgate.api.server import OpenServer
    from roundgate.cli.screen.outputs import PersonOutput, SeenOutput
    from roundgate.core.people.book import People, Person
    from roundgate.core.people.seen import SeenPerson

Json = Annotated[bool, typer.Option("--json", help="Print JSON.")]
_VERBS = ("show", "add", "note", "rename", "remove", "seen", "want")


def people(
    words: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[VERB] [WORDS]...",
            help="nothing: list; show NAME; add NAME ID...; note NAME TEXT; rename NAME NEW; "
            "want NAME WHERE ROSTER[:RANK]; remove NAME; seen [SERVER]",
        ),
    ] = None,
    since: Annotated[str, typer.Option(help="seen: only who was there within this time, such as 2d.")] = "",
    as_json: Json = False,
) -> None:
    """The site's people: who is who, by which ids, what they are meant to be, and who was seen on a server.

    The book is people.toml in the site's folder. Wherever an id is wanted, a name of it will do.
    """
    context = CallContext()
    verb, *rest = words or ["list"]
    if verb == "list" and not rest:
        _list(context, as_json=as_json)
    elif verb == "show" and len(rest) == 1:
        _show(context, rest[0])
    elif verb == "seen" and len(rest) < 2:
        _seen(context, rest[0] if rest else None, since, as_json=as_json)
    elif verb in ("add", "note", "rename", "remove", "want"):
        _change(context, verb, rest)
    else:
        raise WrongWords(
            f"What about people? One of: list, {', '.join(_VERBS)}.", "roundgate people, or: roundgate people --help"
        )


def _book(context: CallContext) -> People:
    from roundgate.host.people.book import load_people

    return load_people(context.site)


def _list(context: CallContext, *, as_json: bool) -> None:
    book = _book(context)
    if as_json:
        echo_json([_output(key, one) for key, one in book.people.items()])
        return
    if not book.people:
        echo("Nobody is in the people book yet.\n  do: roundgate people add NAME ID")
        return
    rows = []
    for key, person in book.people.items():
        ids = ", ".join(one for several in person.ids.values() for one in several)
        wanted = ", ".join(f"{where}: {what}" for where, what in person.wanted.items())
        rows.append((plain(person.name), key, ids, wanted, plain(person.note)))
    echo_table(("name", "key", "ids", "wanted", "note"), rows)


def _output(key: str, person: Person) -> PersonOutput:
    from roundgate.cli.screen.outputs import PersonOutput

    ids = {kind: list(several) for kind, several in person.ids.items()}
    return PersonOutput(key, person.name, ids, list(person.also), person.note, dict(person.wanted))


def _one(book: People, word: str) -> str:
    from roundgate.core.nearest import nearest

    found = book.find(word)
    if len(found) > 1:
        raise WrongWords(f"'{word}' could be {', '.join(found)}.", "Say which, by the key.")
    if not found:
        near = nearest(word, [one.name for one in book.people.values()])
        hint = f"Did you mean {near}?" if near else "roundgate people add NAME ID"
        raise UnknownName(f"Nobody called '{word}' is in the people book.", hint)
    return found[0]


def _show(context: CallContext, word: str) -> None:
    """Print everything about one person, on all servers."""
    from roundgate.api.people import seen_everywhere, standings

    book = _book(context)
    key = _one(book, word)
    person = book.people[key]
    ids = {one for several in person.ids.values() for one in several}
    echo(f"{styled(plain(person.name), 'bold')}  {key}")
    facts = {
        "ids": ", ".join(f"{kind} {one}" for kind, several in person.ids.items() for one in several),
        "also": ", ".join(map(plain, person.also)),
        "note": plain(person.note),
        "wanted": ", ".join(f"{where}: {what}" for where, what in person.wanted.items()),
    }
    for label, value in facts.items():
        if value:
            echo(f"  {label:<8} {value}")
    servers = context.servers("@all")
    seen = seen_everywhere(servers)
    for server in servers:
        places = [f"{one.roster}{f': {one.rank}' if one.rank else ''}" for one in standings(server) if one.id in ids]
        visits = [found for one, found in seen.get(server.name, {}).items() if one in ids]
        words = [*places, *(f"last seen {_when(one.last)}, {one.visits} visits" for one in visits)]
        echo(f"  {server.name:<8} {'; '.join(words) or '-'}")


def _when(seconds: float) -> str:
    return time.strftime("%Y-%m-%d %H:%M", time.localtime(seconds)) if seconds else "-"


def _seen(context: CallContext, word: str | None, since: str, *, as_json: bool) -> None:
    """Print who was seen on servers, out of their logs."""
    from roundgate.core.values import ValueProblem
    from roundgate.core.values.units import format_seconds, parse_seconds
    from roundgate.host.people.seen import seen_on
    from roundgate.host.people.seen import since as within

    try:
        seconds = float(parse_seconds(since)) if since else 0.0
    except ValueProblem as error:
        raise WrongWords(f"--since: {error.cause}", "--since 2d") from error
    output: list[SeenOutput] = []
    book = _book(context)
    for server in context.servers(word or "@all"):
        found = seen_on(server.server)
        found = within(found, seconds) if seconds else found
        latest = sorted(found.items(), key=lambda pair: -pair[1].last)
        output += [_seen_output(server, one, person, book) for one, person in latest]
    if as_json:
        echo_json(output)
        return
    if not output:
        echo("Nobody was seen.")
        return
    rows = [
        (
            one.server,
            plain(one.name),
            plain(one.id),
            one.person,
            _when(one.first),
            _when(one.last),
            str(one.visits),
            format_seconds(int(one.seconds)) if one.seconds >= 1 else "",
        )
        for one in output
    ]
    echo_table(("server", "name", "id", "in the book", "first", "last", "visits", "stayed"), rows)
    echo(f"{len(rows)} in all. One of them into the book: roundgate people add NAME ID")


def _seen_output(server: OpenServer, one: str, person: SeenPerson, book: People) -> SeenOutput:
    from roundgate.cli.screen.outputs import SeenOutput

    key = book.named(one, server.book.kind)
    return SeenOutput(server.name, one, person.name, key, person.first, person.last, person.visits, person.seconds)


def _change(context: CallContext, verb: str, rest: list[str]) -> None:
    """Change the people book."""
    from roundgate.core.formats.protocol import EditRefused
    from roundgate.core.people.book import with_values
    from roundgate.host.people.book import save_people

    needed = {"add": 2, "note": 2, "rename": 2, "remove": 1, "want": 3}[verb]
    if len(rest) < needed:
        raise WrongWords("Some words are missing.", "roundgate people --help")
    book = _book(context)
    if verb == "add":
        _add(context, book, rest[0], rest[1:])
        return
    key = _one(book, rest[0])
    person = book.people[key]
    path = ("person", key)
    try:
        if verb == "note":
            text, said = with_values(book.text, [((*path, "note"), " ".join(rest[1:]))]), "noted"
        elif verb == "rename":
            also = [*person.also, person.name]
            text = with_values(book.text, [((*path, "name"), rest[1]), ((*path, "also"), also)])
            said = f"called {plain(rest[1])} now"
        elif verb == "want":
            wanted = {**person.wanted, rest[1]: rest[2]} if rest[2] != "nothing" else dict(person.wanted)
            if rest[2] == "nothing":
                wanted.pop(rest[1], None)
            text = with_values(book.text, [((*path, "wanted"), wanted)])
            said = f"wanted on {rest[1]}: {rest[2]}"
        else:
            _say_where(context, key, book)
            text, said = with_values(book.text, [(path, None)]), "out of the book"
    except EditRefused as error:
        raise Trouble(f"people.toml: {error}.", "Edit the file by hand.") from error
    save_people(context.site, text)
    echo(f"{plain(person.name)}: {said}.")
    if verb == "want":
        echo("  next: roundgate roster sync @all")


def _say_where(context: CallContext, key: str, book: People) -> None:
    """Say on which rosters somebody still is who leaves the book."""
    from roundgate.api.people import standings

    ids = {one for several in book.people[key].ids.values() for one in several}
    for server in context.servers("@all"):
        for one in standings(server):
            if one.id in ids:
                set_name = server.book.roster[one.roster].records
                echo(f"  still on {one.roster} of {server.name}: roundgate remove {server.name} {set_name}/{one.id}")


def _add(context: CallContext, book: People, name: str, words: list[str]) -> None:
    """Put somebody into the book, each id under its kind."""
    from roundgate.core.people.book import key_for, with_person
    from roundgate.core.people.ids import meant_id
    from roundgate.host.people.book import save_people

    books = [server.book for server in context.servers("@all")]
    kinds = {kind: spec for one in books for kind, spec in one.kind.items() if spec.pattern}
    ids: dict[str, list[str]] = {}
    for word in words:
        fitting = [(kind, found) for kind, spec in kinds.items() if (found := meant_id(word, spec))]
        if not fitting:
            examples = ", ".join(f"{kind} {spec.example}" for kind, spec in kinds.items() if spec.example)
            raise WrongWords(f"'{word}' is no id of any kind.", f"ids look like: {examples}")
        kind, found = fitting[0]
        owner = book.named(found, kinds)
        if owner:
            raise WrongWords(f"{found} is {book.people[owner].name} already.", f"roundgate people show {owner}")
        ids.setdefault(kind, []).append(found)
    key = key_for(name, book.people)
    save_people(context.site, with_person(book.text, key, name, ids))
    shown = ", ".join(f"{kind} {one}" for kind, several in ids.items() for one in several)
    echo(f"{plain(name)} is in the people book: {shown}")


def roster(
    words: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[SERVER]",
            help="nothing or SERVER: who is on what; sync [SERVER]: as the people book wants it; "
            "import SERVER ROSTER FILE (- for standard input)",
            autocompletion=complete_server,
        ),
    ] = None,
    exact: Annotated[bool, typer.Option("--exact", help="sync: also take off whom the book does not want.")] = False,
    as_json: Json = False,
) -> None:
    """Who is on which roster (admins, guests, bans) of which server; or make the rosters as the people book wants them.

    'sync' puts what is missing onto the slates. Who is there and not wanted is told and kept, unless --exact.
    'import' takes the ids out of any text: a list, CSV, JSON, a chat. Doubtful ones are told and not taken.
    """
    context = CallContext()
    words = words or []
    if words[:1] == ["sync"] and "sync" not in context.names:
        _sync(context, words[1] if len(words) > 1 else "@all", exact=exact)
        return
    if words[:1] == ["import"] and "import" not in context.names:
        _import(context, words[1:])
        return
    if len(words) > 1:
        raise WrongWords("Which servers?", "roundgate roster SERVER, or: roundgate roster sync SERVER")
    servers = context.servers(words[0] if words else "@all")
    _matrix(context, servers, as_json=as_json)


def _matrix(context: CallContext, servers: list[OpenServer], *, as_json: bool) -> None:
    """Print people by servers, and what each is there."""
    from roundgate.api.people import standings

    book = _book(context)
    cells: dict[str, dict[str, list[str]]] = {}
    names: dict[str, str] = {}
    for server in servers:
        for one in standings(server):
            place = f"{one.roster}:{one.rank}" if one.rank else one.roster
            cells.setdefault(one.id, {}).setdefault(server.name, []).append(place)
            key = book.named(one.id, server.book.kind)
            names[one.id] = book.people[key].name if key else names.get(one.id) or one.record.value("name") or ""
    if as_json:
        from roundgate.cli.screen.outputs import RosterOutput

        echo_json([RosterOutput(one, names[one], found) for one, found in cells.items()])
        return
    if not cells:
        echo("Nobody is on any roster.")
        return
    columns = [server.name for server in servers]
    ordered = sorted(cells.items(), key=lambda pair: (names[pair[0]] == "", names[pair[0]].lower(), pair[0]))
    rows = [
        (plain(names[one]), one, *(", ".join(found.get(column, [])) or "-" for column in columns))
        for one, found in ordered
    ]
    echo_table(("name", "id", *columns), rows)


def _import(context: CallContext, words: list[str]) -> None:
    """Put the ids that a text holds onto a roster."""
    import sys
    from pathlib import Path

    from roundgate.api.people import imported
    from roundgate.cli.edit import put

    if len(words) != 3:
        raise WrongWords("A server, a roster and a file are needed.", "roundgate roster import SERVER ROSTER FILE")
    server, name = context.server(words[0]), words[1]
    if name not in server.book.roster:
        raise UnknownName(
            f"{server.name} has no roster '{name}'.", f"Rosters: {', '.join(server.book.roster) or 'none'}"
        )
    try:
        text = sys.stdin.read() if words[2] == "-" else Path(words[2]).read_text("utf-8", "replace")
    except OSError as error:
        raise Trouble(f"{words[2]} cannot be read: {(error.strerror or str(error)).lower()}.") from error
    found = imported(server, _book(context), name, text)
    for one in found.doubtful:
        echo(f"{server.name}  not taken, for it is not written as an id is: {plain(one)}")
    if found.there:
        echo(f"{server.name}  {len(found.there)} of them are on {name} already")
    if found.operations:
        put(server, found.operations)
    else:
        echo(f"{server.name}: nobody new for {name} is in that text.")


def _sync(context: CallContext, word: str, *, exact: bool) -> None:
    """Put onto the slates what makes the rosters as the book wants them."""
    from roundgate.api.people import synced
    from roundgate.cli.edit import put

    book = _book(context)
    failed = False
    for server in context.servers(word):
        found = synced(server, book, exact=exact)
        for name in found.unknown:
            echo(f"{server.name}  has no roster '{name}'; the people book names it")
        for one in found.unwanted if not exact else ():
            who = one.record.value("name") or one.id
            echo(f"{server.name}  {plain(who)} is on {one.roster}, unwanted by the book: kept (--exact takes it off)")
        if found.operations:
            try:
                put(server, found.operations)
            except typer.Exit:  # the others go on
                failed = True
        else:
            echo(f"{server.name}: the rosters are as the people book wants them.")
    if failed:
        raise typer.Exit(1)
