"""What a slate changes of the odds: thing by thing, the largest shifts first."""

from __future__ import annotations

from typing import NamedTuple

from roundgate.core.files import ServerFiles
from roundgate.core.loot.model import LootScheme, NodeName
from roundgate.core.loot.odds import Endless, Odds, Reckoner, TooMany, odds_of
from roundgate.core.loot.reading import loot_in

_SMALLEST = 5e-5
"""A chance that moves less is the same."""


class Moved(NamedTuple):
    """A thing whose odds a slate changes, in one opening of a record."""

    record: str
    """``SET/RECORD``."""
    thing: str
    before: float
    after: float
    expected_before: float
    expected_after: float

    @property
    def size(self) -> tuple[float, float]:
        """How far the odds move, as they are told: the chance, and only where that is the same, how many there are."""
        is_same = percent(self.before) == percent(self.after)
        return 0.0 if is_same else abs(self.after - self.before), abs(self.expected_after - self.expected_before)


def schemes(files: ServerFiles) -> dict[str, LootScheme]:
    """Read all loot that the rulebook describes and whose file is there, by its name."""
    book = files.book
    return {
        name: loot_in(files, name)
        for name, spec in book.loot.items()
        if book.file[book.records[spec.records].file].path in files.texts
    }


def odds_by_thing(reckoner: Reckoner | None, node: NodeName | None) -> dict[str, Odds]:
    """Return the odds of what can come out of a record, or of all after a restart, the likeliest first.

    Raises Endless or TooMany.
    """
    if reckoner is None:
        return {}
    found = reckoner.restart() if node is None else reckoner.opening(node)
    return {odds.thing: odds for odds in odds_of(found) if odds.chance > 0}


def shifts(before: ServerFiles, after: ServerFiles) -> list[Moved]:
    """Return what changes of the odds of each opened record, the largest first. What is endless is left out."""
    old, new = schemes(before), schemes(after)
    moved: list[Moved] = []
    for name in dict.fromkeys((*old, *new)):
        sides = [Reckoner(side[name]) if name in side else None for side in (old, new)]
        nodes = dict.fromkeys(node for side in sides if side is not None for node in side.scheme.opened)
        for node in nodes:
            try:
                moved += _moved(node, odds_by_thing(sides[0], node), odds_by_thing(sides[1], node))
            except (Endless, TooMany):
                continue  # the check says so
    return sorted(moved, key=lambda shift: (-shift.size[0], -shift.size[1], shift.record, shift.thing))


def _moved(node: NodeName, old: dict[str, Odds], new: dict[str, Odds]) -> list[Moved]:
    found = []
    for thing in dict.fromkeys((*old, *new)):
        chances = [side[thing].chance if thing in side else 0.0 for side in (old, new)]
        counts = [side[thing].expected if thing in side else 0.0 for side in (old, new)]
        if abs(chances[1] - chances[0]) > _SMALLEST or abs(counts[1] - counts[0]) > 10 * _SMALLEST:
            found.append(Moved("/".join(node), thing, *chances, *counts))
    return found


def percent(chance: float) -> str:
    """Format a chance in percent, with as many digits as tell it from never and always."""
    if abs(chance) < 1e-12 or abs(chance - 1) < 1e-12:
        return f"{chance:.0%}"
    if chance < 0.001:
        return f"{chance * 100:.2g}%"
    if chance > 0.999:
        return f"{min(chance * 100, 99.99):.2f}%"
    return f"{chance * 100:.1f}%"


def describe_shift(moved: Moved) -> str:
    """Describe what becomes of the odds of a thing."""
    chance = f"{percent(moved.before)} -> {percent(moved.after)}"
    if percent(moved.before) == percent(moved.after):
        return f"{moved.record}: {moved.thing} {moved.expected_before:.3g} -> {moved.expected_after:.3g} expected"
    return f"{moved.record}: {moved.thing} {chance}"
