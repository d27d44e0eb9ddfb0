"""``compare``, and presets: ``preset list``, ``use`` and ``save``."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Annotated

import typer

from roundgate.cli.complete import after_server, complete_preset, complete_server, complete_side
from roundgate.cli.opening import open_call
from roundgate.cli.screen.output import echo, echo_csv, echo_do, echo_json, echo_table
from roundgate.core.nearest import nearest
from roundgate.core.next_step import did_you_mean, typed_command
from roundgate.host.errors import UnknownName

if TYPE_CHECKING:
    from roundgate.api.server import OpenServer
    from roundgate.cli.call import CallContext
    from roundgate.core.operations.base import Operation
    from roundgate.core.rulebook.model import Preset
    from roundgate.host.servers import Server


def compare(
    arguments: Annotated[
        list[str],
        typer.Argument(
            metavar="SIDE SIDE...",
            help="SERVER, defaults, preset:NAME or round:N (before that round).",
            autocompletion=complete_side,
        ),
    ],
    everything: Annotated[bool, typer.Option("--all", help="What is the same too.")] = False,
    groups: Annotated[bool, typer.Option("--groups", help="A column for each word, such as @TAG.")] = False,
    as_json: Annotated[bool, typer.Option("--json", help="Print JSON.")] = False,
    as_csv: Annotated[bool, typer.Option("--csv", help="Print CSV, a side to a column.")] = False,
) -> None:
    """What differs between servers, or between a server and its defaults, a preset, or how it was before a round.

    Two spellings of one value are the same. Ends with 1 where anything differs, as programs that compare do.
    """
    from roundgate.api.comparing import compared, grouped, groups_of, sides_of

    if groups:
        sides, columns = groups_of(open_call(), arguments)
        found = list(grouped(list(compared(sides)), sides, columns))
        names = [column.name for column in columns]
    else:
        sides = sides_of(open_call(), arguments)
        found = list(compared(sides))
        names = [side.name for side in sides]
    shown = [difference for difference in found if everything or not difference.same]
    if as_json:
        from roundgate.cli.screen.outputs import ComparedOutput, CompareOutput

        rows = [
            ComparedOutput(difference.name, difference.kind, list(difference.values), difference.same)
            for difference in shown
        ]
        echo_json(CompareOutput(names, rows))
    elif as_csv:
        rows_shown = [(difference.name, *(value or "" for value in difference.values)) for difference in shown]
        echo_csv([("name", *names), *rows_shown])
    else:
        for kinds, title in _GROUPS:
            table = [
                (difference.name, *(value or "-" for value in difference.values))
                for difference in shown
                if difference.kind in kinds
            ]
            if table:
                echo_table((title, *names), table)
                echo()
        same = sum(1 for difference in found if difference.same)
        what = "Nothing differs" if len(found) == same else f"{len(found) - same} differ"
        echo(f"{what}; {same} are the same{'' if everything else ' (--all shows them)'}.")
    if any(not difference.same for difference in found):
        raise typer.Exit(1)


_GROUPS = (
    (("setting",), "setting"),
    (("list",), "list"),
    (("records",), "records"),
    (("key", "file"), "of no rulebook"),
)
"""The groups of a comparison as text: what is in each, and its title."""


def use_preset(
    arguments: Annotated[
        list[str],
        typer.Argument(metavar="[SERVER] PRESET", help="Such as: regatta gentle", autocompletion=complete_preset),
    ],
    with_mode: Annotated[
        bool | None,
        typer.Option("--with-mode/--without-mode", help="Also switch on the mode that the preset needs."),
    ] = None,
    new_world: Annotated[
        str,
        typer.Option(
            "--new-world", metavar="NAME", help="Start a new world of this name, for settings that a world fixes."
        ),
    ] = "",
) -> None:
    """Put a preset's values onto the slate of servers."""
    from roundgate.cli.edit import put

    context = open_call()
    word, [name] = context.after_server("preset use", arguments, "PRESET")
    planned = [(context.open(server), _preset_of(context, server, name)) for server in context.several(word)]
    for opened, chosen in planned:
        operations = _operations(opened, name, chosen, with_mode=with_mode)
        put(opened, opened.key_changes().new_world(operations, new_world) if new_world else operations)


def _preset_of(context: CallContext, server: Server, name: str) -> Preset:
    """Return a preset for a server. Raises UnknownName where it has none of that name."""
    from roundgate.api.presets import game_of_preset, presets_of

    known = presets_of(context.site, server)
    if name in known:
        return known[name]
    game = game_of_preset(context.site, name)
    if game:
        has = server.entry.rulebook or "no rulebook"
        raise UnknownName(f"The preset '{name}' is for the rulebook {game}; {server.name} has {has}.")
    near = nearest(name, known)
    hint = did_you_mean(name, near) if near else typed_command("preset list", server.name)
    raise UnknownName(f"{server.name} has no preset '{name}'.", hint)


def _operations(opened: OpenServer, name: str, chosen: Preset, *, with_mode: bool | None) -> list[Operation]:
    """Make the operations of a preset, with its mode where that is wanted."""
    from roundgate.api.presets import assignments_of, left_out, missing_mode

    after = opened.workspace.outcome(opened.workspace.operations).after
    absent = left_out(chosen, after)
    for setting, needs in absent.items():
        echo(f"{opened.name}  {setting} is left out: it needs {needs}")
    wanted = {setting: value for setting, value in chosen.set.items() if setting not in absent}
    mode = missing_mode(chosen, after)
    if mode:
        shown = " ".join(assignments_of(mode, opened.book))
        if with_mode is None:
            question = f"The preset '{name}' counts only with {shown}. Set that too?"
            with_mode = sys.stdin.isatty() and typer.confirm(question)
        if with_mode:
            wanted = {**mode, **wanted}
        else:
            echo(f"{opened.name}  The preset '{name}' counts only with {shown}, which is not set: add --with-mode")
    return opened.key_changes().operations_of(assignments_of(wanted, opened.book))


def list_presets(
    server: Annotated[
        str | None,
        typer.Argument(metavar="[SERVER]", help="Which servers; default: all.", autocompletion=complete_server),
    ] = None,
) -> None:
    """List the presets that fit a server: those of its rulebook, and the site's own."""
    from roundgate.api.presets import assignments_of, presets_of

    context, rows = open_call(), []
    for name in [opened.name for opened in context.servers(server or "@all")]:
        book = context.opened(name).book
        for preset, spec in presets_of(context.site, context.opened(name).server).items():
            rows.append((name, preset, spec.about, ", ".join(assignments_of({**spec.mode, **spec.set}, book))))
    if not rows:
        echo("No preset yet.")
        echo_do(typed_command("preset save", "", "<name>"))
        return
    echo_table(("server", "preset", "", "sets"), rows)


def save(
    arguments: Annotated[
        list[str],
        after_server("NAME", "Whose values, and the preset's name."),
    ],
    against: Annotated[str, typer.Option(help="What differs from this side; see 'compare'.")] = "defaults",
    force: Annotated[bool, typer.Option("--force", help="Overwrite an existing preset.")] = False,
) -> None:
    """Save what a server has, where that is not the default, as a preset. Its name, ports and world are left out."""
    from roundgate.api.comparing import differing_values, sides_of
    from roundgate.api.presets import save_preset

    context = open_call()
    word, [name] = context.after_server("preset save", arguments, "NAME")
    server = context.one(word)
    mine, other = sides_of(context, [server.name, against])
    chosen = differing_values(mine, other)
    path = save_preset(context.site, name, server.entry.rulebook, chosen, force=force)
    number = f"{len(chosen)} value{'' if len(chosen) == 1 else 's'}"
    echo(f"{path.name}: {number} of {server.name} that differ from {other.name}.")
    echo("  Left out is what is its own: secrets, ports, addresses, its name in the list, its world.")
    echo(f"  Describe it as 'about' in {path}. To use it: roundgate preset use <server> {name}")
