"""The odds of what players find on a server: on disk, and as its slate would leave them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from roundgate.api.server import OpenServer
from roundgate.core.loot.model import LootScheme, NodeName
from roundgate.core.loot.odds import Endless, Odds, Path, Reckoner, TooMany
from roundgate.core.loot.shifts import odds_by_thing, schemes
from roundgate.core.nearest import nearest
from roundgate.core.next_step import did_you_mean, typed_command
from roundgate.host.errors import Trouble, UnknownName


class Row(NamedTuple):
    """The odds of one thing: as they are, and where a slate is asked about, as it would leave them."""

    thing: str
    before: Odds | None
    """None where it cannot come out now."""
    after: Odds | None
    """None where it cannot come out any more; the same as ``before`` where no slate is asked about."""
    paths: tuple[tuple[str, Path], ...]
    """The ways to it that count last: the opened record's key, and the way."""


class OddsTable(NamedTuple):
    """The odds of all things from one record, or from all records after a restart."""

    loot: str
    record: str
    """``SET/RECORD``; empty for all of them."""
    at_once: int
    rows: tuple[Row, ...]


def odds_tables(server: OpenServer, names: Sequence[str], *, with_slate: bool) -> list[OddsTable]:
    """Return the odds of the records that names mean, or of all together where there are none.

    Raises Trouble where the rulebook knows of no loot or it cannot be calculated, UnknownName.
    """
    sides = _sides_of(server, with_slate=with_slate)
    if not names:
        return [side.table(name, None) for name, side in sides.items()]
    schemes_known = {name: side.scheme for name, side in sides.items()}
    meant = [_meant(schemes_known, word) for word in names]
    return [sides[name].table(name, node) for name, node in meant]


def where_found(server: OpenServer, thing: str, *, with_slate: bool) -> list[OddsTable]:
    """Return the odds of one thing in each record that can give it, and in all of them.

    Raises Trouble or UnknownName.
    """
    sides = _sides_of(server, with_slate=with_slate)
    whole = [side.table(name, None) for name, side in sides.items()]
    known = {row.thing.lower(): row.thing for table in whole for row in table.rows}
    meant = known.get(thing.lower())
    if meant is None:
        near = nearest(thing, sorted(known.values()))
        do = did_you_mean(thing, near) if near else typed_command("odds", server.name)
        raise UnknownName(f"Nothing on {server.name} gives '{thing}'.", do)
    tables = [side.table(name, node) for name, side in sides.items() for node in side.opened]
    kept = [table._replace(rows=tuple(row for row in table.rows if row.thing == meant)) for table in [*tables, *whole]]
    return [table for table in kept if table.rows]


def _sides_of(server: OpenServer, *, with_slate: bool) -> dict[str, _Sides]:
    """Read the loot of a server, by its name: on disk, and where asked, as the slate would leave it. Raises Trouble."""
    if not server.book.loot:
        raise Trouble(f"The rulebook of {server.name} does not describe loot.", "It needs a table [loot.NAME].")
    outcome = server.workspace.outcome(server.workspace.operations)
    before = schemes(outcome.before)
    after = schemes(outcome.after) if with_slate else before
    if not before and not after:
        raise Trouble(f"{server.name} has no file with loot.", typed_command("status", server.name))
    names = dict.fromkeys((*before, *after))
    return {name: _Sides(server.name, before.get(name), after.get(name)) for name in names}


def _meant(known: dict[str, LootScheme], word: str) -> tuple[str, NodeName]:
    """Return the scheme and the record that a word means. Raises UnknownName."""
    set_name, _, key = word.partition("/")
    names: list[str] = []
    for name, scheme in known.items():
        if set_name.lower() not in (name.lower(), *(scheme_name.lower() for scheme_name, _ in scheme.nodes)):
            continue
        names = [f"{scheme_name}/{other}" for scheme_name, other in scheme.nodes]
        sets = {set_name.lower()} if set_name.lower() != name.lower() else {scheme.spec.records.lower(), name.lower()}
        for scheme_name, other in scheme.nodes:
            if scheme_name.lower() in sets and other.lower() == key.lower():
                return name, (scheme_name, other)
    names = names or [f"{scheme_name}/{key}" for scheme in known.values() for scheme_name, key in scheme.nodes]
    near = nearest(word, names)
    raise UnknownName(
        f"There is no '{word}' with loot.", did_you_mean(word, near) if near else f"There are {', '.join(names[:8])}"
    )


class _Sides:
    """Two states of one scheme."""

    def __init__(self, server: str, before: LootScheme | None, after: LootScheme | None) -> None:
        self.server = server
        self.before = Reckoner(before) if before is not None else None
        self.after = self.before if after is before else Reckoner(after) if after is not None else None
        last = after or before
        assert last is not None, "one of the two has it"
        self.scheme = last

    @property
    def opened(self) -> list[NodeName]:
        """The records that are opened, in either state."""
        both = [side.scheme.opened for side in (self.before, self.after) if side is not None]
        return list(dict.fromkeys(node for opened in both for node in opened))

    def table(self, name: str, node: NodeName | None) -> OddsTable:
        """Work out one table. Raises Trouble."""
        try:
            old = odds_by_thing(self.before, node)
            new = old if self.after is self.before else odds_by_thing(self.after, node)
            last = self.after or self.before
            things = sorted(new | old, key=lambda thing: _rank(new.get(thing) or old[thing]))
            rows = tuple(Row(thing, old.get(thing), new.get(thing), _paths(last, node, thing)) for thing in things)
        except Endless as error:
            raise Trouble(
                f"{error}: it contains itself, so its outcome cannot be calculated.",
                typed_command("check", self.server),
            ) from error
        except TooMany as error:
            raise Trouble(str(error)) from error
        at_once = last.scheme.at_once.get(node[1], 1) if last and node and node in last.scheme.opened else 1
        return OddsTable(name, "/".join(node) if node else "", at_once, rows)


def _rank(odds: Odds) -> tuple[float, float, str]:
    return -odds.chance, -odds.expected, odds.thing


def _paths(reckoner: Reckoner | None, node: NodeName | None, thing: str) -> tuple[tuple[str, Path], ...]:
    def each() -> Iterator[tuple[str, Path]]:
        if reckoner is None:
            return
        for name in (node,) if node is not None else reckoner.scheme.opened:
            if name in reckoner.scheme.nodes and thing in reckoner.opening(name):
                times = 1 if node is not None else reckoner.scheme.at_once[name[1]]
                for path in reckoner.paths(name, thing):
                    yield name[1], Path(path.through, path.expected * times)

    return tuple(sorted((pair for pair in each() if pair[1].expected > 0), key=lambda pair: -pair[1].expected))
