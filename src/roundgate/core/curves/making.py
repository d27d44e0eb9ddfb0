"""New numbers for the levels of a curve: from a formula, through given points, or by stretching what is there."""

from __future__ import annotations

import re
from collections.abc import Sequence
from decimal import ROUND_HALF_UP, Decimal
from itertools import pairwise

from roundgate.core.patterns import lazy
from roundgate.core.rulebook.expressions import ExpressionProblem, names_in, read_expression, to_step, work_out

_POINT = lazy(r"\s*(\d+(?:\.\d+)?)\s*:\s*(-?\d+(?:\.\d+)?)\s*")
_LARGEST = Decimal(10) ** 15
"""No game counts further; a formula that goes above it is a slip."""
MOST_LEVELS = 100_000
"""More levels are not made."""


class CurveProblem(ValueError):
    """Numbers that cannot be made; the message says why."""


def by_formula(source: str, levels: Sequence[Decimal]) -> list[Decimal]:
    """Work a formula of ``level`` out for each level. Raises CurveProblem."""
    try:
        tree = read_expression(re.sub(r"\blevel-", "level - ", source))  # names may have dashes
    except ExpressionProblem as error:
        raise CurveProblem(f"The formula '{source}' cannot be read: {error}.") from error
    unknown = names_in(tree) - {"level"}
    if unknown:
        raise CurveProblem(f"'{source}' may name level and nothing else, such as 40*level^1.5; not {min(unknown)}.")
    found = []
    for level in levels:
        try:
            found.append(work_out(tree, {"level": level}))
        except ExpressionProblem as error:
            raise CurveProblem(f"The formula '{source}' gives no number at level {level:f}.") from error
    for level, value in zip(levels, found, strict=True):
        if not isinstance(value, Decimal) or not value.is_finite():
            raise CurveProblem(f"The formula '{source}' gives no number at level {level:f}.")
        if abs(value) > _LARGEST:
            raise CurveProblem(f"The formula '{source}' gives more than {_LARGEST:f} at level {level:f}.")
    return found


def points_in(text: str) -> list[tuple[Decimal, Decimal]]:
    """Read given points, such as ``1:0,10:500,60:20000``. Raises CurveProblem."""
    found = []
    for word in text.split(","):
        match = _POINT.fullmatch(word)
        if match is None:
            raise CurveProblem(f"'{word.strip()}' is not a point: LEVEL:NUMBER, such as 10:500.")
        found.append((Decimal(match[1]), Decimal(match[2])))
    if len(found) < 2:
        raise CurveProblem("A curve needs two points or more.")
    if any(later[0] <= earlier[0] for earlier, later in pairwise(found)):
        raise CurveProblem("The levels of the points must rise.")
    if any(later[1] < earlier[1] for earlier, later in pairwise(found)):
        raise CurveProblem("The numbers of the points must not fall.")
    return found


def through(points: Sequence[tuple[Decimal, Decimal]], levels: Sequence[Decimal]) -> list[Decimal]:
    """Lay a smooth curve that never falls through given points (PCHIP; Fritsch and Butland, 1984).

    Outside the points it goes on as a straight line. Levels and numbers have no unit.
    """
    from scipy.interpolate import PchipInterpolator  # it takes a third of a second to load

    given = [(float(level), float(number)) for level, number in points]
    curve = PchipInterpolator([level for level, _ in given], [number for _, number in given])
    slopes = curve.derivative()
    (first, low), (last, high) = given[0], given[-1]
    found = []
    for level in map(float, levels):
        if level < first:
            value = low + float(slopes(first)) * (level - first)
        elif level > last:
            value = high + float(slopes(last)) * (level - last)
        else:
            value = float(curve(level))
        found.append(Decimal(repr(value)))
    return found


def scaled(numbers: Sequence[Decimal | None], factor: str) -> list[Decimal]:
    """Stretch numbers by a factor such as ``120%`` or ``1.2``. Raises CurveProblem."""
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*(%?)\s*", factor)
    if match is None:
        raise CurveProblem(f"'{factor}' is not a factor: 120% or 1.2.")
    times = Decimal(match[1]) / (100 if match[2] else 1)
    return [(number or Decimal(0)) * times for number in numbers]


def rounded(numbers: Sequence[Decimal], step: Decimal) -> list[Decimal]:
    """Bring numbers to whole multiples of a step, halves upwards. Raises CurveProblem."""
    if step <= 0:
        raise CurveProblem("The step to round to must be above 0.")
    return [to_step(number, step, ROUND_HALF_UP) for number in numbers]
