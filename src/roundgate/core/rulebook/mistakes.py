"""What can be wrong with a rulebook beyond its types: names that lead nowhere, values out of range, broken patterns."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import regex

from roundgate.core import values
from roundgate.core.formats import FORMATS
from roundgate.core.nearest import nearest
from roundgate.core.rulebook.expressions import ExpressionProblem, names_in, read_expression
from roundgate.core.rulebook.model import Rulebook, Server, Setting
from roundgate.core.values import ValueProblem
from roundgate.core.values.units import parse_seconds

_SIGNALS = ("SIGTERM", "SIGINT", "SIGHUP", "SIGQUIT", "SIGUSR1", "SIGUSR2", "SIGKILL", "SIGABRT", "SIGALRM", "SIGCONT")
"""The signals that a server may be sent."""


def mistakes(book: Rulebook) -> Iterator[tuple[tuple[str, ...], str]]:
    """Find what the types alone do not catch: names that lead nowhere, values out of range, broken patterns."""
    for name, file in book.file.items():
        if file.format not in FORMATS:
            yield ("file", name, "format"), _unknown("format", file.format, FORMATS)
    for name, spec in book.setting.items():
        for field, cause in _setting_mistakes(book, spec):
            yield ("setting", name, field), cause
    for name, one in book.list.items():
        if one.file not in book.file:
            yield ("list", name, "file"), _unknown("file", one.file, book.file)
        if one.item not in book.kind:
            yield ("list", name, "item"), _unknown("kind", one.item, book.kind)
    yield from _rule_mistakes(book)
    yield from _preset_mistakes(book)
    yield from _server_mistakes(book)


def _unknown(what: str, name: str, known: Mapping[str, Any]) -> str:
    near = nearest(name, known)
    return f"No {what} is called '{name}'." + (f" Did you mean {near}?" if near else "")


def _setting_mistakes(book: Rulebook, spec: Setting) -> Iterator[tuple[str, str]]:
    if spec.file not in book.file:
        yield "file", _unknown("file", spec.file, book.file)
    if spec.type not in values.KINDS:
        yield "type", _unknown("kind of value", spec.type, values.KINDS)
        return
    units = values.UNITS.get(spec.type)
    if units and spec.stored and spec.stored not in units:
        yield "stored", f"'{spec.stored}' is none of {', '.join(sorted(units))}."
        return
    if spec.fixed_by and spec.fixed_by not in book.setting:
        yield "fixed_by", _unknown("setting", spec.fixed_by, book.setting)
    if spec.advice_when:
        try:
            unknown = sorted(names_in(read_expression(spec.advice_when)) - set(book.setting) - set(book.list))
        except ExpressionProblem as error:
            yield "advice_when", str(error)
        else:
            yield from (("advice_when", _unknown("setting", name, book.setting)) for name in unknown)
    try:
        values.default_of(spec)
    except ValueProblem as error:
        yield "default", f"The default is not a value of its own setting: {error.cause}"
    for field, pattern in (
        ("pattern", spec.pattern),
        ("shown", spec.shown),
        ("live", spec.live.match if spec.live else ""),
    ):
        yield from ((field, cause) for cause in _pattern_mistakes(pattern, "value" if field != "pattern" else ""))


def _pattern_mistakes(pattern: str, group: str = "") -> Iterator[str]:
    try:
        groups = regex.compile(pattern).groupindex
    except regex.error as error:
        yield f"The pattern is wrong: {error}."
        return
    if pattern and group and group not in groups:
        yield f"The pattern needs a group (?P<{group}>...)."


def known_names(book: Rulebook) -> set[str]:
    """Give the names that a rule may use."""
    return {*book.setting, *book.list}


def _expression_mistakes(book: Rulebook, source: str) -> Iterator[str]:
    try:
        unknown = names_in(read_expression(source)) - known_names(book)
    except ExpressionProblem as error:
        yield f"The expression cannot be read: {error}."
        return
    yield from (_unknown("setting or list", name, dict.fromkeys(known_names(book))) for name in sorted(unknown))


def _rule_mistakes(book: Rulebook) -> Iterator[tuple[tuple[str, ...], str]]:
    for rule in book.rule:
        yield from (
            (("rule", "needs"), f"Rule {rule.name}: {cause}") for cause in _expression_mistakes(book, rule.needs)
        )


def _preset_mistakes(book: Rulebook) -> Iterator[tuple[tuple[str, ...], str]]:
    for name, preset in book.preset.items():
        for key, value in preset.set.items():
            spec = book.setting.get(key)
            if spec is None:
                yield ("preset", name, "set"), _unknown("setting", key, book.setting)
                continue
            try:
                values.parse(values.plain_text(value, spec), spec)
            except ValueProblem as error:
                yield ("preset", name, "set"), f"{key}: {error.cause}"


def _server_mistakes(book: Rulebook) -> Iterator[tuple[tuple[str, ...], str]]:
    server = book.server
    for field in ("ready", "joined", "left", "process"):
        yield from ((("server", field.replace("_", "-")), cause) for cause in _pattern_mistakes(getattr(server, field)))
    if server.slots and server.slots not in book.setting:
        yield ("server", "slots"), _unknown("setting", server.slots, book.setting)
    yield from _stop_mistakes(server)
    for pattern in server.failures:
        yield from ((("server", "failures"), cause) for cause in _pattern_mistakes(pattern))
    for port in server.port:
        for name in filter(None, (port.setting, port.address)):
            if name not in book.setting:
                yield ("server", "port"), _unknown("setting", name, book.setting)
        if port.probe:
            yield from ((("server", "port"), cause) for cause in _pattern_mistakes(port.probe.match))
        if port.needs:
            yield from ((("server", "port"), cause) for cause in _expression_mistakes(book, port.needs))
    yield from _console_and_list_mistakes(book)
    for field in ("grace", "start_within", "watch"):
        yield from ((("server", field.replace("_", "-")), cause) for cause in _time_mistakes(getattr(server, field)))
    if book.rulebook.version:
        match = _pattern_mistakes(book.rulebook.version.match, "version")
        yield from ((("rulebook", "version"), cause) for cause in match)


def _time_mistakes(typed: str) -> Iterator[str]:
    try:
        if parse_seconds(typed) < 0:
            yield f"'{typed}' is less than nothing."
    except ValueProblem as error:
        yield error.cause


def _stop_mistakes(server: Server) -> Iterator[tuple[tuple[str, ...], str]]:
    """Find what would keep a server from being stopped or spoken to."""
    for name in server.signals:
        if name not in _SIGNALS:
            yield ("server", "signals"), _unknown("signal", name, dict.fromkeys(_SIGNALS))
    for field in ("stop", "say"):
        if any(char < " " for char in getattr(server, field)):
            yield ("server", field), "A console line cannot hold a line break or a control character."
    if server.say and "{text}" not in server.say:
        yield ("server", "say"), "It needs {text}, where the words to the players go."


def _console_and_list_mistakes(book: Rulebook) -> Iterator[tuple[tuple[str, ...], str]]:
    console, lobby = book.server.console, book.server.lobby
    if console:
        for name in filter(None, (console.port, console.password, console.address)):
            if name not in book.setting:
                yield ("server", "console"), _unknown("setting", name, book.setting)
        if console.needs:
            try:
                read_expression(console.needs)
            except ExpressionProblem as error:
                yield ("server", "console"), str(error)
        for pattern in (console.asks, console.welcome, console.refused):
            yield from ((("server", "console"), cause) for cause in _pattern_mistakes(pattern))
    if lobby:
        for name in (*lobby.ours.values(), *lobby.shows.values()):
            if name not in book.setting:
                yield ("server", "lobby"), _unknown("setting", name, book.setting)
        yield from ((("server", "lobby"), cause) for cause in _time_mistakes(lobby.within))
