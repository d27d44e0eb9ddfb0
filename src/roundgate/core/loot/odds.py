"""The odds of a loot scheme: for each record that is opened, and for all of them, how many of each thing come out."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice
from typing import NamedTuple

from roundgate.core.loot import draws
from roundgate.core.loot.draws import Counts
from roundgate.core.loot.model import LootItem, LootScheme, Node, NodeName

_LONGEST = 200_000
"""Counts of one thing that are told apart; what could be more is refused."""


_DEEPEST, _MOST_WAYS = 40, 500
"""How far ways through tables in tables are followed, and how many of them."""


class Endless(ValueError):
    """A record that contains itself, through others: its outcome cannot be calculated. ``way`` names them in order."""

    def __init__(self, way: Sequence[NodeName]) -> None:
        """Keep the way round."""
        super().__init__(" > ".join(f"{set_name}/{key}" for set_name, key in way))
        self.way = tuple(way)


class TooMany(ValueError):
    """So many of a thing that their number is not worked out."""


class Path(NamedTuple):
    """One way to a thing: the records that it goes through, and how many of it are expected by that way."""

    through: tuple[NodeName, ...]
    expected: float


class Odds(NamedTuple):
    """How many of a thing come out."""

    thing: str
    counts: Counts

    @property
    def chance(self) -> float:
        """The chance that there is at least one."""
        return float(self.counts[1:].sum())

    @property
    def expected(self) -> float:
        """How many there are on average."""
        return draws.mean_of(self.counts)

    @property
    def spread(self) -> float:
        """The standard deviation of how many there are."""
        return draws.spread_of(self.counts)

    @property
    def mostly(self) -> tuple[int, int]:
        """The counts that four of five openings lie between: the first and the last tenth left aside."""
        return draws.between(self.counts)


Found = dict[str, Counts]
"""The distribution of each thing that can come out."""


class Reckoner:
    """Works out the odds of one scheme; what was worked out of a record is kept."""

    def __init__(self, scheme: LootScheme) -> None:
        """Take a scheme."""
        self.scheme = scheme
        self._known: dict[NodeName, Found] = {}
        self._shares: dict[NodeName, tuple[float, ...]] = {}

    def opening(self, name: NodeName) -> Found:
        """Return what comes out of one opening of a record. Raises Endless or TooMany."""
        for table in self._inner_first(name):
            self._known[table] = self._drawn(self.scheme.nodes[table])
        return self._known.get(name, {})  # of a record that is not there, nothing: its check says so

    def _inner_first(self, name: NodeName) -> Iterator[NodeName]:
        """Yield what must be worked out for a record and is not known: what it names before itself. Raises Endless."""
        if name in self._known or name not in self.scheme.nodes:
            return
        way: list[tuple[NodeName, Iterator[LootItem]]] = [(name, iter(self.scheme.nodes[name].items))]
        above = {name}
        while way:
            last, items = way[-1]
            item = next(items, None)
            if item is None:
                yield last
                above.discard(last)
                way.pop()
            elif item.table and item.name in above:
                names = [table for table, _ in way]
                raise Endless((*names[names.index(item.name) :], item.name))
            elif item.table and item.name in self.scheme.nodes and item.name not in self._known:
                above.add(item.name)
                way.append((item.name, iter(self.scheme.nodes[item.name].items)))

    def restart(self) -> Found:
        """Return what comes out of all records together, as often as each is there after a restart."""
        found: Found = {}
        for name in self.scheme.opened:
            times = self.scheme.at_once[name[1]]
            for thing, counts in self.opening(name).items():
                _bounded(thing, (len(counts) - 1) * times)
                several = draws.repeated(counts, times)
                found[thing] = draws.both(found[thing], several) if thing in found else several
        return found

    def paths(self, name: NodeName, thing: str) -> list[Path]:
        """Return the ways by which one opening of a record gives a thing, the most fruitful first."""
        self.opening(name)
        merged: dict[tuple[NodeName, ...], float] = {}
        for through, expected in islice(self._ways(name, thing, _DEEPEST), _MOST_WAYS):
            merged[through] = merged.get(through, 0.0) + expected
        return sorted((Path(*pair) for pair in merged.items()), key=lambda path: -path.expected)

    def _ways(self, name: NodeName, thing: str, depth: int) -> Iterator[tuple[tuple[NodeName, ...], float]]:
        node = self.scheme.nodes[name]
        for item, share in zip(node.items, self._times(node), strict=True):
            many = share * (item.least + item.most) / 2
            if not item.table:
                if item.what == thing and item.what != node.nothing:
                    yield (), many
            elif depth and item.name in self.scheme.nodes and thing in self._known.get(item.name, {}):
                for through, expected in self._ways(item.name, thing, depth - 1):
                    yield (item.name, *through), many * expected

    def _entry(self, node: Node, item: LootItem) -> Found:
        """Return what comes of an entry that is drawn."""
        kept = 1.0 - node.missing if node.missing_of == "entry" else 1.0
        if item.table:
            inner = self._known.get(item.name, {})
            for thing, counts in inner.items():
                _bounded(thing, (len(counts) - 1) * item.most)
            found = {thing: draws.repeated_between(counts, item.least, item.most) for thing, counts in inner.items()}
        elif item.what == node.nothing or not item.what:
            return {}
        else:
            _bounded(item.what, item.most)
            found = {item.what: draws.uniform(item.least, item.most)}
        return found if kept == 1.0 else {thing: draws.perhaps(kept, counts) for thing, counts in found.items()}

    def _drawn(self, node: Node) -> Found:
        if node.draw == "each":
            found: Found = {}
            for item in node.items:
                chance = node.chance_of(item)
                for thing, counts in self._entry(node, item).items() if chance else ():
                    drawn = draws.perhaps(chance, counts) if chance < 1 else counts
                    if thing in found:
                        _bounded(thing, len(found[thing]) + len(drawn))
                        found[thing] = draws.both(found[thing], drawn)
                    else:
                        found[thing] = drawn
        else:
            found = self._chosen(node)
        if node.missing_of == "record" and node.missing:
            found = {thing: draws.perhaps(1.0 - node.missing, counts) for thing, counts in found.items()}
        return found

    def _chosen(self, node: Node) -> Found:
        weights = [node.weight_of(item) for item in node.items]
        total = max(sum(weights), node.whole)
        if not total:
            return {}
        parts: dict[str, dict[int, Counts]] = {}
        for at, item in enumerate(node.items):
            for thing, counts in self._entry(node, item).items() if weights[at] else ():
                parts.setdefault(thing, {})[at] = counts
        if node.draw == "some" and not node.again:
            return {thing: self._apart(weights, total, drawn, node.draws) for thing, drawn in parts.items()}
        least, most = node.draws if node.draw == "some" else (1, 1)
        found: Found = {}
        for thing, drawn in parts.items():
            shares = [(weights[at] / total, counts) for at, counts in drawn.items()]
            rest = max(0.0, 1.0 - sum(share for share, _ in shares))
            mixture = draws.mixed([*shares, (rest, draws.NONE)])
            _bounded(thing, (len(mixture) - 1) * most)
            found[thing] = draws.repeated_between(mixture, least, most)
        return found

    @staticmethod
    def _apart(weights: Sequence[float], total: float, drawn: dict[int, Counts], times: tuple[int, int]) -> Counts:
        """Draw different entries; what the weights leave of the whole is an entry that gives nothing."""
        rest = total - sum(weights)
        kept = [at for at, weight in enumerate(weights) if weight]
        rates = [weights[at] for at in kept] + ([rest] if rest > 1e-12 * total else [])
        places = {at: number for number, at in enumerate(kept)}
        given = {places[at]: counts for at, counts in drawn.items()}
        least, most = times
        share = 1.0 / (most - least + 1)
        return draws.mixed(
            [(share, draws.without_repetition(rates, given, number)) for number in range(least, most + 1)]
        )

    def _times(self, node: Node) -> tuple[float, ...]:
        """Return how often each entry of a record is drawn in one opening, on average, what is left out taken off."""
        if node.name in self._shares:
            return self._shares[node.name]
        kept = 1.0 - node.missing
        if node.draw == "each":
            found = [node.chance_of(item) * kept for item in node.items]
        else:
            weights = [node.weight_of(item) for item in node.items]
            total = max(sum(weights), node.whole) or 1.0
            times = node.draws if node.draw == "some" else (1, 1)
            if node.draw == "some" and not node.again:
                once = draws.uniform(1, 1)
                found = [
                    draws.mean_of(self._apart(weights, total, {at: once}, times)) * kept if weight else 0.0
                    for at, weight in enumerate(weights)
                ]
            else:
                found = [weight / total * (times[0] + times[1]) / 2 * kept for weight in weights]
        self._shares[node.name] = tuple(found)
        return self._shares[node.name]


def _bounded(thing: str, most: int) -> None:
    if most > _LONGEST:
        raise TooMany(f"There could be {most} of {thing}; up to {_LONGEST} are worked out.")


def odds_of(found: Found) -> list[Odds]:
    """Return the odds of what comes out, the likeliest first."""
    rows = [Odds(thing, counts) for thing, counts in found.items()]
    return sorted(rows, key=lambda row: (-row.chance, -row.expected, row.thing))
