"""What can be said of a loot scheme without working it out: circles, what can give nothing, what nobody names."""

from __future__ import annotations

from collections.abc import Iterator

from roundgate.core.files import ServerFiles
from roundgate.core.loot.model import LootItem, LootScheme, Node, NodeName


def loot_paths(files: ServerFiles) -> set[str]:
    """Return the files that hold loot."""
    book = files.book
    sets = {set_name for spec in book.loot.values() for set_name in (spec.records, *spec.table)}
    return {book.file[book.records[set_name].file].path for set_name in sets}


def circles_in(scheme: LootScheme) -> list[tuple[NodeName, ...]]:
    """Return the records that are in themselves: each way round once."""
    state: dict[NodeName, int] = {}
    found: list[tuple[NodeName, ...]] = []
    for start in scheme.nodes:
        stack: list[tuple[NodeName, Iterator[LootItem]]] = []
        if start not in state:
            state[start] = 1
            stack.append((start, iter(scheme.nodes[start].items)))
        while stack:
            name, items = stack[-1]
            item = next(items, None)
            if item is None:
                state[name] = 2
                stack.pop()
            elif item.table and item.name in scheme.nodes:
                if item.name not in state:
                    state[item.name] = 1
                    stack.append((item.name, iter(scheme.nodes[item.name].items)))
                elif state[item.name] == 1:
                    way = [table for table, _ in stack]
                    found.append((*way[way.index(item.name) :], item.name))
    return found


def fruitful(scheme: LootScheme) -> set[NodeName]:
    """Return the records that can give something."""
    found: set[NodeName] = set()
    namers: dict[NodeName, list[NodeName]] = {}
    for name, node in scheme.nodes.items():
        for item in node.items:
            if item.table:
                namers.setdefault(item.name, []).append(name)
    open_ones = [name for name, node in scheme.nodes.items() if any(_gives(node, item) for item in node.items)]
    while open_ones:
        name = open_ones.pop()
        if name in found:
            continue
        found.add(name)
        for other in namers.get(name, ()):
            node = scheme.nodes[other]
            if any(item.table and item.name == name and can_come(node, item) for item in node.items):
                open_ones.append(other)
    return found


def _gives(node: Node, item: LootItem) -> bool:
    return not item.table and item.what not in ("", node.nothing) and can_come(node, item)


def can_come(node: Node, item: LootItem) -> bool:
    """Return whether an entry is ever drawn, and not left out."""
    if node.missing >= 1 or item.most < 1:
        return False
    if node.draw == "each":
        return node.chance_of(item) > 0
    return node.weight_of(item) > 0 and (node.draw == "one" or node.draws[1] > 0)


def named_in(scheme: LootScheme) -> set[NodeName]:
    """Return the records that an entry names."""
    return {item.name for node in scheme.nodes.values() for item in node.items if item.table}
