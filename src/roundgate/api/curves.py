"""The levels of a server as a curve: on disk, and as its slate would leave them; and new ones onto the slate."""

from __future__ import annotations

from decimal import Decimal
from typing import NamedTuple

from roundgate.api.record_changes import RecordChanges
from roundgate.api.server import OpenServer
from roundgate.core.curves.levels import Ladder, ladder_of
from roundgate.core.curves.making import MOST_LEVELS, CurveProblem, by_formula, points_in, rounded, scaled, through
from roundgate.core.files import ServerFiles
from roundgate.core.nearest import nearest
from roundgate.core.next_step import did_you_mean, typed_command
from roundgate.core.operations.base import Operation
from roundgate.core.rulebook.model import Curve, Rulebook
from roundgate.host.errors import Trouble, UnknownName, WrongUsage

_NUMBERS = ("int", "decimal", "percent", "duration", "size")


_EXAMPLE = typed_command(
    "curve", "<server>", "<name>", options=("--make", "40*level^1.5", "--levels", "60", "--round", "5")
)


class Making(NamedTuple):
    """How a curve is to be made: by one of the three ways, for so many levels, rounded to a step."""

    formula: str = ""
    through: str = ""
    scale: str = ""
    levels: int = 0
    """0: as many as there are, or as the last of the given points says."""
    step: str = "1"


def curve_named(book: Rulebook, word: str) -> tuple[str, Curve]:
    """Return the curve that a word means: one of the rulebook's, or SET.FIELD for any numbers. Raises UnknownName."""
    lowered = word.lower()
    for name, spec in book.curve.items():
        if lowered == name.lower():
            return name, spec
    for name, record_set in book.records.items():
        if not lowered.startswith(f"{name.lower()}."):
            continue
        field = {field.lower(): field for field in record_set.field}.get(lowered[len(name) + 1 :], "")
        if field and record_set.field[field].type in _NUMBERS:
            known = next((curve for curve in book.curve.values() if curve.records == name), None)
            level = known.level if known is not None else ""
            return f"{name}.{field}", Curve(records=name, points=field, level=level)
        fields = ", ".join(field for field, spec in record_set.field.items() if spec.type in _NUMBERS)
        raise UnknownName(f"'{word}' has no numbers.", f"Fields of {name} with numbers: {fields or 'none'}")
    near = nearest(word, book.curve)
    known_names = ", ".join(book.curve) or "none in this rulebook; any SET.FIELD with numbers will do"
    raise UnknownName(f"No curve is called '{word}'.", did_you_mean(word, near) if near else f"Curves: {known_names}")


def ladders(server: OpenServer, word: str) -> tuple[Ladder, Ladder]:
    """Return a curve on disk, and as the slate would leave it.

    Raises UnknownName; Trouble where there are no levels.
    """
    name, spec = curve_named(server.book, word)
    outcome = server.workspace.outcome(server.workspace.operations)
    before, after = (_ladder(files, name, spec) for files in (outcome.before, outcome.after))
    if not before.levels and not after.levels:
        raise Trouble(f"{server.name} has no {spec.records}.", typed_command("show", server.name, spec.records))
    return before, after


def _ladder(files: ServerFiles, name: str, spec: Curve) -> Ladder:
    return ladder_of(files, name, spec)


def made(server: OpenServer, word: str, making: Making) -> list[Operation]:
    """Make the operations that give the levels of a curve new numbers, more levels or fewer.

    Raises WrongUsage where the numbers cannot be made, UnknownName or Trouble.
    """
    _, ladder = ladders(server, word)
    try:
        levels, numbers = _numbers(ladder, making)
    except CurveProblem as error:
        raise WrongUsage(str(error), _EXAMPLE) from error
    if ladder.spec.each:
        numbers = [number - before for number, before in zip(numbers, [Decimal(0), *numbers], strict=False)]
    return _operations(server, ladder, levels, numbers)


def _numbers(ladder: Ladder, making: Making) -> tuple[list[Decimal], list[Decimal]]:
    """Return the levels that there should be, and the number of each. Raises CurveProblem."""
    ways = [way for way in (making.formula, making.through, making.scale) if way]
    if len(ways) != 1:
        what = "One way at a time" if ways else "It needs to know how the new numbers are made"
        raise CurveProblem(f"{what}: --make, --through or --scale.")
    given = points_in(making.through) if making.through else []
    count = making.levels or (int(given[-1][0]) if given else len(ladder.levels))
    if not 0 < count <= MOST_LEVELS:
        raise CurveProblem(f"There can be 1 to {MOST_LEVELS} levels.")
    if making.scale and count > len(ladder.levels):
        raise CurveProblem(f"There are {len(ladder.levels)} levels to scale.")
    levels = [level.number for level in ladder.levels[:count]]
    while len(levels) < count:
        levels.append(levels[-1] + 1 if levels else Decimal(1))
    if making.formula:
        numbers = by_formula(making.formula, levels)
    elif making.through:
        numbers = through(given, levels)
    else:
        numbers = scaled([level.points for level in ladder.levels[:count]], making.scale)
    try:
        step = Decimal(making.step)
    except ArithmeticError as error:
        raise CurveProblem(f"'{making.step}' is not a step to round to.") from error
    return levels, rounded(numbers, step)


def _operations(server: OpenServer, ladder: Ladder, levels: list[Decimal], numbers: list[Decimal]) -> list[Operation]:
    spec, changes = ladder.spec, RecordChanges(server.workspace)
    operations: list[Operation] = []
    for level, number in zip(ladder.levels, numbers, strict=False):
        if level.stored != number:
            operations += changes.changed(f"{spec.records}/{level.record.key}.{spec.points}", f"{number:f}")
    record_set = server.book.records[spec.records]
    twin = ladder.levels[-1].record.key if ladder.levels else ""
    for new, number in list(zip(levels, numbers, strict=True))[len(ladder.levels) :]:
        assignments = [f"{spec.points}={number:f}"]
        if record_set.key == "*":
            assignments.insert(0, f"{new:f}")
        elif record_set.key != spec.points:
            assignments.insert(0, f"{record_set.key}={new:f}")
        if spec.level and spec.level != record_set.key:
            assignments.append(f"{spec.level}={new:f}")
        operations += changes.added(spec.records, assignments, like=twin)
    for level in reversed(ladder.levels[len(levels) :]):
        operations += changes.removed(f"{spec.records}/{level.record.key}")
    return operations
