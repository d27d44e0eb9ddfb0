"""A rulebook and its layers as one, in TOML, with where each part comes from."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from roundgate.core.formats.toml.writer import key_text, value_text
from roundgate.core.rulebook.raw_books import RawBook, merge


def merged_text(layers: Sequence[RawBook]) -> str:
    """Return the merged rulebook as TOML.

    Where there are several layers, a remark after each table names the layer that it comes from, and one after a line
    the layer that has changed it.
    """
    merged: dict[str, Any] = {}
    origins: dict[tuple[str, ...], str] = {}
    for layer in layers:
        name = str(layer.raw.get("rulebook", {}).get("name", layer.file))
        merged = merge(merged, layer.raw)
        origins.update((path, name) for path in _paths((), layer.raw))
        for number, rule in enumerate(merged.get("rule", [])):
            origins.setdefault(("rule", str(number)), name if rule in layer.raw.get("rule", []) else "")
    merged.pop("withdraw", None)
    lines = list(_table((), merged, origins if len(layers) > 1 else {}))
    return "\n".join(lines).strip() + "\n"


def _remark(origin: str) -> str:
    return f"   # {origin}" if origin else ""


def _paths(path: tuple[str, ...], table: Mapping[str, Any]) -> Iterator[tuple[str, ...]]:
    for name, value in table.items():
        if isinstance(value, dict) and len(path) < 2:
            yield from _paths((*path, name), value)
        else:
            yield (*path, name)


def _table(path: tuple[str, ...], table: Mapping[str, Any], origins: Mapping[tuple[str, ...], str]) -> Iterator[str]:
    """Write the plain values of a table, then the tables in it."""
    inner = {name: value for name, value in table.items() if _is_table(path, value)}
    plain = {name: value for name, value in table.items() if name not in inner}
    first = next((origins.get((*path, name), "") for name in plain), "")
    if path and plain:
        yield f"\n[{key_text(path)}]{_remark(first)}"
    for name, value in plain.items():
        origin = origins.get((*path, name), "")
        yield f"{key_text((name,))} = {value_text(value)}{_remark(origin if origin != first else '')}"
    for name, value in inner.items():
        if isinstance(value, dict):
            yield from _table((*path, name), value, origins)
            continue
        for number, item in enumerate(value):
            yield f"\n[[{key_text((*path, name))}]]{_remark(origins.get((*path, name, str(number)), ''))}"
            yield from (f"{key_text((field,))} = {value_text(held)}" for field, held in item.items())


def _is_table(path: tuple[str, ...], value: Any) -> bool:
    """Return whether a value gets a header of its own; deeper down it is written on one line."""
    if isinstance(value, dict):
        return len(path) < 2
    return isinstance(value, list) and bool(value) and len(path) < 2 and all(isinstance(item, dict) for item in value)
