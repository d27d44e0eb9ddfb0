"""From the words of ``set`` and ``reset`` to operations, checked against the slate."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING

from msgspec.structs import replace

from roundgate.cli.names import Target, setting_of
from roundgate.core import values
from roundgate.core.checks import check_after, sameness
from roundgate.core.checks.context import quoted
from roundgate.core.findings import Finding, in_order
from roundgate.core.secrets import sounds_secret
from roundgate.core.slate import Operation, Outcome, Rename, SetValue, Switch, Unset, merged, name_of
from roundgate.core.values import ValueProblem
from roundgate.host.errors import Trouble, WrongWords
from roundgate.host.servers import Server
from roundgate.host.store import Store, Waiting, secret_mark

if TYPE_CHECKING:
    from roundgate.host.consoles.protocol import Console
    from roundgate.host.rounds.gather import Gathered


def operations_of(server: Server, words: Sequence[str]) -> list[SetValue]:
    """Make an operation of each NAME=VALUE. Raises WrongWords, UnknownName, or Trouble for a value that will not do."""
    if not words:
        raise WrongWords("What shall be set?", f"roundgate set {server.name} NAME=VALUE")
    return [_operation(server, word) for word in words]


def _operation(server: Server, word: str) -> SetValue:
    name, equals, typed = word.partition("=")
    target = setting_of(server, name)
    is_secret = target.spec.type == "secret" if target.spec else sounds_secret(target.key)
    if is_secret:
        typed = _secret(server, target, given=bool(equals))
    elif not equals:
        raise WrongWords(f"'{word}' has no value.", f"roundgate set {server.name} {name}=VALUE")
    stored = typed if target.spec is None else _stored(server, target, typed)
    return SetValue(target.file, target.key, stored, _then(server, target), target.name if target.spec else "")


def _secret(server: Server, target: Target, *, given: bool) -> str:
    """Ask for a secret; it must not stand in the call, which others on the machine can read."""
    if given:
        raise WrongWords(
            f"{target.name} is a secret and must not stand in the command: others on this machine can read it.",
            f"roundgate set {server.name} {target.name}    (it is asked for; or give it on standard input)",
        )
    if sys.stdin.isatty():
        from getpass import getpass

        return getpass(f"{target.name} of {server.name} (not shown): ")
    line = sys.stdin.readline()
    if not line:
        raise WrongWords(f"{target.name} is asked for, and nothing came on standard input.", "Give it there, one line.")
    return line.rstrip("\r\n")


def _stored(server: Server, target: Target, typed: str) -> str:
    assert target.spec is not None
    try:
        return values.store(values.parse(typed, target.spec), target.spec)
    except ValueProblem as error:
        advice = f" {target.spec.advice}" if error.code == "value-range" and target.spec.advice else ""
        meant = f"{target.name}={error.meant}" if error.meant else ""
        do = f"roundgate set {server.name} {quoted(meant)}" if meant else f"roundgate explain {target.name}"
        shown = "" if target.spec.type == "secret" else f"{target.name}={typed}: "
        may_be = values.describe(target.spec)
        cause = f"{shown}{error.cause}{advice} ({error.code})\n  It may be {may_be}. Nothing was changed."
        raise Trouble(cause, do) from error


def _then(server: Server, target: Target) -> str | None:
    document = server.read([target.file]).files.document(target.file)
    entry = document.find(document.resolve(target.key)) if document else None
    return entry.value if entry else None


def _must_stand(server: Server, store: Store, target: Target, *, or_off: bool) -> None:
    """See that a key is in its file, or will be with what waits on the slate. Raises Trouble."""
    _, outcome = server.outcome([one.operation for one in store.slate(server.name)], [target.file])
    document = outcome.after.document(target.file)
    path = document.resolve(target.key) if document else ()
    if document is not None and document.find(path) is not None:
        return
    if document is not None and any(one.path == path for one in document.switched_off()):
        if or_off:
            return
        raise Trouble(f"{target.name} is commented out.", f"roundgate switch {server.name} {target.name} --on")
    raise Trouble(f"{target.name} is not in {target.file} of {server.name}.", f"roundgate show {server.name}")


def switch_operation(server: Server, store: Store, name: str, *, on: bool) -> Operation:
    """Make the operation that comments a key out, or lets it count again. Raises Trouble where there is none."""
    target = setting_of(server, name)
    if not on:
        _must_stand(server, store, target, or_off=True)
    return Switch(target.file, target.key, on, target.name if target.spec else "")


def rename_operation(server: Server, store: Store, name: str, new: str) -> Operation:
    """Make the operation that gives a key another name. Raises Trouble where it does not stand there."""
    target = setting_of(server, name)
    _must_stand(server, store, target, or_off=False)
    return Rename(target.file, target.key, new)


def reset_operation(server: Server, name: str) -> Operation:
    """Make the operation that gives a setting its default again."""
    target = setting_of(server, name)
    then = _then(server, target)
    if target.spec is None or target.spec.default is None:
        return Unset(target.file, target.key, then, target.name if target.spec else "")
    stored = values.plain_text(target.spec.default, target.spec)
    return SetValue(target.file, target.key, stored, then, target.name)


def new_findings(server: Server, store: Store, operations: Sequence[Operation]) -> tuple[list[Finding], Outcome]:
    """Check what the slate would be with the operations on it; give what they bring that is not wrong already.

    The outcome is that of the whole slate, with them.
    """
    waiting: list[Operation] = [one.operation for one in store.slate(server.name)]
    _, before = server.outcome(waiting)
    for operation in operations:
        waiting = merged(waiting, operation)
    now, outcome = server.outcome(waiting)
    touched = {operation.file for operation in operations}  # in the other files nothing new can be wrong
    old = {sameness(one) for one in check_after(server.name, before, now.unreadable, touched)}
    found = check_after(server.name, outcome, now.unreadable, touched)
    spoilt = touched & set(now.unreadable)
    new = [one for one in found if sameness(one) not in old or one.place.file in spoilt]
    said = [_not_put(one) if one.code == "slate-stuck" else replace(one, waiting=True) for one in in_order(new)]
    return said, outcome


def _not_put(finding: Finding) -> Finding:
    """Say that what cannot be done was not put on the slate: there is nothing to discard."""
    return replace(finding, do="")


def send_live(server: Server, store: Store, operations: Sequence[Operation]) -> list[SetValue]:
    """Send values to the live console and read them back; give the operations, marked to go into the file too.

    Raises Trouble where a setting cannot be set live, before anything is sent.
    """
    from roundgate.host.consoles import console_of  # only what goes live talks to the server
    from roundgate.host.drivers import driver_of

    live = [one for one in operations if isinstance(one, SetValue)]
    for one in live:
        spec = server.book.setting.get(one.name)
        if spec is None or spec.live is None or not spec.live.set:
            do = f"roundgate set {server.name} {one.name}=..., then roundgate apply {server.name}"
            raise Trouble(f"{name_of(one)} cannot be set at the live console.", do)
    driver = driver_of(server)
    if not driver.state().runs:
        raise Trouble(f"{server.name} is down, so nothing can be sent to it.", f"roundgate start {server.name}")
    console = console_of(server, driver)
    try:
        for one in live:
            _send_one(server, store, console, one)
    finally:
        console.close()
        driver.close()
    return [replace(one, at_stop=True) for one in live]


def _send_one(server: Server, store: Store, console: Console, one: SetValue) -> None:
    from roundgate.cli.screen.output import say
    from roundgate.core.files import say as say_value
    from roundgate.core.files import value_of

    live, spec = server.book.setting[one.name].live, server.book.setting[one.name]
    assert live is not None
    line = live.set.replace("{value}", one.stored)
    if not live.match:
        console.send(line)
    answer = console.ask(line, live.match) if live.match else None
    if live.match and (answer is None or value_of(answer["value"], spec) != value_of(one.stored, spec)):
        raise Trouble(f"The server did not take {one.name}.", f"roundgate log {server.name}")
    kept = secret_mark(server.name, one.name, one.stored) if spec.type == "secret" else one.stored
    store.note_live(server.name, one.name, kept)
    say(f"{server.name}  {one.name} is {say_value(one.stored, spec)} now, says the console")


def gathered_now(server: Server, store: Store) -> Gathered:
    """Gather what a round would do now."""
    from roundgate.host.drivers import driver_of
    from roundgate.host.rounds.gather import gather_at_rest

    driver = driver_of(server)
    try:
        return gather_at_rest(server, store.slate(server.name), driver.state())
    finally:
        driver.close()


def matching(server: Server, waiting: Sequence[Waiting], names: Sequence[str]) -> list[Waiting]:
    """Give what waits under some names, each as a person may say it."""
    from roundgate.cli.names import find_name

    wanted = {find_name(server.book, name) or name for name in names}
    return [one for one in waiting if name_of(one.operation) in wanted]
