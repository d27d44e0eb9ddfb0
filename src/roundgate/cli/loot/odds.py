"""What players will find: ``odds``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from roundgate.cli.loot.labels import bar, title_of
from roundgate.cli.opening import open_call
from roundgate.cli.screen.output import echo, echo_csv, echo_json, echo_table, plain, styled
from roundgate.cli.screen.plots import Image

if TYPE_CHECKING:
    from roundgate.api.loot import OddsTable, Row
    from roundgate.api.server import OpenServer
    from roundgate.cli.screen.outputs import OddsOutput
    from roundgate.core.loot.odds import Odds


def odds(
    arguments: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[SERVER] [SET/RECORD]...",
            help="What is opened, such as flotsam/North; without one, all that is there after a restart.",
        ),
    ] = None,
    find: Annotated[str, typer.Option("--find", metavar="THING", help="Where a thing can come from.")] = "",
    with_slate: Annotated[bool, typer.Option("--slate", help="Also show the result with the slate.")] = False,
    image: Image = "",
    as_csv: Annotated[bool, typer.Option("--csv", help="Print CSV.")] = False,
    as_json: Annotated[bool, typer.Option("--json", help="Print JSON.")] = False,
) -> None:
    """Work out what players will find: exactly, from the tables themselves.

    For each thing: the chance that there is at least one, the expected count, the counts that four of five openings
    lie between, and which tables give it. Nothing is rolled: two calls say the same.
    """
    from roundgate.api.loot import odds_tables, where_found

    context = open_call()
    word, records = context.split(list(arguments or []))
    found: list[tuple[OpenServer, list[OddsTable]]] = []
    for server in context.servers(word):
        if find:
            found.append((server, where_found(server, find, with_slate=with_slate)))
        else:
            found.append((server, odds_tables(server, records, with_slate=with_slate)))
    if image:
        from roundgate.cli.loot.picture import draw_odds

        draw_odds([(server.name, table) for server, tables in found for table in tables], image, with_slate=with_slate)
        return
    if as_json:
        echo_json([_output(server.name, table) for server, tables in found for table in tables])
        return
    if as_csv:
        echo_csv(_csv([(server.name, table) for server, tables in found for table in tables]))
        return
    for server, tables in found:
        for table in tables if not find else ():
            _echo_table(server.name, table, with_slate=with_slate)
        if find:
            _echo_found(server.name, tables)
        if not with_slate:
            _hint(server)


def _hint(server: OpenServer) -> None:
    """Print where the slate would change the odds that were shown."""
    if not server.workspace.operations:
        return
    from roundgate.core.loot.shape import loot_paths
    from roundgate.core.loot.shifts import shifts

    outcome = server.workspace.outcome(server.workspace.operations)
    if loot_paths(outcome.before) & set(outcome.touched) and shifts(outcome.before, outcome.after):
        echo(f"The slate changes these odds: roundgate odds {server.name} --slate")


def _change(before: Odds | None, after: Odds | None, how: str) -> str:
    """Describe what is, or what was and will be, where that is not the same."""
    from roundgate.core.loot.shifts import percent

    parts = []
    for side in (before, after):
        if how == "chance":
            parts.append(percent(side.chance if side else 0.0))
        elif how == "expected":
            parts.append(f"{side.expected if side else 0.0:.3g}")
        else:
            low, high = side.mostly if side else (0, 0)
            parts.append(str(low) if low == high else f"{low} to {high}")
    return parts[1] if parts[0] == parts[1] else " -> ".join(parts)


def ways(row: Row, *, with_record: bool) -> str:
    """Name the ways to a thing, the most fruitful first."""
    shown = []
    for record, path in row.paths:
        names = [f"{set_name}/{key}" for set_name, key in path.through]
        shown.append(" > ".join([record, *names] if with_record else names) or "directly")
    shown = list(dict.fromkeys(shown))
    more = f", and {len(shown) - 3} more" if len(shown) > 3 else ""
    return ", ".join(shown[:3]) + more


def _echo_table(server: str, table: OddsTable, *, with_slate: bool) -> None:
    echo(f"{styled(server, 'bold')}  {plain(title_of(table))}")
    if not table.rows:
        echo("  nothing can come out")
        return
    echo_table(
        ("thing", "chance", "", "expected", "mostly", "through" if table.record else "from"),
        [
            (
                row.thing,
                _change(row.before, row.after, "chance"),
                bar(row.after.chance if row.after else 0.0),
                _change(row.before, row.after, "expected"),
                _change(row.before, row.after, "mostly"),
                ways(row, with_record=not table.record),
            )
            for row in table.rows
        ],
    )
    if with_slate and all(row.before is row.after or _same(row) for row in table.rows):
        echo("The slate changes nothing of it.")


def _same(row: Row) -> bool:
    return (
        row.before is not None
        and row.after is not None
        and abs(row.before.chance - row.after.chance) < 1e-12
        and abs(row.before.expected - row.after.expected) < 1e-12
    )


def _echo_found(server: str, tables: list[OddsTable]) -> None:
    echo(f"{styled(server, 'bold')}  {plain(tables[0].rows[0].thing)}")
    rows = [
        (
            table.record or "all, after a restart",
            _change(row.before, row.after, "chance"),
            bar(row.after.chance if row.after else 0.0),
            _change(row.before, row.after, "expected"),
            _change(row.before, row.after, "mostly"),
            ways(row, with_record=False) if table.record else "",
        )
        for table in tables
        for row in table.rows
    ]
    echo_table(("in", "chance", "", "expected", "mostly", "through"), rows)


def _output(server: str, table: OddsTable) -> OddsOutput:
    from roundgate.cli.screen.outputs import OddsOutput, ThingOutput, WayOutput

    things = []
    for row in table.rows:
        now, was = row.after, row.before
        low, high = now.mostly if now else (0, 0)
        things.append(
            ThingOutput(
                row.thing,
                now.chance if now else 0.0,
                now.expected if now else 0.0,
                now.spread if now else 0.0,
                low,
                high,
                was.chance if was else 0.0,
                was.expected if was else 0.0,
                [
                    WayOutput(record, [f"{table}/{key}" for table, key in path.through], path.expected)
                    for record, path in row.paths
                ],
            )
        )
    return OddsOutput(server, table.loot, table.record, table.at_once, things)


_CSV = ("thing", "chance", "expected", "spread", "least", "most", "chance-before", "expected-before")


def _csv(tables: list[tuple[str, OddsTable]]) -> list[tuple[str, ...]]:
    rows: list[tuple[str, ...]] = [("server", "record", *_CSV)]
    for server, table in tables:
        for output in _output(server, table).things:
            likely = (output.chance, output.expected, output.spread, output.least, output.most)
            numbers = (*likely, output.chance_before, output.expected_before)
            rows.append((server, table.record, output.thing, *(f"{number:.10g}" for number in numbers)))
    return rows
