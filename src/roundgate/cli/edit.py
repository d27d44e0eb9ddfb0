"""Edit: ``set``, ``reset``, ``add``, ``remove``, ``move`` put changes onto the slate; ``slate`` and ``discard``."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from typing import TYPE_CHECKING, Annotated

import typer

from roundgate.cli.call import CallContext
from roundgate.cli.complete import complete_server_or_name
from roundgate.cli.screen.output import say, say_json, styled, warn
from roundgate.core.findings import Finding
from roundgate.core.operations import Operation
from roundgate.core.slate import Outcome
from roundgate.host.servers import Server
from roundgate.host.store import Waiting

if TYPE_CHECKING:
    from roundgate.cli.changes.holder import Holder
    from roundgate.cli.changes.list_setter import ListSetter

Words = Annotated[list[str], typer.Argument(help="[SERVER] NAME=VALUE...", autocompletion=complete_server_or_name)]
Json = Annotated[bool, typer.Option("--json", help="Print JSON.")]
KindOf = Annotated[
    str,
    typer.Option("--kind", metavar="KIND", help="What the value is: text, number, bool, null, or json (any JSON)."),
]
New = Annotated[bool, typer.Option("--new", help="Make a key or list that the file does not have yet.")]
NewFile = Annotated[bool, typer.Option("--new-file", help="Make a file that does not exist yet, under this name.")]


def set_values(
    words: Words,
    now: Annotated[bool, typer.Option("--now", help="Also send it to the live console, at once.")] = False,
    new: New = False,
    new_file: NewFile = False,
    kind: KindOf = "",
    here_only: Annotated[
        bool, typer.Option("--here-only", help="Where a file shares the value (YAML &), change this place alone.")
    ] = False,
) -> None:
    """Change settings. The change waits on the slate until 'apply'.

    Values as people say them: 10m, 5G, 90%, on, off. A secret is given by its name alone and is asked for.
    FILE:KEY=VALUE sets what no rulebook knows; a file of no server is written at once.

    A KEY is a path: crew.mates[0].name (0 is the first), crew.mates[name=Skua].rank, "a.name with dots".most.
    A list or a record is given as JSON: 'ranks.yml:ranks.mate.may=["sail.start"]'.
    """
    from roundgate.cli.changes.setter import Manner, Setter

    manner = Manner(kind, new or new_file, new_file, here_only)
    if _loose(words, lambda holder, rest: Setter(holder, (), manner).operations_of(rest)):
        return
    context = CallContext()
    word, rest = context.split(words)
    servers = context.several(word)
    planned = [(server, Setter(server, _waiting(context, server), manner).operations_of(rest)) for server in servers]
    for server, operations in planned:
        if now:
            from roundgate.cli.changes.live import send_live

            operations = send_live(server, context.store, operations)
        put(context, server, operations)


def switch(
    words: Annotated[list[str], typer.Argument(help="[SERVER] NAME...", autocompletion=complete_server_or_name)],
    on: Annotated[
        bool | None, typer.Option("--on/--off", help="Let it count again as it is, or comment it out.")
    ] = None,
) -> None:
    """Comment keys out with all that is in them, or let commented-out ones count again as they stand.

    NAME is a setting, or FILE:KEY. A setting that is commented out has its default.
    """
    from roundgate.cli.changes.setter import Setter
    from roundgate.host.errors import WrongWords

    if on is None:
        raise WrongWords("On or off?", f"roundgate switch {' '.join(words)} --off    (or --on)")
    _change_keys(
        words,
        "switch",
        lambda holder, waiting, names: [Setter(holder, waiting).switched(name, on=on) for name in names],
    )


def rename(
    words: Annotated[list[str], typer.Argument(help="[SERVER] NAME NEW-NAME")],
    force: Annotated[bool, typer.Option("--force", help="Rename even a key that the rulebook describes.")] = False,
) -> None:
    """Give a key another name, in its place: its value, comment and order stay.

    NAME is FILE:KEY; the new name is its last part alone.
    """
    from roundgate.cli.changes.setter import Setter
    from roundgate.host.errors import WrongWords

    if len(words) < 2:
        raise WrongWords("A key and its new name are needed.", "roundgate rename SERVER FILE:KEY NEW-NAME")

    def renamed(holder: Holder, waiting: Sequence[Operation], names: list[str]) -> list[Operation]:
        if len(names) != 2:
            raise WrongWords("A key and its new name are needed.", "roundgate rename SERVER FILE:KEY NEW-NAME")
        return [Setter(holder, waiting).renamed(names[0], names[1], force=force)]

    _change_keys(words, "rename", renamed)


def reset(words: Annotated[list[str], typer.Argument(help="[SERVER] NAME...")]) -> None:
    """Give settings their default again: the key's value becomes the default; an unknown key is taken out.

    A record is taken out of its list by a field: roundgate reset regatta 'officers.json:officers[name=Tern]'.
    """
    from roundgate.cli.changes.setter import Setter

    _change_keys(words, "reset", lambda holder, waiting, names: [Setter(holder, waiting).reset(name) for name in names])


def add(
    words: Annotated[list[str], typer.Argument(help="[SERVER] LIST ENTRY...")],
    at: Annotated[int | None, typer.Option(help="Put it at this number; 0 is the first. Else at the end.")] = None,
    new: New = False,
    new_file: NewFile = False,
    kind: KindOf = "",
) -> None:
    """Add entries to a list, such as a course to the rotation.

    LIST is a list of the rulebook, a FILE whose lines are the entries, or FILE:PATH of a list inside a file. An entry
    that is a record is given as JSON: '{"id": "GW-7K3M-Q2XD", "rank": "marshal"}'.
    """
    manner = (kind, new or new_file, new_file)
    _change_list(words, lambda setter, name, items: setter.added(name, items, at), manner)


def remove(words: Annotated[list[str], typer.Argument(help="[SERVER] LIST ENTRY...")]) -> None:
    """Remove entries from a list. A list never falls below its least."""
    _change_list(words, lambda setter, name, items: setter.removed(name, items))


def move(
    words: Annotated[list[str], typer.Argument(help="[SERVER] LIST ENTRY")],
    to: Annotated[int, typer.Option(help="The number that it gets; 0 is the first.")],
) -> None:
    """Move an entry of a list to another place."""
    from roundgate.host.errors import WrongWords

    def moved(setter: ListSetter, name: str, items: list[str]) -> list[Operation]:
        if len(items) > 1:
            raise WrongWords("One entry at a time.", "roundgate move SERVER LIST ENTRY --to NUMBER")
        return setter.moved(name, items[0], to)

    _change_list(words, moved)


def _waiting(context: CallContext, server: Server) -> list[Operation]:
    return [one.operation for one in context.store.slate(server.name)]


def _loose(words: list[str], make: Callable[[Holder, list[str]], Sequence[Operation]]) -> bool:
    """Change a file of no server, where the words name one; tell whether they do."""
    from roundgate.cli.changes.standalone import change_loose

    return change_loose(words, make)


def _change_keys(
    words: list[str], verb: str, make: Callable[[Holder, Sequence[Operation], list[str]], list[Operation]]
) -> None:
    from roundgate.host.errors import WrongWords

    if _loose(words, lambda holder, rest: make(holder, (), rest)):
        return
    context = CallContext()
    word, names = context.split(words)
    if not names:
        raise WrongWords("Which setting?", f"roundgate {verb} SERVER NAME")
    for server in context.several(word):
        put(context, server, make(server, _waiting(context, server), names))


def _change_list(
    words: list[str],
    make: Callable[[ListSetter, str, list[str]], list[Operation]],
    manner: tuple[str, bool, bool] = ("", False, False),
) -> None:
    from roundgate.cli.changes.list_setter import ListSetter
    from roundgate.cli.changes.setter import Manner
    from roundgate.host.errors import WrongWords

    def of_holder(holder: Holder, waiting: Sequence[Operation], rest: list[str]) -> list[Operation]:
        if len(rest) < 2:
            raise WrongWords("A list and an entry are needed.", "roundgate add SERVER LIST ENTRY")
        return make(ListSetter(holder, waiting, Manner(*manner)), rest[0], rest[1:])

    if _loose(words, lambda holder, rest: of_holder(holder, (), rest)):
        return
    context = CallContext()
    word, rest = context.split(words)
    for server in context.several(word):
        put(context, server, of_holder(server, _waiting(context, server), rest))


def put(context: CallContext, server: Server, operations: Sequence[Operation], *, despite_errors: bool = False) -> None:
    """Check the slate with the operations on it, and put them there if they bring no error, or ``despite_errors``."""
    from roundgate.cli.changes.new_findings import new_findings
    from roundgate.cli.screen.findings import say_findings
    from roundgate.core.findings import has_errors
    from roundgate.host.person import who

    findings: list[Finding]
    findings, outcome = new_findings(server, _waiting(context, server), operations)
    if findings and not despite_errors:
        say_findings(findings)
    if has_errors(findings) and not despite_errors:
        say("Nothing was put on the slate.")
        raise typer.Exit(1)
    context.store.add_to_slate(server.name, operations, who())
    _say_put(context, server, outcome, {one.shown_name for one in operations})


def _say_put(context: CallContext, server: Server, outcome: Outcome, names: set[str]) -> None:

    waiting = context.store.slate(server.name)
    say_changes(outcome, names, server.name)
    live = all(one.operation.waits_for_stop for one in waiting if one.operation.shown_name in names)
    state = "in force now; it goes into the file at the next stop" if live else "not in force yet"
    say(f"  On the slate of {server.name}, {state} ({len(waiting)} waiting).")
    say(f"  next: roundgate apply {server.name}    (look first: roundgate slate {server.name})")


def say_changes(outcome: Outcome, names: Collection[str], server: str = "") -> None:
    """Say what the operations of some names change."""
    from roundgate.cli.screen.review import in_words
    from roundgate.core.review import changes_in_words

    lead = f"{server}  " if server else ""
    for change in changes_in_words(outcome):
        if change.name in names:
            words = in_words(change.before, change.after, is_nothing=change.is_nothing)
            say(f"{lead}{styled(change.name, 'bold')}{words}")


def slate(
    server: Annotated[str | None, typer.Argument(help="Which servers; all where left out.")] = None,
    as_json: Json = False,
) -> None:
    """What waits: each change, what it will mean, and the difference in the files."""
    from roundgate.cli.changes.new_findings import gathered_now
    from roundgate.cli.screen.review import as_json as review_json
    from roundgate.cli.screen.review import say_review

    context = CallContext()
    results = []
    for one in context.several(server, default_all=True):
        gathered = gathered_now(one, context.store)
        if as_json:
            results.append({"server": one.name, **review_json(gathered)})
            continue
        if not gathered.review.changes and not gathered.differs:
            say(f"{one.name}: the slate is empty.")
            continue
        say(f"{styled(one.name, 'bold')}")
        say_review(gathered)
        say()
        say(f"  next: roundgate apply {one.name}    (or: roundgate discard {one.name})")
    if as_json:
        say_json(results)


def discard(words: Annotated[list[str] | None, typer.Argument(help="[SERVER] [NAME...]")] = None) -> None:
    """Take waiting changes back: those named, or all of a server's."""
    from roundgate.cli.changes.new_findings import matching

    context = CallContext()
    word, names = context.split(words or [])
    held = 0
    for server in context.several(word, lenient=True):
        waiting = context.store.slate(server.name)
        odd = [] if names else context.store.odd_entries(server.name)
        asked = matching(server, waiting, names) if names else waiting
        gone = context.store.take_off_slate([*(one.id for one in asked), *odd])
        left = len(waiting) + len(odd) - len(gone)
        say(f"{server.name}: {len(gone)} taken off the slate, {left} left.")
        held += _say_held(context, server, [one for one in asked if one.id not in gone])
        if names and not asked:
            warn(f"  Nothing of that name waits; see: roundgate slate {server.name}")
            raise typer.Exit(1)
    if held:
        raise typer.Exit(1)


def _say_held(context: CallContext, server: Server, kept: Sequence[Waiting]) -> int:
    """Say what could not be taken back, for a round is bringing it into force; give the number."""

    still = {one.id for one in context.store.slate(server.name)}
    held = [one for one in kept if one.id in still]
    if held:
        names = ", ".join(dict.fromkeys(one.operation.shown_name for one in held))
        say(f"  {names}: round {held[0].round} is bringing that into force.")
        say(f"  to call that round off: roundgate cancel {server.name}")
    elif kept:
        say(f"  {len(kept)} went into force meanwhile; to go back: roundgate rounds {server.name}")
    return len(kept)
