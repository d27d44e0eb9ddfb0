"""``set --now`` and ``apply --live``: values that go to the live console at once, and are read back from there."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from msgspec.structs import replace

from roundgate.cli.screen.output import echo
from roundgate.core import values
from roundgate.core.files import format_value, value_of
from roundgate.core.next_step import typed_command
from roundgate.core.operations.values import SetValue
from roundgate.core.rulebook.expansion import CONSOLE, setting_at
from roundgate.core.secrets import is_secret
from roundgate.host.asking.reader import ValueReader
from roundgate.host.consoles import console_of
from roundgate.host.consoles.lines import filled
from roundgate.host.drivers import driver_of
from roundgate.host.errors import Trouble
from roundgate.host.patterns import search
from roundgate.host.store import Store, secret_mark

if TYPE_CHECKING:
    from roundgate.core.operations.base import Operation
    from roundgate.core.rulebook.model import Setting
    from roundgate.host.consoles.protocol import Console
    from roundgate.host.servers import Server

_SHOWN = 120


def _as_given(server: Server, value: SetValue) -> str:
    """Return the word that sets a value; a secret is asked for again."""
    if is_secret(server.book, value.file, value.key, value.stored):
        return value.shown_name
    spec = server.book.setting.get(value.name)
    return f"{value.shown_name}={format_value(value.stored, spec) if spec else value.stored}"


def send_live(server: Server, store: Store, operations: Sequence[Operation]) -> list[Operation]:
    """Send values to the live console and read them back; return the operations, marked to go into the file too.

    Raises Trouble where a setting cannot be set live, before anything is sent, or where the server did not take one.
    """
    values = [
        operation for operation in operations if isinstance(operation, SetValue) and not _is_second(server, operation)
    ]
    for value in values:
        spec = server.book.setting.get(value.name)
        if spec is None or spec.live is None or not spec.live.set:
            hint = f"without --now, and then: roundgate apply {server.name}"
            do = typed_command("set", server.name, *(_as_given(server, each) for each in values), hint=hint)
            raise Trouble(f"{value.shown_name} cannot be set at the live console.", do)
    driver = driver_of(server)
    if not driver.state().runs:
        raise Trouble(f"{server.name} is down, so nothing can be sent to it.", typed_command("start", server.name))
    console = console_of(server, driver)
    try:
        for value in values:
            _send_one(server, store, console, value)
    finally:
        console.close()
        driver.close()
    kept = [operation for operation in operations if isinstance(operation, SetValue) and operation.file != CONSOLE]
    return [replace(operation, at_stop=True) for operation in kept]


def _is_second(server: Server, operation: SetValue) -> bool:
    """Return whether an operation is for a second place of a setting: the first one tells the console."""
    return not operation.name and setting_at(server.book, operation.file, operation.key) is not None


def _send_one(server: Server, store: Store, console: Console, set_value: SetValue) -> None:
    spec = server.book.setting[set_value.name]
    live = spec.live
    assert live is not None
    answer = console.exchange(filled(live.set, {"value": set_value.stored}, server.book.server))
    read = _read_back(server, console, spec, answer)
    if read is not None and value_of(read, spec) != value_of(set_value.stored, spec):
        has = format_value(read, spec)
        raise Trouble(
            f"The server did not take {set_value.name}: it has {has} afterwards.{_quoted(answer, spec)}",
            typed_command("log", server.name),
        )
    if read is None and (live.can_be_read or live.match):
        raise Trouble(
            f"The value of {set_value.name} could not be read back from the server.{_quoted(answer, spec)}",
            typed_command("log", server.name),
        )
    kept = secret_mark(server.name, set_value.name, set_value.stored) if values.is_hidden(spec) else set_value.stored
    if not spec.kept_in:
        store.note_live(server.name, set_value.name, kept)
    shown = format_value(set_value.stored, spec)
    if read is None:
        echo(f"{server.name}  {set_value.name}={shown} was sent; this server has no command to read it back")
    else:
        source = "query" if live.query else "console"
        echo(f"{server.name}  {set_value.name} is {shown} now, read back from the {source}")


def _read_back(server: Server, console: Console, spec: Setting, answer: Sequence[str]) -> str | None:
    """Return the value that the server has after a set: asked for, or found in its answer; None where neither tells."""
    live = spec.live
    assert live is not None
    if live.can_be_read:
        return ValueReader(server, console, server.read_started()).read(spec)
    if not live.match:
        return None
    hits = (search(live.match, line) for line in reversed(answer))
    return next((hit["value"] for hit in hits if hit), None)


def _quoted(answer: Sequence[str], spec: Setting) -> str:
    """Describe what the server answered, where that cannot hold a secret."""
    if values.is_hidden(spec):
        return ""
    joined = " / ".join(line.strip() for line in answer if line.strip())
    return f" It answered: {joined[:_SHOWN]}" if joined else " It answered nothing."
