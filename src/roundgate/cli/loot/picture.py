"""Odds and curves as pictures: told apart by shape and by place as well as by colour."""

from __future__ import annotations

from itertools import pairwise
from typing import TYPE_CHECKING

from roundgate.cli.screen.drawing import AFTER, BEFORE, FALLS, HEIGHT, new_figure, save, short
from roundgate.host.errors import Trouble

if TYPE_CHECKING:
    from collections.abc import Sequence

    from matplotlib.axes import Axes

    from roundgate.api.loot import OddsTable
    from roundgate.core.curves.levels import Ladder

_MOST_ROWS = 60
"""More cannot be read on one picture."""


def draw_odds(tables: Sequence[tuple[str, OddsTable]], path: str, *, with_slate: bool) -> None:
    """Draw the chances of each table as bars below each other. Raises Trouble."""
    tables = [(server, table) for server, table in tables if table.rows]
    rows = sum(len(table.rows) for _, table in tables)
    if not rows:
        raise Trouble("There is nothing to draw: nothing can come out.")
    if rows > _MOST_ROWS:
        raise Trouble(
            f"{rows} things cannot be read on one picture (at most {_MOST_ROWS}).",
            "Name one record, or print it: --csv",
        )
    figure = new_figure(max(HEIGHT, 1.2 * len(tables) + 0.32 * rows))
    parts = figure.subplots(
        len(tables), 1, squeeze=False, gridspec_kw={"height_ratios": [len(table.rows) + 1 for _, table in tables]}
    )
    for (server, table), (axes,) in zip(tables, parts, strict=True):
        _draw_table(axes, server, table, with_slate=with_slate)
    save(figure, path)


def _draw_table(axes: Axes, server: str, table: OddsTable, *, with_slate: bool) -> None:
    from roundgate.cli.loot.labels import title_of
    from roundgate.core.loot.shifts import percent

    for at, row in enumerate(table.rows):
        was, now = (odds.chance if odds else 0.0 for odds in (row.before, row.after))
        expected = row.after.expected if row.after else 0.0
        is_moved = with_slate and abs(was - now) > 1e-12
        axes.barh(at, now, height=0.62, color=FALLS if is_moved and now < was else AFTER, zorder=2)
        if is_moved:
            axes.plot([was, was], [at - 0.42, at + 0.42], color="black", linewidth=2.4, zorder=4)
        label = f"{percent(was)} → {percent(now)}" if is_moved else percent(now)
        label = f"{label},  {expected:.3g} expected"
        axes.text(max(now, was if is_moved else 0) + 0.008, at, label, va="center", fontsize=9)
    axes.set_yticks(range(len(table.rows)), [short(row.thing) for row in table.rows])
    axes.set_ylim(len(table.rows) - 0.4, -0.6)
    axes.set_xlim(0, 1.25)
    axes.set_xticks([0, 0.25, 0.5, 0.75, 1], ["0%", "25%", "50%", "75%", "100%"])
    axes.grid(visible=True, axis="x", color="#e2e2e2", zorder=0)
    axes.tick_params(length=0)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    note = "   (black line: before; orange: falls)" if with_slate else ""
    axes.set_title(f"{server}: {short(title_of(table), 90)}{note}", loc="left", fontweight="bold", pad=10)
    axes.set_xlabel("chance of at least one")


def draw_curves(found: Sequence[tuple[str, Ladder, Ladder]], path: str) -> None:
    """Draw curves: points by level, old and new, and below them what is granted against what all costs.

    Raises Trouble.
    """
    if len(found) > _MOST_CURVES:
        raise Trouble(f"{len(found)} servers cannot be read on one picture.", "Name one server.")
    figure = new_figure()
    has_costs = any(after.things for _, _, after in found)
    parts = figure.subplots(2 if has_costs else 1, len(found), squeeze=False)
    for column, (server, before, after) in enumerate(found):
        _draw_points(parts[0][column], server, before, after)
        if has_costs:
            _draw_balance(parts[1][column], after)
    save(figure, path)


_MOST_CURVES = 4


def _series(ladder: Ladder) -> tuple[list[float], list[float]]:
    known = [(level.number, level.points) for level in ladder.levels if level.points is not None]
    return [float(number) for number, _ in known], [float(points) for _, points in known]


def _draw_points(axes: Axes, server: str, before: Ladder, after: Ladder) -> None:
    marker = "o" if len(after.levels) <= 80 else ""
    if before != after:
        marks = "s" if marker else ""
        axes.plot(*_series(before), color=BEFORE, linestyle="--", linewidth=2, marker=marks, label="on disk")
    label = "with the slate" if before != after else after.spec.points
    axes.plot(*_series(after), color=AFTER, linewidth=2.2, marker=marker, markersize=4, label=label)
    axes.set_title(f"{server}: {short(after.name, 60)}, {after.spec.points} by level", loc="left", fontweight="bold")
    axes.set_ylabel(after.spec.points)
    _dress(axes)


def _draw_balance(axes: Axes, after: Ladder) -> None:
    numbers = [float(level.number) for level in after.levels]
    granted = [float(gained) for gained, _ in after.balance()]
    costs = [float(gained) for _, gained in after.balance()]
    axes.step(numbers, granted, where="post", color=AFTER, linewidth=2.2, label="granted so far")
    label = "all that can be bought costs"
    axes.step(numbers, costs, where="post", color="black", linestyle=":", linewidth=2.2, label=label)
    is_short = [cost > grant for grant, cost in zip(granted, costs, strict=True)]
    for at, (start, end) in enumerate(pairwise(numbers)):
        if is_short[at]:
            label = "" if any(is_short[:at]) else "too few"
            axes.fill_between(
                [start, end], granted[at], costs[at], color=FALLS, alpha=0.35, hatch="//", linewidth=0, label=label
            )
    axes.set_ylabel(after.spec.grants)
    axes.set_xlabel("level")
    _dress(axes)


def _dress(axes: Axes) -> None:
    axes.grid(visible=True, color="#e2e2e2", zorder=0)
    axes.set_axisbelow(True)
    axes.margins(x=0.02)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    axes.legend(frameon=False, loc="upper left")
