"""Levels read out of a server's records: points, what is granted, and what can be bought with it."""

from __future__ import annotations

from collections.abc import Mapping
from decimal import Decimal
from itertools import accumulate
from typing import Any, NamedTuple

from roundgate.core.files import ServerFiles
from roundgate.core.records.model import Record
from roundgate.core.records.sets import number_in, records_in, rows_of
from roundgate.core.rulebook.expressions import ExpressionProblem, Tree, read_expression, work_out
from roundgate.core.rulebook.model import Curve


class Level(NamedTuple):
    """One level: its number, the points that it needs from the start, and what it grants."""

    number: Decimal
    record: Record
    points: Decimal | None
    """None where the record has no number there."""
    stored: Decimal | None
    """The number as the file has it: where it counts from the level before, less than ``points``."""
    grants: Decimal


class Thing(NamedTuple):
    """Something that can be bought: the level that it needs, and what it costs."""

    record: Record
    level: Decimal
    cost: Decimal
    is_hidden: bool
    is_out: bool
    """Whether nobody is meant to get it."""


class Ladder(NamedTuple):
    """All levels of a curve in their order, and what is bought on the way."""

    name: str
    spec: Curve
    levels: tuple[Level, ...]
    things: tuple[Thing, ...]

    @property
    def granted(self) -> Decimal:
        """What all levels grant together."""
        return sum((level.grants for level in self.levels), Decimal(0))

    @property
    def cost(self) -> Decimal:
        """What all costs that is not out of reach."""
        return sum((level.cost for level in self.things if not level.is_out), Decimal(0))

    def balance(self) -> list[tuple[Decimal, Decimal]]:
        """Give, level by level, what is granted so far and what all costs that can be bought so far."""
        waiting = sorted((level.level, level.cost) for level in self.things if not level.is_out)
        costs: dict[Decimal, Decimal] = {}
        cost, at = Decimal(0), 0
        for number in sorted({level.number for level in self.levels}):
            while at < len(waiting) and waiting[at][0] <= number:
                cost += waiting[at][1]
                at += 1
            costs[number] = cost
        granted = accumulate(level.grants for level in self.levels)
        return [(sum_of, costs[level.number]) for sum_of, level in zip(granted, self.levels, strict=True)]

    def short_from(self) -> Level | None:
        """Return first level from which on what is granted never suffices for all; None where it does at the end."""
        first = None
        for level, (granted, cost) in zip(self.levels, self.balance(), strict=True):
            first = None if granted >= cost else first or level
        return first


def ladder_in(files: ServerFiles, name: str) -> Ladder:
    """Read what one ``[curve.NAME]`` of the rulebook describes."""
    spec = files.book.curve[name]
    return ladder_of(files, name, spec)


def ladder_of(files: ServerFiles, name: str, spec: Curve) -> Ladder:
    """Read the levels, and what can be bought, that a curve describes."""
    book = files.book
    record_set = book.records[spec.records]
    path = book.file[record_set.file].path
    records = records_in(files.document(path) if path in files.texts else None, record_set)
    levels: list[Level] = []
    so_far = Decimal(0)
    for at, record in enumerate(records, 1):
        number = number_in(record, spec.level, record_set) if spec.level else Decimal(at)
        stored = number_in(record, spec.points, record_set)
        so_far = (so_far if spec.each else Decimal(0)) + (stored or Decimal(0))
        grants = number_in(record, spec.grants, record_set) if spec.grants else None
        points = None if stored is None else so_far
        levels.append(Level(Decimal(at) if number is None else number, record, points, stored, grants or Decimal(0)))
    return Ladder(name, spec, tuple(levels), _things(files, spec))


def _things(files: ServerFiles, spec: Curve) -> tuple[Thing, ...]:
    if not spec.costs:
        return ()
    costs = files.book.records[spec.costs]
    path = files.book.file[costs.file].path
    document = files.document(path) if path in files.texts else None
    tree = read_expression(spec.out_of_reach) if spec.out_of_reach else None
    found = []
    for record, row in zip(records_in(document, costs), rows_of(document, costs), strict=True):
        level, cost = number_in(record, spec.needs, costs), number_in(record, spec.cost, costs)
        is_hidden = bool(spec.hidden) and row.get(spec.hidden) is True
        is_out = _holds(tree, row)
        found.append(Thing(record, level or Decimal(0), cost or Decimal(0), is_hidden, is_out))
    return tuple(found)


def _holds(tree: Tree | None, row: Mapping[str, Any]) -> bool:
    if tree is None:
        return False
    try:
        return bool(work_out(tree, row))
    except (ExpressionProblem, KeyError):
        return False
