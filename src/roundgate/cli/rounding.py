"""Running a round from the terminal: asking, watching, leaving it to itself or calling it off."""

from __future__ import annotations

import re
import select
import sys
import time
from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING, Any

from roundgate.cli.screen.ctrl_c import CtrlC
from roundgate.cli.screen.output import echo, plain, styled
from roundgate.cli.screen.rounds import RoundScreen
from roundgate.core.differences import unified
from roundgate.core.next_step import LeftOut
from roundgate.core.operations.values import SetValue
from roundgate.core.quoting import quoted
from roundgate.core.review import lines_shown
from roundgate.core.rounds import RoundKind
from roundgate.core.text import NotText, decode
from roundgate.core.values import ValueProblem
from roundgate.core.values.units import parse_seconds
from roundgate.host.errors import WrongUsage
from roundgate.host.rounds.locking import held
from roundgate.host.rounds.options import Options
from roundgate.host.rounds.process import RoundWindow, launch
from roundgate.host.rounds.write import changed_since, rewind_target

if TYPE_CHECKING:
    from roundgate.cli.call import CallContext
    from roundgate.host.servers import Server
    from roundgate.host.store import Store

_LONGEST_WAIT = 30 * 24 * 3600
"""Seconds; a longer countdown is a slip of the finger."""


def seconds(typed: str) -> float:
    """Read a length of time that a person typed. Raises WrongUsage."""
    try:
        found = float(typed) if re.fullmatch(r"[0-9]{1,9}(\.[0-9]{1,3})?", typed) else float(parse_seconds(typed))
    except (ValueProblem, ValueError, OverflowError) as error:
        raise WrongUsage(f"{quoted(typed[:40])} is not a duration.", "Write it like 30s or 5m.") from error
    if not 0 <= found <= _LONGEST_WAIT:
        raise WrongUsage(f"A wait of {quoted(typed[:40])} is not possible: 0s to 30d is.", "Write it like 30s or 5m.")
    return found


def moment(typed: str | None) -> float | None:
    """Read a time of day, HH:MM, as the next such moment in seconds since 1970. Raises WrongUsage."""
    if typed is None:
        return None
    try:
        wanted = time.strptime(typed, "%H:%M")
    except ValueError as error:
        raise WrongUsage(f"'{typed}' is not a time of day.", "Write it like 04:30.") from error
    today = time.localtime()
    at = time.mktime((*today[:3], wanted.tm_hour, wanted.tm_min, 0, 0, 0, -1))
    return (
        at if at > time.time() else time.mktime((*today[:2], today[2] + 1, wanted.tm_hour, wanted.tm_min, 0, 0, 0, -1))
    )


def agreed(question: str, *, yes: bool) -> bool:
    """Ask, unless told not to. Raises WrongUsage where nobody is there to answer."""
    if yes:
        return True
    if not sys.stdin.isatty():
        raise WrongUsage(
            "This needs a confirmation, and there is no terminal to ask on.", LeftOut("Give --yes.", "--yes")
        )
    answer = input(f"{question} [y/N] ").strip().lower()
    if answer not in ("y", "yes"):
        echo("Nothing was done.")
        return False
    return True


def run_round(context: CallContext, server: Server, options: Options) -> int:
    """Run a round in its own process and watch it; return the exit code. Raises Busy where another holds the server."""
    with held(server, context.store):
        pass  # quickly told here; the round's own process takes the lock for good
    return watch(partial(launch, server, context.store, options), context.store)


def watch(begin: Callable[[], RoundWindow], store: Store) -> int:
    """Begin a round and show it until it ends; return the exit code.

    Ctrl-C asks whether to leave it running or to call it off.
    """
    screen = RoundScreen()
    with CtrlC() as ctrl_c:
        window = begin()
        echo(f"Round {window.number} (it goes on even if this terminal is closed)")
        try:
            while True:
                sources: list[CtrlC | RoundWindow] = [window, ctrl_c]
                able, _, _ = select.select(sources, [], [])
                if ctrl_c in able:
                    screen.pause()
                    if not _stay(window, ctrl_c):
                        return 0
                elif (events := window.some_events()) is not None:
                    for event in events:
                        screen.show(event)
                else:
                    break
        finally:
            screen.pause()
            window.close()
    return screen.finish(window.number, store.round(window.number) if screen.end is None else None)


def _stay(window: RoundWindow, ctrl_c: CtrlC) -> bool:
    """Ask what Ctrl-C should mean; return whether to go on watching."""
    echo()
    if not sys.stdin.isatty():
        echo(f"The round goes on by itself: roundgate rounds show {window.number}")
        return False
    answer = ctrl_c.ask("[l]eave it running, [c]all it off, or go on [w]atching? ")
    if answer.startswith("c"):
        window.call_off()
        echo("Asked it to stop; that works until it begins to write.")
        return True
    if answer.startswith("l"):
        echo(f"It goes on: roundgate rounds show {window.number}")
        return False
    return True


def echo_rewind(context: CallContext, server: Server, number: int) -> bool:
    """Show what going back before a round will change; return whether that is anything. Raises Trouble."""
    changed = []
    for path, data in rewind_target(context.site, number).items():
        now = server.files_folder.read(path)
        if now == data:
            continue
        changed.append(path)
        old, new = (_lines(server, path, content) for content in (now, data))
        for line in unified(old, new, (f"{path} (on disk)", f"{path} (before round {number})"), context=1):
            colour = {"+": "green", "-": "red"}.get(line[:1])
            echo("  " + (styled(plain(line), colour) if colour else plain(line)))
    since = [path for path in changed_since(server, number) if path in changed]
    if since:
        echo(f"  ! {', '.join(since)}: changed again since round {number}; those changes go too.")
        echo("    They are kept in the folder of the round that goes back.")
    return bool(changed)


def _lines(server: Server, path: str, data: bytes | None) -> list[str]:
    if data is None:
        return []
    try:
        text = decode(data)
    except NotText:
        return ["(not text)"]
    return lines_shown(server.read([path]).files, path, text)


def apply_live(context: CallContext, server: Server) -> int:
    """Bring into force what needs no stop: records by a live round, settings by the console. Give the exit code.

    Settings go into the files at the next stop.
    """
    from roundgate.cli.changes.live import send_live

    code = apply_live_records(context, server)
    waiting = context.store.slate(server.name)
    able = [entry for entry in waiting if isinstance(entry.operation, SetValue) and _is_live(server, entry.operation)]
    if code is not None and (code or not able):
        if waiting and not able:
            echo(f"  {len(waiting)} more wait for a round.")
        return code
    if not able:
        echo(f"{server.name}: nothing on the slate can be set live.")
        return 1
    marked: list[Any] = send_live(server, context.store, [entry.operation for entry in able])
    context.store.add_to_slate(server.name, marked, able[0].by)
    left = len(waiting) - len(able)
    echo(f"  In force now; it goes into the file at the next stop. {left} more wait for a round.")
    return 0


def apply_live_records(context: CallContext, server: Server) -> int | None:
    """Run a live round for the records that a running server can be told of; None where none of them waits."""
    from roundgate.core.records.live import can_be_live

    waiting = [entry for entry in context.store.slate(server.name) if entry.round is None]
    if not any(can_be_live(entry.operation, server.book) for entry in waiting):
        return None
    return run_round(context, server, Options(kind=RoundKind.LIVE))


def _is_live(server: Server, operation: SetValue) -> bool:
    spec = server.book.setting.get(operation.name)
    return bool(spec and spec.live and spec.live.set)
