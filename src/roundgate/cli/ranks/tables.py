"""Ranks as tables and pictures, and compared: ``ranks matrix``, ``impact``, ``diff``, ``test``, ``catalogue``."""

from __future__ import annotations

from typing import Annotated

import typer

from roundgate.cli.complete import after_server, complete_server
from roundgate.cli.opening import open_call
from roundgate.cli.ranks.options import Json, OnlyServer, WithSlate, asked, label, reason
from roundgate.cli.screen.output import echo, echo_csv, echo_json, echo_table, plain, styled
from roundgate.cli.screen.plots import Image
from roundgate.core.next_step import typed_command
from roundgate.host.errors import Trouble, WrongUsage


def matrix(
    arguments: OnlyServer = None,
    people: Annotated[bool, typer.Option("--people", help="Show people instead of ranks.")] = False,
    differs: Annotated[bool, typer.Option("--differs", help="Only permissions that not all have.")] = False,
    with_slate: WithSlate = False,
    image: Image = "",
    as_csv: Annotated[bool, typer.Option("--csv", help="Print CSV.")] = False,
    as_json: Json = False,
) -> None:
    """Show permissions by ranks, or by people: granted, denied, inherited, by a wildcard, or not there."""
    from roundgate.api.ranks import catalogue_of
    from roundgate.cli.screen.outputs import MatrixOutput
    from roundgate.core.ranks.matrix import CELLS, matrix_of
    from roundgate.core.ranks.model import RankMember
    from roundgate.core.ranks.rights import Rights

    context, output, pictures = open_call(), [], []
    word, _ = context.after_server("ranks matrix", arguments)
    for server, scheme in asked(context, word, with_slate=with_slate):
        everybody = [*scheme.members.values(), scheme.newcomer()]
        holders = everybody if people else [RankMember(group, group, (group,)) for group in scheme.groups]
        rights = Rights(scheme, catalogue_of(server, scheme))
        found = matrix_of(rights, holders, differs=differs)
        if image:
            pictures.append((label(server, scheme), found))
            continue
        rows = {
            permission: [CELLS[cell] for cell in cells]
            for permission, cells in zip(found.permissions, found.cells, strict=True)
        }
        output.append(MatrixOutput(server.name, scheme.name, list(found.columns), rows))
    if image:
        from roundgate.cli.ranks.picture import draw

        draw(pictures, image)
        return
    if as_json:
        echo_json(output)
        return
    for matrix in output:
        table = [(permission, *cells) for permission, cells in matrix.rows.items()]
        if as_csv:
            echo_csv([("server", "permission", *matrix.columns), *((matrix.server, *row) for row in table)])
            continue
        echo(styled(matrix.server, "bold"))
        if not table:
            echo("  no permission in which they differ" if differs else "  no permissions")
            continue
        echo_table(("permission", *map(plain, matrix.columns)), table)
        if any(cell.endswith("*") for row in table for cell in row[1:]):
            echo("* by a wildcard")


def impact(
    arguments: OnlyServer = None,
    against: Annotated[
        str,
        typer.Option("--against", metavar="SIDE", help="A file of ranks instead of the slate, or since round:N."),
    ] = "",
    names: Annotated[bool, typer.Option("--names", help="Name all people.")] = False,
    as_json: Json = False,
) -> None:
    """Show who gains and who loses which permissions by the slate."""
    from roundgate.api.rank_sides import side_of
    from roundgate.api.ranks import impact_between, ranks_of, slate_impact
    from roundgate.cli.screen.outputs import ShiftOutput
    from roundgate.core.ranks.impact import describe_shift

    context, output = open_call(), []
    word, _ = context.after_server("ranks impact", arguments)
    for server in context.servers(word):
        if against:
            side = side_of(context, against, server)
            now = ranks_of(context.site, server)
            is_past = against.startswith("round:")
            if is_past and side.server.name != server.name:
                raise WrongUsage(f"{against} was one of {side.server.name}.", typed_command("rounds"))
            pair = (side.schemes, now) if is_past else (now, side.schemes)
            found, what = impact_between(server, *pair), against
        else:
            found, what = slate_impact(context.site, server), "the slate"
        output += [ShiftOutput(server.name, shift.gains, shift.permission, list(shift.people)) for shift in found]
        if as_json:
            continue
        if not found:
            echo(f"{server.name}: {what} changes nothing of what anybody may do.")
        for shift in found:
            echo(f"{server.name}  {plain(describe_shift(shift, names=names))}")
    if as_json:
        echo_json(output)


def diff(
    arguments: Annotated[list[str], typer.Argument(metavar="SERVER SERVER", autocompletion=complete_server)],
    as_json: Json = False,
) -> None:
    """Show the ranks that differ between two servers. The exit code is 1 where there are some."""
    from roundgate.api.rank_sides import rank_differences, two_sides
    from roundgate.cli.screen.outputs import RankDifferenceOutput

    side, other = two_sides(open_call(), arguments)
    found = list(rank_differences(side, other))
    if as_json:
        echo_json(
            [RankDifferenceOutput(row.rank, list(row.only_first), list(row.only_second), row.missing) for row in found]
        )
    elif not found:
        echo(f"The ranks of {side.name} and {other.name} may do the same.")
    else:
        rows = [
            (
                row.rank,
                "no such rank" if row.missing == side.name else ", ".join(row.only_first) or "-",
                "no such rank" if row.missing == other.name else ", ".join(row.only_second) or "-",
            )
            for row in found
        ]
        echo_table(("rank", f"only {side.name}", f"only {other.name}"), rows)
    if found:
        raise typer.Exit(1)


def test(
    arguments: Annotated[list[str] | None, after_server("[FILE]")] = None,
    as_json: Json = False,
) -> None:
    """Compare what a file expects with what the ranks say. The exit code is 1 where they differ."""
    from pathlib import Path

    from roundgate.cli.screen.outputs import TestedOutput
    from roundgate.host.people.ranks import EXPECTATIONS, load_expectations, tested

    context = open_call()
    word, given = context.after_server("ranks test", arguments, "[FILE]")
    path = Path(given[0]) if given else context.site.folder / EXPECTATIONS
    if not path.is_file():
        raise Trouble(f"There is no file {path}.", typed_command("explain", "", "rank-expected"))
    expectations = load_expectations(path)
    output = []
    for server in context.servers(word or "@all"):
        if not server.book.ranks:
            continue
        workspace = server.workspace
        files = workspace.outcome(workspace.operations).after
        for outcome in tested(server.server, files, expectations):
            why = reason(outcome.answer, outcome.scheme) if outcome.answer is not None else outcome.unknown
            output.append(
                TestedOutput(
                    server.name, outcome.expectation.line, outcome.expectation.description, outcome.is_met, why
                )
            )
    if as_json:
        echo_json(output)
    else:
        rows = [(row.server, "as expected" if row.met else "NOT SO", row.expected, row.why) for row in output]
        if rows:
            echo_table(("server", "", "expected", "by"), rows)
        bad = sum(1 for row in output if not row.met)
        echo(f"{len(output)} expectations: {f'{bad} not met' if bad else 'all met'}.")
    if not all(row.met for row in output):
        raise typer.Exit(1)


def catalogue(
    arguments: OnlyServer = None,
    from_file: Annotated[
        str, typer.Option("--from", metavar="FILE", help="Add the permissions that a text names (- for stdin).")
    ] = "",
) -> None:
    """List the permissions that are known; or add those that a text names, such as a mod's own list."""
    import sys
    from pathlib import Path

    from roundgate.api.ranks import catalogue_of, spec_of
    from roundgate.host.people.permissions import add_permissions, names_in
    from roundgate.host.site import CATALOGUE

    context = open_call()
    word, _ = context.after_server("ranks catalogue", arguments)
    if from_file:
        try:
            path = Path(from_file)
            text = sys.stdin.read() if from_file == "-" else path.read_text("utf-8", "replace")
        except OSError as error:
            raise Trouble(f"{from_file} cannot be read: {(error.strerror or str(error)).lower()}.") from error
        for server in context.servers(word):
            names = names_in(text)
            new = add_permissions(context.site, server.book.name, names)
            shown = f": {', '.join(new)}" if new else ""
            echo(f"{server.name}: {len(names)} permissions in that text, {len(new)} of them new in {CATALOGUE}{shown}")
        return
    rows = []
    for server, scheme in asked(context, word):
        about = spec_of(server, scheme).permissions
        rows += [(server.name, permission, about.get(permission, "")) for permission in catalogue_of(server, scheme)]
    echo_table(("server", "permission", "what for"), rows)
