"""JSON values as text, and as the tree that they are when they are read again."""

from __future__ import annotations

import json

from roundgate.core.formats.protocol import PlainData
from roundgate.core.formats.shared import trees
from roundgate.core.formats.shared.scalars import Number


def inner_values(value: PlainData) -> list[PlainData]:
    """Return the values in a list or map."""
    return list(value.values()) if isinstance(value, dict) else list(value)


def value_text(
    value: PlainData, ascii_only: bool, indent: str, unit: str, newline: str, *, spread: bool = False
) -> str:
    """Write a value; ``unit`` empty or a flat value gives one line."""
    if isinstance(value, Number):
        return str(value)
    if not isinstance(value, dict | list):
        return json.dumps(value, ensure_ascii=ascii_only)
    flat = not unit or not value or not (spread or any(isinstance(item, dict | list) for item in inner_values(value)))
    inner = indent + unit
    items = [value_text(item, ascii_only, inner, unit, newline) for item in inner_values(value)]
    if isinstance(value, dict):
        items = [
            f"{json.dumps(name, ensure_ascii=ascii_only)}: {text}" for name, text in zip(value, items, strict=True)
        ]
    opening, closing = "{}" if isinstance(value, dict) else "[]"
    if flat:
        return opening + ", ".join(items) + closing
    return opening + newline + inner + f",{newline}{inner}".join(items) + newline + indent + closing


def tree_of(value: PlainData) -> trees.Tree:
    """Return the tree that a plain value has when it is read again."""
    if isinstance(value, Number):
        return value.encode()
    if isinstance(value, bool) or value is None or isinstance(value, str):
        return value
    if isinstance(value, int | float):
        return json.dumps(value).encode()
    if isinstance(value, dict):
        return tuple((name, tree_of(item)) for name, item in value.items())
    return [tree_of(item) for item in value]
