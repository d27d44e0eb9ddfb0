"""Do the levels suffice for what can be bought with what they grant, and can all of that be reached?"""

from __future__ import annotations

from collections.abc import Collection, Iterator
from typing import TYPE_CHECKING

from roundgate.core.checks.context import CheckContext
from roundgate.core.findings import Finding, FindingCode, Place
from roundgate.core.records.model import Record

if TYPE_CHECKING:
    from roundgate.core.curves.levels import Ladder

CODES = (
    FindingCode(
        "curve-short",
        "warning",
        "Levels that grant less than all costs that can be bought",
        "A player who has done all can still not have all. Some games intend that; often a recipe was added and no "
        "level changed.",
        "grants = 2 at each of 5 levels, and recipes for 14",
        "grants = 3 at each of 5 levels",
    ),
    FindingCode(
        "curve-unreached",
        "warning",
        "Something that needs a level which does not exist",
        "Nobody can ever get it, and players see it anyway.",
        "level: 60, where the last level is 50",
        "level: 50",
    ),
    FindingCode(
        "curve-half-hidden",
        "warning",
        "Something hidden that is not out of reach",
        "It is out of reach only where all that the game asks for is set so. As it is, players will still find it.",
        "hidden: true, level: 3, cost: 2",
        "hidden: true, level: 99, cost: 99",
    ),
)


def check_curves(context: CheckContext, written: Collection[str] | None = None) -> Iterator[Finding]:
    """Check all curves whose files exist; where ``written`` names files, only what those can have changed."""
    book = context.book
    for name, spec in book.curve.items():
        sets = [set_name for set_name in (spec.records, spec.costs) if set_name]
        paths = {book.file[book.records[set_name].file].path for set_name in sets}
        if written is None or paths & set(written):
            from roundgate.core.curves.levels import ladder_in  # most commands write no such file

            ladder = ladder_in(context.files, name)
            if ladder.levels and ladder.things:
                yield from _ladder(context, ladder)


def _ladder(context: CheckContext, ladder: Ladder) -> Iterator[Finding]:
    spec = ladder.spec
    missing, start = ladder.cost - ladder.granted, ladder.short_from()
    last = max(level.number for level in ladder.levels)
    if missing > 0 and start is not None:
        cause = (
            f"All of {spec.costs} costs {ladder.cost:f}, and the levels grant {ladder.granted:f}: {missing:f} too few, "
            f"from level {start.number:f} on."
        )
        place = _place(context, spec.records, start.record, spec.grants)
        do = context.command("curve", ladder.name)
        yield context.finding("curve-short", "warning", place, cause, do, spec.records)
    for thing in ladder.things:
        shown = f"{spec.costs}/{thing.record.key}"
        if thing.is_hidden and not thing.is_out:
            cause = f"{shown} is hidden, but not out of reach: that needs {spec.out_of_reach}."
            do = context.command("show", shown)
            place = _place(context, spec.costs, thing.record, spec.hidden)
            yield context.finding("curve-half-hidden", "warning", place, cause, do, spec.costs)
        elif thing.level > last and not thing.is_out:
            cause = f"{shown} needs level {thing.level:f}, and the last level is {last:f}."
            do = context.command("set", f"{shown}.{spec.needs}={last:f}")
            place = _place(context, spec.costs, thing.record, spec.needs)
            yield context.finding("curve-unreached", "warning", place, cause, do, spec.costs)


def _place(context: CheckContext, name: str, record: Record, field: str) -> Place:
    path = context.book.file[context.book.records[name].file].path
    held = record.fields.get(field) or next(iter(record.fields.values()), None)
    return context.entry_place(path, held.entries[0]) if held is not None and held.entries else Place(path)
