"""Values of TOML as text, in the quotes of what stood there, and trees of tables with one thing changed."""

from __future__ import annotations

import tomllib
from collections.abc import Callable
from typing import Any

from roundgate.core.formats.protocol import EditRefused, EntryKind, Path, PlainData
from roundgate.core.formats.shared.scalars import Number, fitted
from roundgate.core.patterns import lazy

Tree = Any
_BARE_KEY = lazy(r"[A-Za-z0-9_-]+")


def key_text(path: Path) -> str:
    """Write a path as a dotted key."""
    return ".".join(
        step if _BARE_KEY.fullmatch(str(step)) else _basic(str(step)) for step in path if isinstance(step, str)
    )


def _basic(value: str) -> str:
    """Write a text between double quotes."""
    pieces = []
    for char in value:
        if char in '"\\':
            pieces.append("\\" + char)
        elif char in _SHORT:
            pieces.append(_SHORT[char])
        elif char < " " or char == "\x7f":
            pieces.append(f"\\u{ord(char):04x}")
        elif "\ud800" <= char <= "\udfff":
            raise EditRefused("half a character cannot be written")
        else:
            pieces.append(char)
    return '"' + "".join(pieces) + '"'


_SHORT = {"\n": "\\n", "\t": "\\t", "\r": "\\r"}


def value_text(value: PlainData) -> str:
    """Write any value on one line. Raises EditRefused."""
    if isinstance(value, Number):
        return str(value)
    if isinstance(value, str):
        return _basic(value)
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int | float):
        return repr(value)
    if isinstance(value, list):
        return "[" + ", ".join(value_text(item) for item in value) + "]"
    if isinstance(value, dict):
        inner = ", ".join(f"{key_text((name,))} = {value_text(item)}" for name, item in value.items())
        return "{ " + inner + " }" if inner else "{}"
    raise EditRefused("TOML has no word for nothing; remove the key instead")


def like(raw: str, present: EntryKind, value: PlainData, kind: EntryKind | None) -> str:
    """Write a value as what stands there is written: its quotes, where they can hold it. Raises EditRefused."""
    if (
        isinstance(value, str)
        and kind in (None, "number", "code")
        and present in ("number", "code")
        and _is_same(value, present)
    ):
        return value
    new = fitted(value, kind, "text" if present == "code" else present)
    if present == "code" and kind is None:
        raise EditRefused(f"there is a date or time here, and '{value}' is not one")
    if isinstance(new, str) and not isinstance(new, Number):
        clean = new.isprintable()
        if raw.startswith("'") and not raw.startswith("'''") and clean and "'" not in new:
            return f"'{new}'"
        if raw.startswith(('"""', "'''")) and "\n" in new and '"""' not in new and not new.endswith('"'):
            inner = _basic(new)[1:-1].replace("\\n", "\n").replace('\\"', '"')
            return f'"""\n{inner}"""' if "\r" not in new and "\\\n" not in inner else _basic(new)
    return value_text(new)


def _is_same(value: str, present: EntryKind) -> bool:
    """Return whether a text is a number (or a date) in TOML's own forms."""
    try:
        shown = tomllib.loads(f"x = {value}", parse_float=str.encode)
    except (ValueError, RecursionError):
        return False
    if list(shown) != ["x"]:
        return False
    is_number = isinstance(shown["x"], int | bytes) and not isinstance(shown["x"], bool)
    return is_number if present == "number" else not isinstance(shown["x"], int | bytes | str | list | dict)


def meaning(written: str) -> Tree:
    """Return what a written value says. Raises EditRefused where it says nothing."""
    try:
        return tomllib.loads(f"x = {written}", parse_float=str.encode)["x"]
    except (ValueError, RecursionError) as error:
        raise EditRefused("the value cannot be written in TOML") from error


def _at(tree: Tree, path: Path, change: Callable[[Tree], Tree]) -> Tree:
    if not path:
        return change(tree)
    step = path[0]
    if isinstance(tree, dict) and isinstance(step, str):
        return {**tree, step: _at(tree.get(step, {}), path[1:], change)}
    if isinstance(tree, list) and isinstance(step, int) and 0 <= step < len(tree):
        return [*tree[:step], _at(tree[step], path[1:], change), *tree[step + 1 :]]
    raise EditRefused(f"there is no {step}")


def part(tree: Tree, path: Path) -> Tree:
    """Return the part of a tree at a path."""
    for step in path:
        tree = tree[step]
    return tree


def has(tree: Tree, path: Path) -> bool:
    """Return whether a tree has a part at a path."""
    try:
        part(tree, path)
    except (KeyError, IndexError, TypeError):
        return False
    return True


def with_value(tree: Tree, path: Path, new: Tree) -> Tree:
    """Return the tree with another value at a path."""
    return _at(tree, path, lambda _: new)


def without(tree: Tree, path: Path) -> Tree:
    """Return the tree without what is at a path. Raises EditRefused."""
    if not path or not has(tree, path):
        raise EditRefused("it is not in the file")

    def take(parent: Tree) -> Tree:
        if isinstance(parent, dict):
            return {name: item for name, item in parent.items() if name != path[-1]}
        return [item for at, item in enumerate(parent) if at != path[-1]]

    gone = _at(tree, path[:-1], take)
    is_headed = isinstance(part(tree, path), dict) and len(path) > 1
    if is_headed and not part(gone, path[:-1]):
        return _without_empty(gone, path[:-1])
    return gone


def _without_empty(tree: Tree, path: Path) -> Tree:
    """What has lost its last heading, an array of tables or a table that only its parts name, is gone with it.

    One that is written out is empty.
    """
    return Either(tree, without(tree, path))


class Either:
    """Equal to either of two trees: an array that is emptied stands there empty, or is gone with its last heading."""

    def __init__(self, tree: Tree, other: Tree) -> None:
        self.trees = (tree, other)

    def __eq__(self, other: object) -> bool:
        return other in self.trees

    __hash__ = None  # type: ignore[assignment]


def with_item(tree: Tree, path: Path, new: Tree) -> Tree:
    """Return the tree with one more item before the number that ends the path."""
    at = int(path[-1])
    return _at(tree, path[:-1], lambda items: [*items[:at], new, *items[at:]])


def with_move(tree: Tree, path: Path, to: int) -> Tree:
    """Return the tree with an item at another place of its list. Raises EditRefused."""
    if not has(tree, path) or not isinstance(path[-1], int) or not has(tree, (*path[:-1], to)) or to < 0:
        raise EditRefused("there are not so many items in the list")

    def move(items: Tree) -> Tree:
        items = list(items)
        items.insert(to, items.pop(int(path[-1])))
        return items

    return _at(tree, path[:-1], move)


def typed(tree: Tree) -> Tree:
    """Return the tree with each value's type beside it, for true equals 1 in Python."""
    if isinstance(tree, dict):
        return {name: typed(item) for name, item in tree.items()}
    if isinstance(tree, list):
        return [typed(item) for item in tree]
    return (type(tree).__name__, tree)
