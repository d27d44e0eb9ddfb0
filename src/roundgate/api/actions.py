"""What a running server does at once, by the actions of its rulebook: the arguments of a call become a console line."""

from __future__ import annotations

from collections.abc import Sequence

from roundgate.api.lookup import OPEN, assignment
from roundgate.core import values
from roundgate.core.console_lines import LineRefused, fill
from roundgate.core.nearest import nearest
from roundgate.core.next_step import Command, did_you_mean, typed_command
from roundgate.core.records.sets import find_records, records_in
from roundgate.core.rulebook.model import Action, RecordField
from roundgate.core.values import ValueProblem
from roundgate.host.errors import Trouble, UnknownName, WrongUsage
from roundgate.host.servers import Server


def action_of(server: Server, name: str) -> Action:
    """Return an action of a server's rulebook. Raises UnknownName with the nearest."""
    known = server.book.action
    if name in known:
        return known[name]
    if not known:
        raise UnknownName(
            f"The rulebook of {server.name} has no actions.", typed_command("send", server.name, "<line>")
        )
    near = nearest(name, known)
    hint = did_you_mean(name, near) if near else f"It knows: {', '.join(known)}"
    raise UnknownName(f"{server.name} has no action '{name}'.", hint)


def line_of(server: Server, name: str, arguments: Sequence[str]) -> str:
    """Return the console line of an action: its arguments in their order, or as NAME=VALUE, each checked.

    Raises WrongUsage for one too many or too few, and Trouble for a value that will not do.
    """
    action = action_of(server, name)
    given = _given(action, name, arguments, server)
    filled: dict[str, str] = {}
    for argument, spec in action.argument.items():
        word = given.get(argument)
        if word is not None:
            filled[argument] = _stored(server, argument, spec, word)
        elif spec.default is not None:
            filled[argument] = values.as_stored(spec.default, spec)
        else:
            raise WrongUsage(f"'{name}' needs {argument}: {values.describe(spec)}.", _open_call(server, name))
    try:
        return fill(action.send, filled, server.book.server)
    except LineRefused as error:
        raise Trouble(str(error), "Leave that sign out.") from error


def usage(server: Server, name: str) -> str:
    """Return the call of an action, with the names of its arguments; those in brackets may be left out."""
    parameters = [
        argument.upper() if spec.default is None else f"[{argument.upper()}]"
        for argument, spec in action_of(server, name).argument.items()
    ]
    return typed_command("now", server.name, name, *parameters).typed


def _open_call(server: Server, name: str) -> Command:
    """Return the call of an action, its arguments left open."""
    parameters = [OPEN for spec in action_of(server, name).argument.values() if spec.default is None]
    return typed_command("now", server.name, name, *parameters)


def _given(action: Action, name: str, arguments: Sequence[str], server: Server) -> dict[str, str]:
    given: dict[str, str] = {}
    left = list(action.argument)
    for word in arguments:
        argument, value = assignment(word)
        if value is None or argument not in action.argument:
            if not left:
                raise WrongUsage(f"'{name}' takes no more arguments: '{word}'.", _open_call(server, name))
            argument, value = left[0], word
        if argument in given:
            raise WrongUsage(f"{argument} is given twice.", _open_call(server, name))
        given[argument] = value
        left = [word for word in left if word != argument]
    return given


def _stored(server: Server, argument: str, spec: RecordField, word: str) -> str:
    """Return an argument as it is sent. Raises Trouble."""
    if spec.type == "ref":
        return _record(server, argument, spec, word)
    try:
        return values.store(values.parse(word, spec), spec)
    except ValueProblem as error:
        hint = did_you_mean(word, error.meant) if error.meant else f"It may be {values.describe(spec)}."
        raise Trouble(f"{argument}={word}: {error.cause} Nothing was sent.", hint) from error


def _record(server: Server, argument: str, spec: RecordField, word: str) -> str:
    """Return the key of the record that a word means, in the files as the server reads them."""
    records = server.book.records[spec.to]
    there = records_in(server.read().files.document(server.book.file[records.file].path), records)
    found = find_records(there, records, word)
    if len(found) == 1:
        return found[0].key
    near = nearest(word, [record.key for record in there])
    hint = f"Did you mean {near}?" if near else typed_command("show", server.name, spec.to)
    raise Trouble(f"{argument}={word}: {spec.to} has no such record. Nothing was sent.", hint)
