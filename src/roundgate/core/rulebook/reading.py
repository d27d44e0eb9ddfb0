"""Reading rulebooks: TOML text to the model, layer upon layer, with every mistake placed at its line and column."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any

import msgspec
from msgspec import Struct

from roundgate.core.facts import FACTS
from roundgate.core.findings import Finding, Place
from roundgate.core.nearest import nearest
from roundgate.core.patterns import lazy
from roundgate.core.rulebook.expansion import expanded, family, with_console
from roundgate.core.rulebook.model import AdviceTable, File, ItemKind, ListOf, Preset, RecordSet, Rulebook, Setting
from roundgate.core.rulebook.toml import RulebookProblem
from roundgate.core.values import KINDS

_MSGSPEC_PATH = lazy(r" - at `(?P<path>[^`]+)`$")
_STEP = lazy(r"\.([^.\[\]]+)|\[(\d+|\.\.\.)\]")


class RawBook(Struct, frozen=True):
    """A rulebook's file: its name, its tables, and its text for when a mistake must be placed in it."""

    file: str
    raw: dict[str, Any]
    source: Callable[[], str]


BookReader = Callable[[str], RawBook]
"""Gives a rulebook's file by the rulebook's name. Raises KeyError where there is none."""


def layers_of(raw: Mapping[str, Any]) -> list[str]:
    """Give the names of the rulebooks beneath one; none where it does not say them in the right form."""
    about = raw.get("rulebook")
    layers = about.get("layers") if isinstance(about, dict) else None
    return [layer for layer in layers if isinstance(layer, str)] if isinstance(layers, list) else []


def read_rulebook(name: str, reader: BookReader, *, checked: bool = False) -> Rulebook:
    """Read a rulebook and its layers. With ``checked``, everything that it says is checked as well.

    Names that lead nowhere are always found: nothing that reads the rulebook could go on with them.

    Raises RulebookProblem with a line and a column, or KeyError where ``reader`` knows no such rulebook.
    """
    layers = layered(name, reader)
    top = layers[-1]
    raw: dict[str, Any] = {}
    for layer in layers:
        raw = merge(raw, layer.raw) if raw else layer.raw
    written = _convert(top, raw)
    written = with_console(written)
    book = expanded(written)
    findings = [_placed(top, path, cause) for path, cause in _not_withdrawn(layers)] if len(layers) > 1 else []
    if not findings and (checked or _leads_nowhere(book)):
        findings = _mistakes(top, written, book)
    if findings:
        raise RulebookProblem(findings)
    return book


def layered(name: str, reader: BookReader) -> list[RawBook]:
    """Give a rulebook and the layers beneath it, the lowest first, each once.

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
            raise RulebookProblem([_placed(top, ("rulebook", "layers"), cause)])
        beneath = reader(layer)
        if all(beneath.file != one.file for one in found):
            _lay(beneath, (*above, layer), reader, found, top)
    found.append(book)


_WITHDRAWN = ("setting", "list", "preset", "table", "records")


def _without(raw: dict[str, Any], names: Iterable[Any]) -> dict[str, Any]:
    """Take settings, lists, presets, tables and rules of some names out of a rulebook's tables."""
    gone = {name for name in names if isinstance(name, str)}
    kept = dict(raw)
    for table in _WITHDRAWN:
        if isinstance(raw.get(table), dict):
            kept[table] = {name: one for name, one in raw[table].items() if name not in gone}
    if isinstance(raw.get("rule"), list):
        kept["rule"] = [rule for rule in raw["rule"] if not (isinstance(rule, dict) and rule.get("name") in gone)]
    return kept


def _not_withdrawn(layers: Sequence[RawBook]) -> Iterator[tuple[tuple[str, ...], str]]:
    """Find names that the top layer withdraws and no layer beneath it has."""
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
            yield ("withdraw",), f"No layer beneath has a setting, list, rule or preset '{name}' to withdraw.{hint}"


def _leads_nowhere(book: Rulebook) -> bool:
    """Tell, quickly, whether a file, kind or setting is named that the rulebook does not have."""
    server, settings = book.server, book.setting
    named = [name for port in server.port for name in (port.setting, port.address)]
    if server.console:
        named += [server.console.port, server.console.password, server.console.address]
    if server.lobby:
        named += [*server.lobby.ours.values(), *server.lobby.shows.values()]
    named += [file.chosen_by for file in book.file.values()]
    named += [server.slots, *(spec.fixed_by for spec in settings.values()), *_of_tables(book)]
    return (
        any(spec.file not in book.file for spec in settings.values())
        or any(spec.type not in KINDS for spec in settings.values())
        or any(one.file not in book.file for one in book.records.values())
        or any(file.overridden_by not in book.file for file in book.file.values() if file.overridden_by)
        or any(place.file not in book.file for spec in settings.values() for place in spec.also if place.file)
        or any(one.file not in book.file or one.item not in book.kind for one in book.list.values())
        or any(name not in settings for name in named if name)
    )


def _of_tables(book: Rulebook) -> list[str]:
    """Give the settings that advice tables and mods name."""
    named = [table.most for table in book.table.values()]
    named += [table.given for table in book.table.values() if table.given not in FACTS]
    return [*named, book.mods.list] if book.mods else named


def _mistakes(top: RawBook, written: Rulebook, book: Rulebook) -> list[Finding]:
    from roundgate.core.rulebook.mistakes import mistakes  # only a rulebook under check needs its expressions read

    return [_placed(top, path, cause) for path, cause in mistakes(book, written)]


def merge(below: Mapping[str, Any], above: Mapping[str, Any]) -> dict[str, Any]:
    """Lay one rulebook's tables on another's: tables merge, rules add up by their names, all else is replaced.

    What ``above`` withdraws is taken out of what is beneath it first.
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


def _convert(top: RawBook, raw: dict[str, Any]) -> Rulebook:
    try:
        return msgspec.convert(raw, Rulebook)
    except msgspec.ValidationError as error:
        match = _MSGSPEC_PATH.search(str(error))
        path = tuple(step for pair in _STEP.findall(match["path"]) for step in pair if step) if match else ()
        cause = _MSGSPEC_PATH.sub("", str(error))
        steps = _find_loose(raw, path, cause)
        raise RulebookProblem([_placed(top, steps, _in_words(cause))]) from error


def _in_words(cause: str) -> str:
    cause = re.sub(r"^Object contains unknown field `(.+)`$", r"'\1' is not a word that this table knows.", cause)
    cause = re.sub(r"^Object missing required field `(.+)`$", r"'\1' is missing here.", cause)
    cause = cause.replace(" | null`", "`")
    return re.sub(r"^Expected `(.+?)`, got `(.+)`$", r"A value of type \1 belongs here, not \2.", cause)


def _find_loose(raw: Any, path: tuple[str, ...], cause: str) -> tuple[str, ...]:
    """Replace the ``...`` that stands for a table's own name by the name of the table that has the mistake."""
    field = re.search(r"`([^`]+)`$", cause)
    if "..." not in path:
        return (*path, field[1]) if field and cause.startswith("Object contains") else path
    at = path.index("...")
    table: Any = raw
    for step in path[:at]:
        table = table.get(step, {}) if isinstance(table, dict) else {}
    for name in table if isinstance(table, dict) else ():
        if _is_guilty(table[name], path[at + 1 :], cause):
            tail = (field[1],) if field and cause.startswith("Object contains") else ()
            return (*path[:at], name, *path[at + 1 :], *tail)
    return path[:at]


def _is_guilty(table: Any, rest: tuple[str, ...], cause: str) -> bool:
    """Tell whether this table gives the same message when it is read alone."""
    for model in _TABLES.values():
        try:
            msgspec.convert(table, model)
        except msgspec.ValidationError as error:
            if _MSGSPEC_PATH.sub("", str(error)) == cause and ".".join(rest) in str(error):
                return True
    return False


_TABLES: dict[str, type[msgspec.Struct]] = {
    "file": File,
    "setting": Setting,
    "list": ListOf,
    "kind": ItemKind,
    "preset": Preset,
    "table": AdviceTable,
    "records": RecordSet,
}


def _placed(top: RawBook, path: tuple[str, ...], cause: str) -> Finding:
    file = top.file
    if path[:1] == ("setting",) and len(path) > 1:
        path = ("setting", family(path[1]), *path[2:])
    line, column, shown = place_in_toml(top.source(), path)
    do = "See 'roundgate explain rulebook-value', then mend the rulebook."
    return Finding(
        "rulebook-value", "error", Place(file, line, column, max(len(path[-1]) if path else 1, 1), shown), cause, do
    )


def place_in_toml(source: str, path: tuple[str, ...]) -> tuple[int, int, str]:
    """Tell line, column and text of the line where a path stands in a TOML text, or of its nearest parent."""
    lines = source.split("\n")
    start, depth = 0, 0
    for number, line in enumerate(lines):
        header = re.match(r"\s*\[\[?(.+?)\]\]?\s*(?:#.*)?$", line)
        steps = (
            tuple(part.strip("\"'") for part in re.findall(r"\"[^\"]*\"|'[^']*'|[^.\s]+", header[1])) if header else ()
        )
        if header and steps == path[: len(steps)] and len(steps) > depth:
            start, depth = number, len(steps)
    wanted = path[depth] if depth < len(path) else ""
    for number in range(start + (1 if depth else 0), len(lines)):
        if depth and re.match(r"\s*\[", lines[number]):
            break
        match = re.match(rf"(\s*)[\"']?{re.escape(wanted)}[\"']?\s*=", lines[number]) if wanted else None
        if match:
            return number + 1, len(match[1]) + 1, lines[number].rstrip("\r")
    return start + 1, 1, lines[start].rstrip("\r")
