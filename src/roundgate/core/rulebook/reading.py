"""Reading rulebooks: TOML text to the model, layer upon layer, with every mistake placed at its line and column."""

from __future__ import annotations

import re
from typing import Any

import msgspec

from roundgate.core.facts import FACTS
from roundgate.core.findings import Finding
from roundgate.core.patterns import lazy
from roundgate.core.rulebook.expansion import expanded, with_console
from roundgate.core.rulebook.model import AdviceTable, File, ItemKind, ListOf, Preset, RecordSet, Rulebook, Setting
from roundgate.core.rulebook.raw_books import BookReader, RawBook, layered, merge, not_withdrawn, placed
from roundgate.core.rulebook.toml import RulebookProblem
from roundgate.core.values import KINDS

_MSGSPEC_PATH = lazy(r" - at `(?P<path>[^`]+)`$")
_STEP = lazy(r"\.([^.\[\]]+)|\[(\d+|\.\.\.)\]")


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
    findings = [placed(top, path, cause) for path, cause in not_withdrawn(layers)] if len(layers) > 1 else []
    if not findings and (checked or _leads_nowhere(book)):
        findings = _mistakes(top, written, book)
    if findings:
        raise RulebookProblem(findings)
    return book


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
        or any(spec.file not in book.file for spec in book.records.values())
        or any(file.overridden_by not in book.file for file in book.file.values() if file.overridden_by)
        or any(place.file not in book.file for spec in settings.values() for place in spec.also if place.file)
        or any(spec.file not in book.file or spec.item not in book.kind for spec in book.list.values())
        or any(name not in settings for name in named if name)
    )


def _of_tables(book: Rulebook) -> list[str]:
    """Return the settings that advice tables and mods name."""
    named = [table.most for table in book.table.values()]
    named += [table.given for table in book.table.values() if table.given not in FACTS]
    return [*named, book.mods.list] if book.mods else named


def _mistakes(top: RawBook, written: Rulebook, book: Rulebook) -> list[Finding]:
    from roundgate.core.rulebook.mistakes import mistakes  # only a rulebook under check needs its expressions read

    return [placed(top, path, cause) for path, cause in mistakes(book, written)]


def _convert(top: RawBook, raw: dict[str, Any]) -> Rulebook:
    try:
        return msgspec.convert(raw, Rulebook)
    except msgspec.ValidationError as error:
        match = _MSGSPEC_PATH.search(str(error))
        path = tuple(step for pair in _STEP.findall(match["path"]) for step in pair if step) if match else ()
        cause = _MSGSPEC_PATH.sub("", str(error))
        steps = _find_loose(raw, path, cause)
        raise RulebookProblem([placed(top, steps, _plain_cause(cause))]) from error


def _plain_cause(cause: str) -> str:
    cause = re.sub(r"^Object contains unknown field `(.+)`$", r"'\1' is not a key of this table.", cause)
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
    """Return whether this table gives the same message when it is read alone."""
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
