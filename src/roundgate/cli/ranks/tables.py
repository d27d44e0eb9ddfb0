"""Ranks as tables and pictures, and compared: ``ranks matrix``, ``impact``, ``diff``, ``test``, ``catalogue``."""

from __future__ import annotations

from typing import TYPE_CHECKING

import typer

from roundgate.cli.ranks.options import RankOptions, asked, label, reason
from roundgate.cli.screen.output import echo, echo_csv, echo_json, echo_table, plain, styled
from roundgate.host.errors import Trouble, WrongUsage

if TYPE_CHECKING:
    from roundgate.cli.call import CallContext


def matrix(context: CallContext, word: str | None, _words: list[str], options: RankOptions) -> None:
    """Print permissions by ranks, or by people: granted, denied, inherited, by a wildcard, or not there."""
    from roundgate.api.ranks import catalogue_of
    from roundgate.cli.screen.outputs import MatrixOutput
    from roundgate.core.ranks.matrix import CELLS, matrix_of
    from roundgate.core.ranks.model import RankMember
    from roundgate.core.ranks.rights import Rights

    output, pictures = [], []
    for server, scheme in asked(context, word, options):
        people = [*scheme.members.values(), scheme.newcomer()]
        holders = people if options.people else [RankMember(group, group, (group,)) for group in scheme.groups]
        rights = Rights(scheme, catalogue_of(server, scheme))
        found = matrix_of(rights, holders, differs=options.differs)
        if options.picture:
            pictures.append((label(server, scheme), found))
            continue
        rows = {
            permission: [CELLS[cell] for cell in cells]
            for permission, cells in zip(found.permissions, found.cells, strict=True)
        }
        output.append(MatrixOutput(server.name, scheme.name, list(found.columns), rows))
    if options.picture:
        from roundgate.cli.ranks.picture import draw

        draw(pictures, options.picture)
        return
    if options.as_json:
        echo_json(output)
        return
    for matrix in output:
        table = [(permission, *cells) for permission, cells in matrix.rows.items()]
        if options.as_csv:
            echo_csv([("server", "permission", *matrix.columns), *((matrix.server, *row) for row in table)])
            continue
        echo(styled(matrix.server, "bold"))
        if not table:
            echo("  no permission in which they differ" if options.differs else "  no permissions")
            continue
        echo_table(("permission", *map(plain, matrix.columns)), table)
        if any(cell.endswith("*") for row in table for cell in row[1:]):
            echo("* by a wildcard")


def impact(context: CallContext, word: str | None, _words: list[str], options: RankOptions) -> None:
    """Print who gains and who loses what by the slates, by a file in the place of the ranks, or since a round.

    Raises WrongUsage where the round was one of another server.
    """
    from roundgate.api.rank_sides import side_of
    from roundgate.api.ranks import impact_between, ranks_of, slate_impact
    from roundgate.cli.screen.outputs import ShiftOutput
    from roundgate.core.ranks.impact import describe_shift

    output = []
    for server in context.servers(word):
        if options.against:
            side = side_of(context, options.against, server)
            now = ranks_of(context.site, server)
            is_past = options.against.startswith("round:")
            if is_past and side.server.name != server.name:
                raise WrongUsage(f"{options.against} was one of {side.server.name}.", "roundgate rounds")
            pair = (side.schemes, now) if is_past else (now, side.schemes)
            found, what = impact_between(server, *pair), options.against
        else:
            found, what = slate_impact(context.site, server), "the slate"
        output += [ShiftOutput(server.name, shift.gains, shift.permission, list(shift.people)) for shift in found]
        if options.as_json:
            continue
        if not found:
            echo(f"{server.name}: {what} changes nothing of what anybody may do.")
        for shift in found:
            echo(f"{server.name}  {plain(describe_shift(shift, names=options.names))}")
    if options.as_json:
        echo_json(output)


def diff(context: CallContext, _word: str | None, arguments: list[str], options: RankOptions) -> None:
    """Print the ranks that are not the same on two sides. Raises Exit with 1 where there are some."""
    from roundgate.api.rank_sides import rank_differences, two_sides
    from roundgate.cli.screen.outputs import RankDifferenceOutput

    side, other = two_sides(context, arguments)
    found = list(rank_differences(side, other))
    if options.as_json:
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


def test(context: CallContext, word: str | None, arguments: list[str], options: RankOptions) -> None:
    """Compare what is expected with what the ranks say. Raises Exit with 1 where they differ, Trouble for no file."""
    from pathlib import Path

    from roundgate.cli.screen.outputs import TestedOutput
    from roundgate.host.people.ranks import EXPECTATIONS, load_expectations, tested

    path = Path(arguments[0]) if arguments else context.site.folder / EXPECTATIONS
    if not path.is_file():
        raise Trouble(f"There is no file {path}.", "roundgate explain rank-expected")
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
    if options.as_json:
        echo_json(output)
    else:
        rows = [(row.server, "as expected" if row.met else "NOT SO", row.expected, row.why) for row in output]
        if rows:
            echo_table(("server", "", "expected", "by"), rows)
        bad = sum(1 for row in output if not row.met)
        echo(f"{len(output)} expectations: {f'{bad} not met' if bad else 'all met'}.")
    if not all(row.met for row in output):
        raise typer.Exit(1)


def catalogue(context: CallContext, word: str | None, _words: list[str], options: RankOptions) -> None:
    """Print the permissions that are known; or take more of them out of a text, such as a mod's own list.

    Raises Trouble where that cannot be read.
    """
    import sys
    from pathlib import Path

    from roundgate.api.ranks import catalogue_of, spec_of
    from roundgate.host.people.permissions import add_permissions, names_in
    from roundgate.host.site import CATALOGUE

    if options.from_file:
        try:
            path = Path(options.from_file)
            text = sys.stdin.read() if options.from_file == "-" else path.read_text("utf-8", "replace")
        except OSError as error:
            raise Trouble(f"{options.from_file} cannot be read: {(error.strerror or str(error)).lower()}.") from error
        for server in context.servers(word):
            names = names_in(text)
            new = add_permissions(context.site, server.book.name, names)
            shown = f": {', '.join(new)}" if new else ""
            echo(f"{server.name}: {len(names)} permissions in that text, {len(new)} of them new in {CATALOGUE}{shown}")
        return
    rows = []
    for server, scheme in asked(context, word, options):
        about = spec_of(server, scheme).permissions
        rows += [(server.name, permission, about.get(permission, "")) for permission in catalogue_of(server, scheme)]
    echo_table(("server", "permission", "what for"), rows)


VERBS = {"matrix": matrix, "impact": impact, "diff": diff, "test": test, "catalogue": catalogue}
