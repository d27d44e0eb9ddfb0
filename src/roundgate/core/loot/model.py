"""Loot as plain data: records that are opened or named, each with entries and a way to draw from them."""

from __future__ import annotations

from typing import Literal, NamedTuple

from roundgate.core.formats.protocol import Entry
from roundgate.core.records.model import Record
from roundgate.core.rulebook.model import Draw, Loot

NodeName = tuple[str, str]
"""A record set and the key of one of its records."""
Slip = Literal[
    "", "chance-text", "chance-comma", "chance-percent", "chance-range", "count-text", "form", "table", "idle-chance"
]
"""What is wrong with an entry."""


class LootItem(NamedTuple):
    """One entry: a thing, or a record of a table's set; its chance or weight, and how many of it come at once."""

    what: str
    table: str
    """The set of the record that it names; empty for a thing."""
    chance: float | None
    """None where the entry names none."""
    least: int
    most: int
    text: str
    """The entry as it is written."""
    place: Entry | None
    slip: Slip = ""
    meant: str = ""
    """What was probably meant, for a slip: the whole entry, or the name of a table."""

    @property
    def name(self) -> NodeName:
        """The record that it names."""
        return self.table, self.what


class Node(NamedTuple):
    """One record with what is in it."""

    set_name: str
    record: Record
    items: tuple[LootItem, ...]
    draw: Draw
    draws: tuple[int, int]
    """Of ``some``: the fewest and the most that are drawn, each number as likely."""
    again: bool
    whole: float
    full: float
    without: float
    is_sure: bool
    missing: float
    """The share that is left out, from 0 to 1."""
    missing_of: Literal["entry", "record"]
    nothing: str

    @property
    def name(self) -> NodeName:
        """Its set and its key."""
        return self.set_name, self.record.key

    def chance_of(self, item: LootItem) -> float:
        """Return the chance of an entry that is drawn by itself, from 0 to 1."""
        if self.is_sure:
            return 1.0
        return min(1.0, max(0.0, (self.without if item.chance is None else item.chance) / self.full))

    def weight_of(self, item: LootItem) -> float:
        """Return the weight of an entry among those of which some are drawn."""
        return max(0.0, self.without if item.chance is None else item.chance)


class LootScheme(NamedTuple):
    """All that belongs to one ``[loot.NAME]`` of a rulebook."""

    name: str
    spec: Loot
    nodes: dict[NodeName, Node]
    opened: tuple[NodeName, ...]
    """The records that are opened, in the order of the file."""
    at_once: dict[str, int]
    """How many of each opened record there are at once, by its key."""
    wanted: dict[str, int]
    """How many the file asks for; there are never more than places."""
    places: dict[str, int | None]
    """How many places each has; None where the rulebook names no field for them."""
