"""How players rise: ``curve``."""

from __future__ import annotations

from decimal import Decimal
from typing import TYPE_CHECKING, Annotated

import typer

from roundgate.cli.loot.labels import bar
from roundgate.cli.opening import open_call
from roundgate.cli.screen.output import echo, echo_csv, echo_json, echo_next, echo_table, plain, styled
from roundgate.cli.screen.plots import Image, Through
from roundgate.core.next_step import typed_command
from roundgate.host.errors import WrongUsage

if TYPE_CHECKING:
    from collections.abc import Sequence

    from roundgate.cli.screen.outputs import CurveOutput
    from roundgate.core.curves.levels import Ladder, Level

_MOST_ROWS = 40
"""Levels that a table shows; of more it shows the first, the last, and every so many between."""


def curve(
    arguments: Annotated[
        list[str],
        typer.Argument(metavar="[SERVER] NAME", help="A curve of the rulebook, or SET.FIELD for any numbers."),
    ],
    formula: Annotated[
        str, typer.Option("--make", metavar="FORMULA", help="New numbers by a formula of level: 40*level^1.5")
    ] = "",
    through: Through = "",
    scale: Annotated[str, typer.Option("--scale", metavar="FACTOR", help="Stretch the numbers: 120%")] = "",
    levels: Annotated[int, typer.Option("--levels", min=0, help="The number of levels.")] = 0,
    step: Annotated[str, typer.Option("--round", metavar="STEP", help="Round new numbers to this.")] = "1",
    with_slate: Annotated[bool, typer.Option("--slate", help="Also show the result with the slate.")] = False,
    image: Image = "",
    as_csv: Annotated[bool, typer.Option("--csv", help="Print CSV.")] = False,
    as_json: Annotated[bool, typer.Option("--json", help="Print JSON.")] = False,
) -> None:
    """Show levels: the points that each needs, what it grants, and whether that suffices for all that can be bought.

    --make, --through and --scale put new numbers onto the slate; levels that are missing are added like the last one,
    those that are too many are removed.
    """
    from roundgate.api.curves import Making, ladders, made
    from roundgate.cli.edit import slated

    context = open_call()
    word, rest = context.split(list(arguments))
    if len(rest) != 1:
        raise WrongUsage("One curve at a time.", typed_command("curve", "<server>", "<name>"))
    making = Making(formula, through, scale, levels, step)
    makes = bool(formula or through or scale or levels)
    servers = context.servers(word)
    planned = [(server, made(server, rest[0], making)) for server in servers] if makes else []
    for server, operations in planned:
        if operations:
            slated(server, operations)
    found = [(server.name, *ladders(server, rest[0])) for server in servers]
    if not (makes or with_slate):
        waiting = [name for name, before, after in found if before != after]
        found = [(name, before, before) for name, before, _ in found]
    else:
        waiting = []
    if image:
        from roundgate.cli.loot.picture import draw_curves

        draw_curves(found, image)
    if as_json:
        echo_json([_output(*row) for row in found])
    elif as_csv:
        echo_csv(_csv(found))
    elif not image or makes:
        _echo_all(found, rest[0], waiting, makes=makes)


def _echo_all(found: Sequence[tuple[str, Ladder, Ladder]], curve: str, waiting: Sequence[str], *, makes: bool) -> None:
    """Print the levels of each server, and what comes next; ``waiting`` are servers whose slates change them."""
    for name, before, after in found:
        _echo(name, before, after)
        if name in waiting:
            echo(f"The slate changes these levels: roundgate curve {name} {curve} --slate")
        if makes:
            echo(f"  On the slate of {name}, not in force yet.")
            echo_next(typed_command("apply", name, hint=f"look first: roundgate slate {name}"))


def _number(value: Decimal | None) -> str:
    return "-" if value is None else f"{value.normalize():f}"


def _change(before: Decimal | None, after: Decimal | None, *, is_new: bool) -> str:
    if is_new or before == after:
        return _number(after)
    return f"{_number(before)} -> {_number(after)}"


def _echo(server: str, before: Ladder, after: Ladder) -> None:
    spec = after.spec
    echo(f"{styled(server, 'bold')}  {plain(after.name)}" + (f": {plain(spec.about)}" if spec.about else ""))
    old = {level.record.key: level for level in before.levels}
    most = max((abs(level.points) for level in after.levels if level.points), default=Decimal(1))
    rows: list[tuple[str, ...]] = []
    last = Decimal(0)
    with_grants, with_costs = bool(spec.grants), bool(after.things)
    for level, (granted, cost) in zip(after.levels, after.balance(), strict=True):
        was: Level | None = old.get(level.record.key)
        points = level.points or Decimal(0)
        missing = cost - granted
        rows.append(
            (
                f"{level.number:f}" + (" new" if was is None else ""),
                _change(was.points if was else None, level.points, is_new=was is None),
                bar(float(max(Decimal(0), points) / most)),
                f"{points - last:+f}",
                _change(was.grants if was else None, level.grants, is_new=was is None) if with_grants else "",
                f"{granted:f}" if with_grants else "",
                f"{cost:f}" if with_costs else "",
                f"{missing:f} too few" if with_costs and missing > 0 else "",
            )
        )
        last = points
    headers = ("level", spec.points, "", "step", "grants", "granted so far", "costs so far", "short")
    echo_table(headers, _thinned(rows))
    kept = {level.record.key for level in after.levels}
    gone = [f"{level.number:f}" for level in before.levels if level.record.key not in kept]
    if gone:
        echo(f"Taken out: level {', '.join(gone[:8])}" + (f" and {len(gone) - 8} more" if len(gone) > 8 else ""))
    if after.things:
        _say_balance(after)


def _say_balance(after: Ladder) -> None:
    out = sum(1 for level in after.things if level.is_out)
    costs = f"All of {after.spec.costs} costs {after.cost:f}" + (f", {out} out of reach left aside" if out else "")
    short = after.short_from()
    if short is None:
        echo(f"{costs}; the levels grant {after.granted:f}: enough.")
    else:
        missing = after.cost - after.granted
        echo(f"{costs}; the levels grant {after.granted:f}: {missing:f} too few, from level {short.number:f} on.")


def _thinned(rows: list[tuple[str, ...]]) -> list[tuple[str, ...]]:
    """Leave out rows of a long table, evenly; the first and the last stay."""
    if len(rows) <= _MOST_ROWS:
        return rows
    every = -(-len(rows) // _MOST_ROWS)
    kept = [row for at, row in enumerate(rows) if at % every == 0 or at == len(rows) - 1]
    echo(f"(one of {every} levels is shown; --csv has all)")
    return kept


def _output(server: str, before: Ladder, after: Ladder) -> CurveOutput:
    from roundgate.cli.screen.outputs import CurveOutput, LevelOutput

    old = {level.record.key: level for level in before.levels}
    rows = []
    for level, (granted, cost) in zip(after.levels, after.balance(), strict=True):
        was = old.get(level.record.key)
        rows.append(
            LevelOutput(
                float(level.number),
                None if level.points is None else float(level.points),
                None if was is None or was.points is None else float(was.points),
                float(level.grants),
                float(granted),
                float(cost),
            )
        )
    short = after.short_from()
    start = None if short is None else float(short.number)
    return CurveOutput(server, after.name, float(after.granted), float(after.cost), start, rows)


def _csv(found: list[tuple[str, Ladder, Ladder]]) -> list[tuple[str, ...]]:
    rows: list[tuple[str, ...]] = [("server", "level", "points", "points-before", "grants", "granted", "cost")]
    for server, before, after in found:
        old = {level.record.key: level for level in before.levels}
        for level, (granted, cost) in zip(after.levels, after.balance(), strict=True):
            was = old.get(level.record.key)
            numbers = (level.number, level.points, was.points if was else None, level.grants, granted, cost)
            rows.append((server, *("" if number is None else f"{number.normalize():f}" for number in numbers)))
    return rows
