"""Trees of plain values as the independent readers give them, and the changes that edits ask for.

A map is a tuple of (name, value) pairs in the order of the file, a list is a list, a number is the bytes of its digits
as written, a text is a str; so equal means equal in kind, spelling and order, and a comparison runs at C speed.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from roundgate.core.formats.protocol import EditRefused, Path

Tree = Any
Change = Callable[[Tree], Tree]


def number_of(steps: tuple[tuple[str, Tree], ...], name: str | int) -> int:
    """Return which of the pairs counts for a name: the last one. Raises EditRefused where there is none."""
    for at in range(len(steps) - 1, -1, -1):
        if steps[at][0] == name:
            return at
    raise EditRefused(f"there is no {name}")


def changed(tree: Tree, path: Path, change: Change) -> Tree:
    """Return the tree with the part at ``path`` replaced by what ``change`` makes of it. Raises EditRefused."""
    if not path:
        return change(tree)
    step = path[0]
    if isinstance(tree, tuple):
        at = number_of(tree, step)
        return (*tree[:at], (tree[at][0], changed(tree[at][1], path[1:], change)), *tree[at + 1 :])
    if isinstance(tree, list) and isinstance(step, int) and 0 <= step < len(tree):
        return [*tree[:step], changed(tree[step], path[1:], change), *tree[step + 1 :]]
    raise EditRefused(f"there is no {step}")


def part(tree: Tree, path: Path) -> Tree:
    """Return the part of a tree at a path. Raises EditRefused where there is none."""
    for step in path:
        if isinstance(tree, tuple):
            tree = tree[number_of(tree, step)][1]
        elif isinstance(tree, list) and isinstance(step, int) and 0 <= step < len(tree):
            tree = tree[step]
        else:
            raise EditRefused(f"there is no {step}")
    return tree


def with_value(tree: Tree, path: Path, new: Tree) -> Tree:
    """Replace a value, or put a new name at the end of its map."""
    if path and isinstance(path[-1], str):
        name = path[-1]

        def put(parent: Tree) -> Tree:
            if not isinstance(parent, tuple):
                raise EditRefused(f"{name} has no map to be in")
            names = [pair[0] for pair in parent]
            return changed(parent, (name,), lambda _: new) if name in names else (*parent, (name, new))

        return changed(tree, path[:-1], put)
    return changed(tree, path, lambda _: new)


def without(tree: Tree, path: Path) -> Tree:
    """Take out what is at a path; of several equal names all."""

    def take(parent: Tree) -> Tree:
        if isinstance(parent, tuple):
            return tuple(pair for pair in parent if pair[0] != path[-1])
        return [*parent[: path[-1]], *parent[int(path[-1]) + 1 :]]

    return changed(tree, path[:-1], take)


def with_item(tree: Tree, path: Path, new: Tree) -> Tree:
    """Put an item into a list before the number that ends the path."""
    at = int(path[-1])
    return changed(tree, path[:-1], lambda items: [*items[:at], new, *items[at:]])


def with_move(tree: Tree, path: Path, to: int) -> Tree:
    """Move an item of a list."""

    def move(items: Tree) -> Tree:
        items = list(items)
        items.insert(to, items.pop(int(path[-1])))
        return items

    return changed(tree, path[:-1], move)


def with_name(tree: Tree, path: Path, name: str) -> Tree:
    """Return a name of a map another spelling, its doubles too."""
    return changed(
        tree, path[:-1], lambda pairs: tuple((name if old == path[-1] else old, value) for old, value in pairs)
    )


def nested(path: Path, value: Any) -> Any:
    """Wrap a plain value into maps for the names of a path: for ("a", "b") and 1 give {"a": {"b": 1}}.

    Raises EditRefused.
    """
    for step in reversed(path):
        if isinstance(step, int):
            raise EditRefused(f"there is no list for number {step}")
        value = {step: value}
    return value
