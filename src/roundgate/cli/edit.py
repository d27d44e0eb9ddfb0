"""Edit: ``set``, ``reset``, ``add``, ``remove``, ``move`` put changes onto the slate; ``slate`` and ``discard``."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from functools import partial
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer
from msgspec.structs import replace

from roundgate.cli.complete import complete_list_or_entry, complete_server, complete_server_or_name
from roundgate.cli.opening import open_call
from roundgate.cli.screen.output import echo, echo_json, echo_next, styled, warn
from roundgate.core.nearest import nearest
from roundgate.core.next_step import typed_command, whole_call
from roundgate.host.errors import Trouble, UnknownName, WrongUsage

if TYPE_CHECKING:
    from roundgate.api.people import Joining
    from roundgate.api.proposal import Proposal
    from roundgate.api.server import Discarded, OpenServer
    from roundgate.cli.call import CallContext
    from roundgate.core.findings import Finding
    from roundgate.core.operations.base import Operation
    from roundgate.core.records.model import Record
    from roundgate.core.slate import Outcome
    from roundgate.host.servers import Server
    from roundgate.host.workspace import Holder

Assignments = Annotated[
    list[str], typer.Argument(metavar="[SERVER] NAME=VALUE...", autocompletion=complete_server_or_name)
]
ListArguments = Annotated[
    list[str], typer.Argument(metavar="[SERVER] LIST ENTRY...", autocompletion=complete_list_or_entry)
]
Json = Annotated[bool, typer.Option("--json", help="Print JSON.")]
Until = Annotated[
    str, typer.Option("--until", metavar="DAY", help="When somebody's time on a roster ends: 2026-12-31, 7d, 2w.")
]
NowToo = Annotated[bool, typer.Option("--now", help="Also apply it now, without a stop, where the server can.")]
YesReally = Annotated[bool, typer.Option("--force", help="Even the last admin of a server, or yourself.")]
KindOf = Annotated[
    str,
    typer.Option("--kind", metavar="KIND", help="What the value is: text, number, bool, null, or json (any JSON)."),
]
New = Annotated[bool, typer.Option("--new", help="Make a key or list that the file does not have yet.")]
NewFile = Annotated[bool, typer.Option("--new-file", help="Make a file that does not exist yet, under this name.")]


def set_values(
    arguments: Assignments,
    now: Annotated[bool, typer.Option("--now", help="Also send it to the live console, at once.")] = False,
    new: New = False,
    new_file: NewFile = False,
    kind: KindOf = "",
    here_only: Annotated[
        bool, typer.Option("--here-only", help="Where a file shares the value (YAML &), change this place alone.")
    ] = False,
    new_world: Annotated[
        str,
        typer.Option(
            "--new-world", metavar="NAME", help="Start a new world of this name, for settings that a world fixes."
        ),
    ] = "",
) -> None:
    """Change settings. The change waits on the slate until 'apply'.

    Values as people say them: 10m, 5G, 90%, on, off. A secret is given by its name alone and is asked for.
    FILE:KEY=VALUE sets what no rulebook knows; a file of no server is written at once.

    A KEY is a path: crew.mates[0].name (0 is the first), crew.mates[name=Skua].rank, "a.name with dots".most.
    A list or a record is given as JSON: 'ranks.yml:ranks.mate.may=["sail.start"]'.
    """
    from roundgate.api.key_changes import ChangeOptions, KeyChanges
    from roundgate.cli.changes.secret import ask_secret
    from roundgate.core.records.live import can_be_live

    options = ChangeOptions(kind, new or new_file, new_file, here_only, now)
    if _standalone(arguments, lambda holder, rest: KeyChanges(holder, options, ask_secret).operations_of(rest)):
        return
    context = open_call()
    word, rest = context.split(arguments)
    servers = [context.open(name) for name in context.several(word)]
    makers = [(opened, opened.key_changes(options, ask_secret)) for opened in servers]
    planned = [(opened, maker, maker.operations_of(rest)) for opened, maker in makers]
    if new_world:
        planned = [(opened, maker, maker.new_world(operations, new_world)) for opened, maker, operations in planned]
    for server, _, operations in planned:
        server_operations = operations
        of_records = [operation for operation in operations if can_be_live(operation, server.book)] if now else []
        if now and len(of_records) < len(operations):
            from roundgate.cli.changes.live import send_live

            told = send_live(
                server.server, context.store, [operation for operation in operations if operation not in of_records]
            )
            operations = [*told, *of_records]
        if operations or not now:
            put(server, operations, now=bool(of_records))
            _echo_doubts(server, rest)
            if of_records:
                _apply_now(context, server.server)
        else:
            _say_where(server, [operation.shown_name for operation in server_operations])


def _echo_doubts(server: OpenServer, assignments: Sequence[str]) -> None:
    """Print which of the typed numbers may have been meant in another unit."""
    from roundgate.api.lookup import find_name
    from roundgate.core.formats.places import split_assignment
    from roundgate.core.values.doubts import doubt_about

    for word in assignments:
        typed, given = split_assignment(word)
        spec = server.book.setting.get(find_name(server.book, typed))
        doubt = doubt_about(given, spec) if given is not None and spec is not None else ""
        if doubt:
            echo(f"  note: {typed}: {doubt}.")


def _say_where(server: OpenServer, names: Sequence[str]) -> None:
    """Print what becomes of the values of settings that no file holds."""
    for name in names:
        place = server.book.setting[name].kept_in
        where = f"The server keeps it in {place}." if place else "Only the console has it: the next restart loses it."
        echo(f"  {where}")


def switch(
    arguments: Annotated[list[str], typer.Argument(metavar="[SERVER] NAME...", autocompletion=complete_server_or_name)],
    on: Annotated[bool | None, typer.Option("--on/--off", help="Comment it back in, or comment it out.")] = None,
) -> None:
    """Comment keys out with all that is in them, or let commented-out ones count again as they stand.

    NAME is a setting, or FILE:KEY. A setting that is commented out has its default.
    """
    from roundgate.api.key_changes import KeyChanges

    if on is None:
        raise WrongUsage("On or off?", typed_command("switch", "", *arguments, options=("--off",), hint="or --on"))
    _change_keys(
        arguments,
        "switch",
        lambda holder, names: [KeyChanges(holder).switched(name, on=on) for name in names],
    )


def rename(
    arguments: Annotated[
        list[str], typer.Argument(metavar="[SERVER] NAME NEW-NAME", autocompletion=complete_server_or_name)
    ],
    force: Annotated[bool, typer.Option("--force", help="Rename even a key that the rulebook describes.")] = False,
) -> None:
    """Give a key another name, in its place: its value, comment and order stay.

    NAME is FILE:KEY; the new name is its last part alone.
    """
    from roundgate.api.key_changes import KeyChanges

    if len(arguments) < 2:
        raise WrongUsage(
            "A key and its new name are needed.", typed_command("rename", "<server>", "<file>:<key>", "<new-name>")
        )

    def renamed(holder: Holder, names: list[str]) -> list[Operation]:
        if len(names) != 2:
            raise WrongUsage(
                "A key and its new name are needed.", typed_command("rename", "<server>", "<file>:<key>", "<new-name>")
            )
        return KeyChanges(holder).renamed(names[0], names[1], force=force)

    _change_keys(arguments, "rename", renamed)


def reset(
    arguments: Annotated[list[str], typer.Argument(metavar="[SERVER] NAME...", autocompletion=complete_server_or_name)],
) -> None:
    """Reset settings to their defaults: the key's value becomes the default; an unknown key is taken out.

    A record is taken out of its list by a field: roundgate reset regatta 'officers.json:officers[name=Tern]'.
    """
    from roundgate.api.key_changes import KeyChanges

    _change_keys(
        arguments,
        "reset",
        lambda holder, names: [operation for name in names for operation in KeyChanges(holder).reset(name)],
    )


def add(
    arguments: ListArguments,
    at: Annotated[int | None, typer.Option(help="Put it at this position; 0 is the first. Default: the end.")] = None,
    new: New = False,
    as_rank: Annotated[str, typer.Option("--as", metavar="RANK", help="The rank on the roster.")] = "",
    until: Until = "",
    like: Annotated[
        str, typer.Option("--like", metavar="RECORD", help="A new record takes its fields from this one.")
    ] = "",
    now: NowToo = False,
    new_file: NewFile = False,
    kind: KindOf = "",
) -> None:
    """Add entries to a list, such as a course to the rotation; a record to a set: FIELD=VALUE...; people to a roster.

    LIST is a list of the rulebook, a FILE whose lines are the entries, or FILE:PATH of a list inside a file. An entry
    that is a record is given as JSON: '{"id": "GW-7K3M-Q2XD", "rank": "marshal"}'. People are named or given by id.
    """
    from roundgate.api.key_changes import ChangeOptions
    from roundgate.api.list_changes import ListChanges
    from roundgate.api.people import keep_end
    from roundgate.cli.changes.asking import ask_field

    options = ChangeOptions(kind, new or new_file, new_file)

    def added(holder: Holder, rest: list[str]) -> list[Operation]:
        if len(rest) < 2:
            raise WrongUsage("A list and an entry are needed.", typed_command("add", "<server>", "<list>", "<entry>"))
        changes = ListChanges(holder, options)
        changes.ask, changes.twin_of = ask_field, twin_of
        return changes.added(rest[0], rest[1:], at, like=like)

    twin_of = None
    if _standalone(arguments, added):
        return
    context = open_call()
    twin_of = partial(_of_other_server, context)
    word, rest = context.split(arguments)
    servers = [context.open(name) for name in context.several(word)]
    made: list[tuple[OpenServer, _Joins | None, list[Operation]]] = []
    for opened in servers:
        given = _with_set(opened, rest)
        joins = _joining_people(context, opened, given, as_rank, until, several=len(servers) > 1)
        made.append((opened, joins, joins.operations if joins else added(opened.workspace, given)))
    for server, people, operations in made:  # nothing is put anywhere before all of it is known to fit
        if people is not None:
            operations = _with_switch(server, people, operations)
        if operations:
            put(server, operations, now=now)
        for who in people.joining if people is not None else ():
            message = keep_end(context.site, server, people.records if people is not None else "", who)
            if message:
                echo(f"  {who.who.name or who.who.id} {message}.")
        if now and operations:
            _apply_now(context, server.server)


def _of_other_server(context: CallContext, name: str, like: str) -> Record | None:
    """Return a record of another server, said as SERVER:RECORD; None where no server is named. Raises UnknownName."""
    from roundgate.api.record_changes import RecordChanges

    server, colon, record = like.partition(":")
    if not colon or server not in context.names:
        return None
    other = context.opened(server)
    if name not in other.book.records:
        raise UnknownName(f"The rulebook of {server} has no {name}.", typed_command("show", server))
    return RecordChanges(other.workspace).named(f"{name}/{record}")[0]


class _Joins(NamedTuple):
    """People who are put on a roster of one server."""

    records: str
    joining: list[Joining]
    operations: list[Operation]


def _with_set(server: OpenServer, arguments: list[str]) -> list[str]:
    """Return arguments with the set of records in the place of the roster that they begin with."""
    roster = server.book.roster.get(arguments[0]) if arguments else None
    return [roster.records, *arguments[1:]] if roster is not None else arguments


def _joining_people(
    context: CallContext, server: OpenServer, arguments: list[str], rank: str, until: str, *, several: bool
) -> _Joins | None:
    """Work out who is put on a roster, where the arguments mean one: a name means an id. None where they do not."""
    from roundgate.api.people import joining
    from roundgate.api.record_addresses import set_named
    from roundgate.api.record_changes import RecordChanges
    from roundgate.cli.changes.asking import ask_field, choosing

    name = set_named(server.book, arguments[0]) if arguments and "/" not in arguments[0] else ""
    people: list[Joining] = []
    if name:
        people = choosing(arguments[1:], lambda given: joining(context.site, server, name, given, rank, until))
    if not people:
        if rank or until:
            hint = typed_command("add", "<server>", "<roster>", "<name>", options=("--as", "<rank>", "--until", "7d"))
            raise WrongUsage("--as and --until are for people on a roster.", hint)
        return None
    changes = RecordChanges(server.workspace, ask_field)
    there = {record.key for record in changes.records(name)} if several or len(people) > 1 else set()
    new = [person for person in people if person.who.id not in there]
    for person in people:
        if person.who.name and person.who.id not in arguments:
            echo(f"{server.name}  {person.who.name} is {person.who.id}")
        if person not in new:
            echo(f"{server.name}  {person.who.name or person.who.id} is on {arguments[0]} already")
    return _Joins(name, new, [operation for joining in new for operation in changes.added(name, joining.arguments)])


def _with_switch(server: OpenServer, people: _Joins, operations: list[Operation]) -> list[Operation]:
    """Let a roster count as well, where a setting keeps it from counting and that is wanted."""
    from roundgate.api.people import off_switch

    switching = off_switch(server, people.records) if operations else []
    if switching and _wants_on(server, people.records, switching):
        return [*operations, *server.key_changes(None, None).operations_of(switching)]
    return operations


def _wants_on(server: OpenServer, name: str, switching: list[str]) -> bool:
    """Ask at a terminal whether a list of people that does not count is to count; say what would do it elsewhere."""
    import sys

    assignments = " ".join(switching)
    if sys.stdin.isatty():
        answer = input(f"{name} does not count on {server.name}. Set {assignments} as well? [y/N] ").strip().lower()
        return answer in ("y", "yes")
    echo(f"{server.name}  {name} does not count yet. To let it count: roundgate set {server.name} {assignments}")
    return False


def _apply_now(context: CallContext, server: Server) -> None:
    """Bring what was just put on the slate into force by a live round. Raises Exit where that fails."""
    from roundgate.cli.rounding import apply_live_records

    code = apply_live_records(context, server)
    if code is None:
        raise WrongUsage(
            f"{server.name} cannot apply that while it runs; it waits on the slate.",
            typed_command("apply", server.name),
        )
    if code:
        raise typer.Exit(code)


def remove(arguments: ListArguments, now: NowToo = False, yes_really: YesReally = False) -> None:
    """Remove entries from a list, or a record: SET/RECORD. A list never falls below its least."""
    from roundgate.api.key_changes import ChangeOptions
    from roundgate.api.list_changes import ListChanges
    from roundgate.api.record_addresses import names_record

    def removed(holder: Holder, rest: list[str]) -> list[Operation]:
        if len(rest) < (1 if rest and names_record(holder, rest[0]) else 2):
            raise WrongUsage(
                "A list and an entry are needed.", typed_command("remove", "<server>", "<list>", "<entry>")
            )
        return ListChanges(holder, ChangeOptions()).removed(rest[0], rest[1:])

    _change_list(arguments, removed, yes_really=yes_really, now=now)


def move(
    arguments: Annotated[
        list[str], typer.Argument(metavar="[SERVER] LIST ENTRY", autocompletion=complete_list_or_entry)
    ],
    to: Annotated[
        str, typer.Option(metavar="NUMBER|ROSTER", help="The number that it gets, 0 is the first; or another roster.")
    ] = "",
    before: Annotated[str, typer.Option(metavar="ENTRY", help="The entry or record that it is to be before.")] = "",
    as_rank: Annotated[str, typer.Option("--as", metavar="RANK", help="The rank on the other roster.")] = "",
    until: Until = "",
    now: NowToo = False,
    yes_really: YesReally = False,
) -> None:
    """Move an entry or a record: --to 0, --before 'Gull Rock'; or somebody to another roster: guests/Wren --to bans."""
    from roundgate.api.key_changes import ChangeOptions
    from roundgate.api.list_changes import ListChanges
    from roundgate.api.record_addresses import names_record

    if bool(to) == bool(before):
        raise WrongUsage(
            "Where to? Either --to or --before.",
            typed_command("move", "<server>", "<list>", "<entry>", options=("--to", "<number>")),
        )
    if to and not to.isdecimal():
        _move_person(arguments, to, as_rank, until, yes_really=yes_really, now=now)
        return
    place = before or int(to)

    def moved(holder: Holder, rest: list[str]) -> list[Operation]:
        if len(rest) < (1 if rest and names_record(holder, rest[0]) else 2):
            raise WrongUsage(
                "A list and an entry are needed.",
                typed_command("move", "<server>", "<list>", "<entry>", options=("--to", "<number>")),
            )
        return ListChanges(holder, ChangeOptions()).moved(rest[0], rest[1:], place)

    _change_list(arguments, moved, now=now)


def _move_person(arguments: list[str], to: str, rank: str, until: str, *, yes_really: bool, now: bool) -> None:
    """Take somebody off one roster and put them on another, on one slate."""
    from roundgate.api.people import keep_end, moved_person

    context = open_call()
    word, rest = context.split(arguments)
    if len(rest) != 1:
        raise WrongUsage(
            "Who moves, and from which roster?",
            typed_command("move", "<server>", "guests/<name>", options=("--to", to)),
        )
    for server in context.several(word):
        opened = context.open(server)
        operations, into, joining = moved_person(context.site, opened, rest[0], to, rank, until)
        put(opened, operations, yes_really=yes_really, now=now)
        message = keep_end(context.site, opened, into, joining)
        if message:
            echo(f"  {joining.who.name or joining.who.id} {message}.")
        if now:
            _apply_now(context, server)


def _standalone(arguments: list[str], make: Callable[[Holder, list[str]], Sequence[Operation]]) -> bool:
    """Change a file of no server, where the arguments name one; return whether they do."""
    from roundgate.cli.changes.standalone import change_standalone

    return change_standalone(arguments, make)


def _change_keys(arguments: list[str], verb: str, make: Callable[[Holder, list[str]], list[Operation]]) -> None:
    if _standalone(arguments, make):
        return
    context = open_call()
    word, names = context.split(arguments)
    if not names:
        raise WrongUsage("Which setting?", typed_command(verb, "<server>", "<name>"))
    for server in context.several(word):
        opened = context.open(server)
        put(opened, make(opened.workspace, names))


def _change_list(
    arguments: list[str],
    make: Callable[[Holder, list[str]], list[Operation]],
    *,
    yes_really: bool = False,
    now: bool = False,
) -> None:
    if _standalone(arguments, make):
        return
    context = open_call()
    word, rest = context.split(arguments)
    for server in context.several(word):
        opened = context.open(server)
        put(opened, make(opened.workspace, rest), yes_really=yes_really, now=now)
        if now:
            _apply_now(context, server)


def put(
    server: OpenServer,
    operations: Sequence[Operation],
    *,
    despite_errors: bool = False,
    yes_really: bool = False,
    now: bool = False,
) -> None:
    """Check the slate with the operations on it, and put them there if they bring no error, or ``despite_errors``.

    ``now``: a live round follows, so nothing is said of what comes next. What would leave a server without its last
    admin, or without the one who asks, needs ``yes_really``. Raises Exit where they bring an error, and Trouble where
    that word is missing.
    """
    proposal, idle = slated(server, operations, despite_errors=despite_errors, yes_really=yes_really)
    names = proposal.names
    echo_changes(proposal.outcome, names, server.name)
    waiting = server.workspace.waiting
    if idle == set(names) and not now:
        echo(f"  Nothing of that waits: it is so already. {len(waiting)} waiting on the slate of {server.name}.")
        return
    if now:
        return
    live = all(entry.operation.waits_for_stop for entry in waiting if entry.operation.shown_name in names)
    state = "in force now; it goes into the file at the next stop" if live else "not in force yet"
    echo(f"  On the slate of {server.name}, {state} ({len(waiting)} waiting).")
    echo_next(typed_command("apply", server.name, hint=f"look first: roundgate slate {server.name}"))


def slated(
    server: OpenServer, operations: Sequence[Operation], *, despite_errors: bool = False, yes_really: bool = False
) -> tuple[Proposal, set[str]]:
    """Check operations, print the findings, and put them on the slate; print nothing of what they change.

    Return the proposal, and the names of what changes nothing and so does not wait.

    Raises Exit where they bring an error, and Trouble where no admin would be left and nobody said that so it should
    be.
    """
    from roundgate.cli.screen.findings import echo_findings

    if not yes_really and server.book.roster:
        from roundgate.api.admins import lost_admins
        from roundgate.host.person import who

        lost = lost_admins(server, operations, who())
        if lost:
            raise Trouble(f"{lost} Nothing was put on the slate.", "If that is what you want, add --force.")
    proposal = server.propose(operations)
    if proposal.findings and not despite_errors:
        echo_findings([_with_whole_call(finding, server) for finding in proposal.findings])
    if proposal.has_errors and not despite_errors:
        echo("Nothing was put on the slate.")
        raise typer.Exit(1)
    server.put(operations)
    return proposal, server.discard_idle(proposal)


def _with_whole_call(finding: Finding, server: OpenServer) -> Finding:
    """Let what a finding proposes hold all that was typed: nothing of it went onto the slate."""
    import sys

    from roundgate.api.lookup import find_name

    def name_of(typed: str) -> str:
        try:
            return find_name(server.book, typed) or typed
        except WrongUsage:
            return typed

    return replace(finding, do=whole_call(sys.argv[1:], finding.do, name_of))


def echo_changes(outcome: Outcome, names: Collection[str], server: str = "") -> None:
    """Print what the operations of some names change."""
    from roundgate.cli.screen.review import format_change
    from roundgate.core.review import describe_changes

    lead = f"{server}  " if server else ""
    for change in describe_changes(outcome):
        if change.name in names:
            text = format_change(change.before, change.after, is_nothing=change.is_nothing)
            echo(f"{lead}{styled(change.name, 'bold')}{text}")


def slate(
    server: Annotated[
        str | None,
        typer.Argument(metavar="[SERVER]", help="Which servers; default: all.", autocompletion=complete_server),
    ] = None,
    as_json: Json = False,
) -> None:
    """What waits: each change, what it will mean, and the difference in the files."""
    from roundgate.cli.screen.review import echo_review, slate_output

    context = open_call()
    results = []
    for opened in context.readable(server or "@all"):
        gathered = opened.review()
        if as_json:
            results.append(slate_output(opened.name, gathered))
            continue
        if not gathered.review.changes and not gathered.differs:
            echo(f"{opened.name}: the slate is empty.")
            continue
        echo(f"{styled(opened.name, 'bold')}")
        echo_review(gathered)
        echo()
        echo_next(typed_command("apply", opened.name, hint=f"or: roundgate discard {opened.name}"))
    if as_json:
        echo_json(results)


def discard(
    arguments: Annotated[
        list[str] | None, typer.Argument(metavar="[SERVER] [NAME]...", autocompletion=complete_server_or_name)
    ] = None,
    last: Annotated[bool, typer.Option("--last", help="Only what the last command put there.")] = False,
    _yes: Annotated[bool, typer.Option("--yes", "-y", help="Accepted for scripts: nothing is asked.")] = False,
) -> None:
    """Take waiting changes back: those named, the last, or all of a server's."""
    context = open_call()
    word, names = context.split(arguments or [])
    if last and names:
        raise WrongUsage("Those of a name, or the last?", typed_command("discard", options=("--help",)))
    held = 0
    for server in context.several(word, lenient=True):
        opened = context.open(server)
        done = opened.discard_last() if last else opened.discard(names)
        echo(f"{server.name}: {len(done.gone)} taken off the slate, {done.left} left.")
        _say_held(server, done)
        held += len(done.held) + len(done.finished)
        if names and not (done.gone or done.held or done.finished):
            waiting = [entry.operation.shown_name for entry in opened.store.slate(server.name)]
            near = nearest(names[0], waiting)
            do = typed_command("discard", server.name, near) if near else typed_command("slate", server.name)
            warn(f"  Nothing of that name waits{f'. Did you mean {near}?' if near else '.'}\n  do: {do}")
            raise typer.Exit(1)
    if held:
        raise typer.Exit(1)


def _say_held(server: Server, done: Discarded) -> None:
    """Print what could not be taken back, for a round is bringing it into force, or has done so."""
    if done.held:
        names = ", ".join(dict.fromkeys(entry.operation.shown_name for entry in done.held))
        echo(f"  {names}: round {done.held[0].round} is bringing that into force.")
        echo(f"  to call that round off: roundgate rounds cancel {server.name}")
    elif done.finished:
        echo(f"  {len(done.finished)} went into force meanwhile; to go back: roundgate rounds {server.name}")
