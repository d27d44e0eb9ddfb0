"""What can be wrong with a rulebook's tables on the running server: how it is stopped, asked, and told what to do."""

from __future__ import annotations

import re
from collections.abc import Iterator

from roundgate.core import values
from roundgate.core.probes import escaped_bytes, is_answer, question_of
from roundgate.core.rulebook.model import Probe, Rulebook, ServerSpec
from roundgate.core.rulebook.setting_mistakes import expression_mistakes, field_mistakes, pattern_mistakes, unknown
from roundgate.core.values import ValueProblem
from roundgate.core.values.units import parse_seconds

_SIGNALS = ("SIGTERM", "SIGINT", "SIGHUP", "SIGQUIT", "SIGUSR1", "SIGUSR2", "SIGKILL", "SIGABRT", "SIGALRM", "SIGCONT")
"""The signals that a server may be sent."""


def server_mistakes(book: Rulebook) -> Iterator[tuple[tuple[str, ...], str]]:
    """Find what is wrong with the table of the server's process: the place, and the cause."""
    server = book.server
    for field in ("ready", "joined", "left", "process", "log_prefix"):
        yield from ((("server", field.replace("_", "-")), cause) for cause in pattern_mistakes(getattr(server, field)))
    if server.stdin_needs:
        causes = expression_mistakes(book, server.stdin_needs)
        yield from ((("server", "stdin-needs"), cause) for cause in causes)
    yield from ((("server", "stdin-refuses"), cause) for cause in pattern_mistakes(server.stdin_refuses))
    if server.slots and server.slots not in book.setting:
        yield ("server", "slots"), unknown("setting", server.slots, book.setting)
    yield from _stop_mistakes(server)
    for pattern in server.failures:
        yield from ((("server", "failures"), cause) for cause in pattern_mistakes(pattern))
    for port in server.port:
        for name in filter(None, (port.setting, port.address)):
            if name not in book.setting:
                yield ("server", "port"), unknown("setting", name, book.setting)
        if bool(port.setting) == bool(port.number):
            yield ("server", "port"), "Name the 'setting' that holds the port, or its 'number' where none does."
        if port.probe:
            yield from ((("server", "port"), cause) for cause in _probe_mistakes(port.probe))
        if port.needs:
            yield from ((("server", "port"), cause) for cause in expression_mistakes(book, port.needs))
    yield from _console_and_list_mistakes(book)
    for field in ("grace", "start_within", "watch"):
        yield from ((("server", field.replace("_", "-")), cause) for cause in _time_mistakes(getattr(server, field)))
    if book.rulebook.version:
        match = pattern_mistakes(book.rulebook.version.match, "version")
        yield from ((("rulebook", "version"), cause) for cause in match)


def _escape_mistakes(text: str) -> Iterator[str]:
    try:
        escaped_bytes(text)
    except ValueError as error:
        yield f"{error}."


def _time_mistakes(typed: str) -> Iterator[str]:
    try:
        if parse_seconds(typed) < 0:
            yield f"'{typed}' is negative."
    except ValueProblem as error:
        yield error.cause


def _stop_mistakes(server: ServerSpec) -> Iterator[tuple[tuple[str, ...], str]]:
    """Find what would keep a server from being stopped or spoken to."""
    for words in server.signals:
        name, _, within = words.partition(" ")
        if name not in _SIGNALS:
            yield ("server", "signals"), unknown("signal", name, dict.fromkeys(_SIGNALS))
        if within:
            yield from ((("server", "signals"), cause) for cause in _time_mistakes(within))
    for field in ("stop", "say"):
        if any(char < " " for char in getattr(server, field)):
            yield ("server", field), _NO_LINE
    if server.stop_again:
        yield from ((("server", "stop-again"), cause) for cause in _time_mistakes(server.stop_again))
    for step in server.before_stop:
        if any(char < " " for char in step.send):
            yield ("server", "before-stop"), _NO_LINE
        causes = (*_time_mistakes(step.within), *pattern_mistakes(step.match))
        yield from ((("server", "before-stop"), cause) for cause in causes)
    if server.say and "{text}" not in server.say:
        yield ("server", "say"), "It needs {text}, where the message to the players goes."


_NO_LINE = "A console line cannot hold a line break or a control character."


def _probe_mistakes(probe: Probe) -> Iterator[str]:
    """Find what is wrong with a question to a port."""
    yield from pattern_mistakes(probe.match)
    yield from _time_mistakes(probe.within)
    if probe.hex and probe.send:
        yield "A probe sends 'send' or 'hex', not both."
    try:
        question_of(probe)
        is_answer(probe, b"", lambda *_: False)
    except ValueError as error:
        yield f"{error}."


def query_mistakes(book: Rulebook) -> Iterator[tuple[tuple[str, ...], str]]:
    """Find what is wrong with the questions to a running server: the place, and the cause."""
    for name, query in book.query.items():
        yield from ((("query", name), cause) for cause in _probe_mistakes(query))
        if bool(query.run) == bool(query.port):
            yield ("query", name), "A query has a 'port' to ask, or a command to 'run'."
        for setting in filter(None, (query.port, query.address)):
            if setting not in book.setting:
                yield ("query", name), unknown("setting", setting, book.setting)
        for word in re.findall(r"\{([\w.@\[\]-]+)\}", " ".join(query.run)):
            if word in book.setting and values.is_hidden(book.setting[word]):
                yield ("query", name, "run"), f"A command may not have the secret {word} among its arguments."
            elif word not in book.setting and word != "folder":
                yield ("query", name, "run"), unknown("setting", word, book.setting)


def action_mistakes(book: Rulebook) -> Iterator[tuple[tuple[str, ...], str]]:
    """Find what is wrong with what a server does at once: the place, and the cause."""
    for name, action in book.action.items():
        named = re.findall(r"\{(\w+)\}", action.send)
        for word in named:
            if word not in action.argument:
                yield ("action", name, "send"), unknown("argument", word, action.argument)
        for word, spec in action.argument.items():
            if spec.type == "secret":
                yield ("action", name, "argument"), f"A secret may not be part of a call, as {word} is."
            if word not in named:
                yield ("action", name, "argument"), f"'send' has no {{{word}}}."
            yield from ((("action", name, "argument"), cause) for _, cause in field_mistakes(book, spec))
        if any(char < " " for char in action.send):
            yield ("action", name, "send"), _NO_LINE
        for field in ("match", "refused"):
            yield from ((("action", name, field), cause) for cause in pattern_mistakes(getattr(action, field)))


_NEEDED = {
    "tcp": ("port", "password"),
    "packets": ("port", "password"),
    "datagrams": ("port", "password", "packet"),
    "pipe": ("path",),
}
"""What each kind of console cannot do without."""


def _console_and_list_mistakes(book: Rulebook) -> Iterator[tuple[tuple[str, ...], str]]:
    console, lobby = book.server.console, book.server.lobby
    if console:
        for name in filter(None, (console.port, console.password, console.address)):
            if name not in book.setting:
                yield ("server", "console"), unknown("setting", name, book.setting)
        for field in _NEEDED[console.kind]:
            if not getattr(console, field):
                yield ("server", "console"), f"'{field}' is missing here."
        for text in (console.challenge, console.packet, console.answer):
            yield from ((("server", "console"), cause) for cause in _escape_mistakes(text))
        if console.needs:
            yield from ((("server", "console"), cause) for cause in expression_mistakes(book, console.needs))
        for pattern in (console.asks, console.welcome, console.refused, console.prompt):
            yield from ((("server", "console"), cause) for cause in pattern_mistakes(pattern))
    if lobby:
        for name in (*lobby.ours.values(), *lobby.shows.values()):
            if name not in book.setting:
                yield ("server", "lobby"), unknown("setting", name, book.setting)
        yield from ((("server", "lobby"), cause) for cause in _time_mistakes(lobby.within))
