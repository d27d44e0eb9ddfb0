"""Look: ``compare``; edit: ``preset``."""

from __future__ import annotations

import csv
import sys
from typing import Annotated

import typer

from roundgate.cli.call import CallContext
from roundgate.cli.complete import complete_server_or_name
from roundgate.cli.screen.output import clean, echo, echo_json, echo_table, plain
from roundgate.host.errors import UnknownName, WrongWords


def compare(
    words: Annotated[
        list[str],
        typer.Argument(
            metavar="SIDE SIDE...",
            help="SERVER, defaults, preset:NAME or round:N (before that round).",
            autocompletion=complete_server_or_name,
        ),
    ],
    everything: Annotated[bool, typer.Option("--all", help="What is the same too.")] = False,
    as_json: Annotated[bool, typer.Option("--json", help="Print JSON.")] = False,
    as_csv: Annotated[bool, typer.Option("--csv", help="Print CSV, a side to a column.")] = False,
) -> None:
    """What differs between servers, or between a server and its defaults, a preset, or how it was before a round.

    Two spellings of one value are the same. Ends with 1 where anything differs, as programs that compare do.
    """
    from roundgate.api.comparing import compared, sides_of

    sides = sides_of(CallContext(), words)
    found = list(compared(sides))
    shown = [one for one in found if everything or not one.same]
    names = [side.name for side in sides]
    if as_json:
        from roundgate.cli.screen.outputs import ComparedOutput, CompareOutput

        rows = [ComparedOutput(one.name, one.kind, list(one.values), one.same) for one in shown]
        echo_json(CompareOutput(names, rows))
    elif as_csv:
        writer = csv.writer(sys.stdout, lineterminator="\n")
        writer.writerow(["name", *names])
        writer.writerows([clean(one.name), *(plain(value or "") for value in one.values)] for one in shown)
    else:
        echo_table(("setting", *names), [(one.name, *(value or "-" for value in one.values)) for one in shown])
        same = sum(1 for one in found if one.same)
        what = "Nothing differs" if len(found) == same else f"{len(found) - same} differ"
        echo(f"{what}; {same} are the same{'' if everything else ' (--all shows them)'}.")
    if any(not one.same for one in found):
        raise typer.Exit(1)


def preset(
    words: Annotated[
        list[str] | None, typer.Argument(help="[SERVER] NAME; or SERVER alone: list them; or: save NAME SERVER")
    ] = None,
    against: Annotated[str, typer.Option(help="save: what differs from this side; see 'compare'.")] = "defaults",
    force: Annotated[bool, typer.Option("--force", help="save: write over a preset that is there.")] = False,
) -> None:
    """Put a preset's values onto the slate of servers, list the presets, or save one from what a server has.

    Presets are in the rulebook, and in the site's folder presets.
    """
    context = CallContext()
    words = words or []
    if words[:1] == ["save"] and "save" not in context.names:
        _save(context, words[1:], against, force=force)
        return
    word, rest = context.split(words, is_value=True) if words else ("@all", [])
    if len(rest) > 1:
        raise WrongWords("One preset at a time.", "roundgate preset SERVER NAME")
    servers = context.several(word)
    if not rest:
        _list(context, [server.name for server in servers])
        return
    from roundgate.api.presets import presets_of, words_of
    from roundgate.cli.edit import put

    planned = []
    for server in servers:
        known = presets_of(context.site, server)
        if rest[0] not in known:
            raise UnknownName(
                f"{server.name} has no preset '{rest[0]}'.", f"roundgate preset {server.name}    (lists them)"
            )
        opened = context.open(server)
        planned.append((opened, opened.key_changes().operations_of(words_of(known[rest[0]], server.book))))
    for opened, operations in planned:
        put(opened, operations)


def _list(context: CallContext, names: list[str]) -> None:
    from roundgate.api.presets import presets_of, words_of

    rows = []
    for name in names:
        book = context.opened(name).book
        for preset, spec in presets_of(context.site, context.opened(name).server).items():
            rows.append((name, preset, spec.about, ", ".join(words_of(spec, book))))
    if not rows:
        echo("No preset yet.\n  do: roundgate preset save NAME SERVER")
        return
    echo_table(("server", "preset", "", "sets"), rows)


def _save(context: CallContext, words: list[str], against: str, *, force: bool) -> None:
    from roundgate.api.comparing import differing_values, sides_of
    from roundgate.api.presets import save_preset

    if len(words) != 2:
        raise WrongWords("A name and a server are needed.", "roundgate preset save NAME SERVER")
    name, server = words[0], context.one(words[1])
    mine, other = sides_of(context, [server.name, against])
    chosen = differing_values(mine, other)
    path = save_preset(context.site, name, server.entry.rulebook, chosen, force=force)
    number = f"{len(chosen)} value{'' if len(chosen) == 1 else 's'}"
    echo(f"{path.name}: {number} of {server.name} that differ from {other.name}.")
    echo("  Secrets, ports and addresses are left out.")
    echo(f"  next: give it its 'about' in {path}; then: roundgate preset SERVER {name}")
