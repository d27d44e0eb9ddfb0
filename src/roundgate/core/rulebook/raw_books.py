"""Rulebooks as their files have them, and how they lie upon each other, before any of it becomes the model."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any

from msgspec import Struct

from roundgate.core.findings import Finding, Place
from roundgate.core.nearest import nearest
from roundgate.core.rulebook.toml import RulebookProblem, place_in_toml


class RawBook(Struct, frozen=True):
    """A rulebook's file: its name, its tables, and its text for when a mistake must be placed in it."""

    file: str
    raw: dict[str, Any]
    source: Callable[[], str]


BookReader = Callable[[str], RawBook]
"""Gives a rulebook's file by the rulebook's name. Raises KeyError where there is none."""


def layers_of(raw: Mapping[str, Any]) -> list[str]:
    """Return the names of the rulebooks below one; none where it does not say them in the right form."""
    about = raw.get("rulebook")
    layers = about.get("layers") if isinstance(about, dict) else None
    return [layer for layer in layers if isinstance(layer, str)] if isinstance(layers, list) else []


def layered(name: str, reader: BookReader) -> list[RawBook]:
    """Return a rulebook and the layers below it, the lowest first, each once.

    Raises RulebookProblem where layers rest on themselves, or KeyError where ``reader`` knows no such rulebook.
    """
    top = reader(name)
    found: list[RawBook] = []
    _lay(top, (name,), reader, found, top)
    return found


def _lay(book: RawBook, above: tuple[str, ...], reader: BookReader, found: list[RawBook], top: RawBook) -> None:
    """Put a book on top of its own layers; ``above`` are the names of those that rest on it, and its own."""
    for layer in layers_of(book.raw):
        if layer in above:
            chain = " -> ".join((*above[above.index(layer) :], layer))
            cause = f"The layers rest on themselves: {chain}."
            raise RulebookProblem([placed(top, ("rulebook", "layers"), cause)])
        beneath = reader(layer)
        if all(beneath.file != layer.file for layer in found):
            _lay(beneath, (*above, layer), reader, found, top)
    found.append(book)


_WITHDRAWN = ("setting", "list", "preset", "table", "records")


def _without(raw: dict[str, Any], names: Iterable[Any]) -> dict[str, Any]:
    """Take settings, lists, presets, tables and rules of some names out of a rulebook's tables."""
    gone = {name for name in names if isinstance(name, str)}
    kept = dict(raw)
    for table in _WITHDRAWN:
        if isinstance(raw.get(table), dict):
            kept[table] = {name: entry for name, entry in raw[table].items() if name not in gone}
    if isinstance(raw.get("rule"), list):
        kept["rule"] = [rule for rule in raw["rule"] if not (isinstance(rule, dict) and rule.get("name") in gone)]
    return kept


def not_withdrawn(layers: Sequence[RawBook]) -> Iterator[tuple[tuple[str, ...], str]]:
    """Find names that the top layer withdraws and no layer below it has."""
    known: set[str] = set()
    for layer in layers[:-1]:
        known.update(*(layer.raw[table] for table in _WITHDRAWN if isinstance(layer.raw.get(table), dict)))
        rules = layer.raw.get("rule")
        if isinstance(rules, list):
            known.update(str(rule.get("name")) for rule in rules if isinstance(rule, dict))
    withdrawn = layers[-1].raw.get("withdraw")
    for name in withdrawn if isinstance(withdrawn, list) else ():
        if name not in known:
            near = nearest(str(name), known)
            hint = f" Did you mean {near}?" if near else ""
            yield ("withdraw",), f"No layer below has a setting, list, rule or preset '{name}' to withdraw.{hint}"


def merge(below: Mapping[str, Any], above: Mapping[str, Any]) -> dict[str, Any]:
    """Lay one rulebook's tables on another's: tables merge, rules add up by their names, all else is replaced.

    What ``above`` withdraws is taken out of what is below it first.
    """
    withdrawn = above.get("withdraw")
    merged = _without(dict(below), withdrawn) if isinstance(withdrawn, list) else dict(below)
    for key, value in above.items():
        old = merged.get(key)
        if isinstance(old, dict) and isinstance(value, dict):
            merged[key] = merge(old, value)
        elif key == "rule" and isinstance(old, list):
            new = {rule.get("name") for rule in value if isinstance(rule, dict)}
            merged[key] = [rule for rule in old if not (isinstance(rule, dict) and rule.get("name") in new)] + value
        else:
            merged[key] = value
    return merged


def placed(top: RawBook, path: tuple[str, ...], cause: str) -> Finding:
    """Make a finding of a mistake at a path of a rulebook, at its line and column."""
    from roundgate.core.rulebook.expansion import family  # it comes with the whole model, and few rulebooks are wrong

    file = top.file
    if path[:1] == ("setting",) and len(path) > 1:
        path = ("setting", family(path[1]), *path[2:])
    line, column, shown = place_in_toml(top.source(), path)
    do = "See 'roundgate explain rulebook-value', then fix the rulebook."
    return Finding(
        "rulebook-value", "error", Place(file, line, column, max(len(path[-1]) if path else 1, 1), shown), cause, do
    )
