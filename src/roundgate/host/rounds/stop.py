"""The step stop: the rulebook's stop command, then its signals, and certainty that the process is gone."""

from __future__ import annotations

import os
import select
import time
from collections.abc import Iterator, Sequence
from contextlib import suppress
from typing import NamedTuple

from roundgate.core.files import ServerFiles
from roundgate.core.fleet.wanted import wanted_ports
from roundgate.core.next_step import typed_command
from roundgate.core.rounds import RoundOutcome, Step
from roundgate.core.values.units import format_seconds, parse_seconds
from roundgate.host import machine
from roundgate.host.errors import Trouble
from roundgate.host.patterns import search
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.options import RoundAborted


class DoesNotStop(RoundAborted):
    """The server did not end within its grace time."""


def stop(round: Round, files: ServerFiles | None) -> None:
    """Stop the server and make sure that it is gone. Raises DoesNotStop; the server runs on then.

    ``files`` are what it read at its start: the ports there must be free afterwards.
    """
    state = round.driver.state()
    process = state.process
    if process is None:
        return
    # What this round has started and was never ready has nobody on it, and nothing to save.
    never_ready = round.has_ready_sign and state.ready is None and (Step.START, "begin") in round.journal.marks
    began = time.monotonic()
    family = _family_without_session(process)
    round.driver.follow()
    if not never_ready:
        _before_stop(round)
    # Announced before the stop line is sent, or the keeper would take the end for a crash and start the server again.
    round.driver.expect_stop()
    for way in _ways_of_unready(round) if never_ready else _ways(round):
        round.journal.waits(Step.STOP, way.description, round.store.timing(round.server.name, "stop"))
        if _ended(round, way):
            break
        round.journal.note(Step.STOP, f"still there after: {way.description}")
    else:
        raise _does_not_stop(round)
    # A child that outlives the server may still write its files, or hold its port.
    _await_family(process, family, began + round.server.seconds("grace"))
    _free_ports(round, files)
    round.store.note_timing(round.server.name, "stop", time.monotonic() - began)


def _does_not_stop(round: Round) -> DoesNotStop:
    """Take the wish back: whenever the server ends now, its keeper starts it again, unless it is to stay down."""
    name, for_good = round.server.name, round.plan.ends_up == "down"
    round.driver.stop_failed(for_good=for_good)
    hint = typed_command("log", name, hint="to end it by force: --kill")
    within = format_seconds(int(round.server.seconds("grace")))
    if for_good:
        message = (
            f"{name} does not stop within {within}. Should it end in the next 10 minutes after all, it stays down."
        )
    else:
        # On the way back the new files are there, and must not be told away.
        files = "The files are those that the round wrote" if _has_written(round) else "Nothing was changed"
        message = (
            f"{name} does not stop within {within}. It runs on as it was. {files}. "
            "Should it end later after all, it is started again."
        )
    return DoesNotStop(RoundOutcome.FAILED, message, hint)


def _has_written(round: Round) -> bool:
    return ("write", "begin") in round.journal.marks


class Way(NamedTuple):
    """One way to stop a server: its description, how many seconds it may take, and a line that is sent repeatedly."""

    description: str
    seconds: float
    again: str = ""
    is_console: bool = False


def _before_stop(round: Round) -> None:
    """Send what the rulebook wants before a stop, such as a save, and wait for the answers.

    What goes wrong here does not keep the server from being stopped: it is noted.
    """
    for step in round.server.book.server.before_stop:
        try:
            seconds = float(parse_seconds(step.within))
            if not step.match:
                round.console.exchange(step.send)
            elif not round.console.ask(step.send, step.match, seconds):
                within = format_seconds(seconds)
                round.journal.note(Step.STOP, f"'{step.send}' was not answered as the rulebook says within {within}")
        except Trouble as error:
            round.journal.note(Step.STOP, f"the console did not take '{step.send}': {error.what}")
            return


def _ways(round: Round) -> Iterator[Way]:
    """Try one way after another; each is only tried when the ones before did not do."""
    grace, command = round.server.seconds("grace"), round.server.book.server.stop
    own = _own_way(round)
    if own:
        yield Way(own, round.server.seconds("start_within") if is_by_hand(round) else grace)
        if is_by_hand(round):  # a console or a signal would cross what the person is doing
            return
    if command:
        try:
            round.console.send(command)
            round.console.close()  # some servers do not end while somebody is connected to their console
            again = command if round.server.book.server.stop_again else ""
            yield Way(f"'{command}' on the console", grace, again, is_console=True)
        except Trouble as error:
            round.journal.note(Step.STOP, f"the console did not take the stop command: {error.what}")
    for step in round.server.book.server.signals:
        name, _, within = step.partition(" ")
        try:
            round.driver.signal(name)
        except Trouble as error:
            round.journal.note(Step.STOP, error.what)
            continue
        yield Way(name, float(parse_seconds(within)) if within else grace)
    if round.server.may_kill or round.options.kill:
        round.driver.signal("SIGKILL")
        yield Way("SIGKILL", grace)


def is_by_hand(round: Round) -> bool:
    """Return whether a person starts and stops the server."""
    return round.driver.kind == "by-hand"


_FIRST_PAUSE, _LONGEST_PAUSE = 0.5, 5.0
"""Seconds before a process that was never ready is told again; twice as long each time."""


def _ways_of_unready(round: Round) -> Iterator[Way]:
    """Tell a process that never was ready again and again, for it may not listen yet; then end it by force.

    Several servers ignore every signal until they have loaded their world.
    """
    spec = round.server.book.server
    own = _own_way(round)
    if own:
        yield Way(own, round.server.seconds("grace"))
    if spec.stop:
        with suppress(Trouble):  # its console may not be open yet
            round.console.send(spec.stop)
            round.console.close()
            yield Way(f"'{spec.stop}' on the console", _FIRST_PAUSE)
    signals = [step.partition(" ")[0] for step in spec.signals] or ["SIGTERM"]
    until = time.monotonic() + round.server.seconds("start_within")
    pause = _FIRST_PAUSE
    while time.monotonic() + pause < until and pause < _LONGEST_PAUSE:
        for name in signals:
            with suppress(Trouble):
                round.driver.signal(name)
                yield Way(f"{name}, sent to a process that is not ready yet", pause)
        pause *= 2
    for name in ("SIGTERM", "SIGKILL"):
        round.driver.signal(name)
        yield Way(name, _FIRST_PAUSE if name == "SIGTERM" else round.server.seconds("grace"))


def _own_way(round: Round) -> str:
    """Stop the server in its driver's own way; return an empty text where it has none, or it fails."""
    try:
        return round.driver.stop_it()
    except Trouble as error:
        round.journal.note(Step.STOP, error.what)
        return ""


def _refuses(round: Round, line: str) -> bool:
    """Return whether the console says that it may not do what it was told."""
    pattern = round.server.book.server.stdin_refuses
    return bool(pattern) and search(pattern, line) is not None


def _ended(round: Round, way: Way) -> bool:
    """Wait for the end; a stop line that the server may have missed is sent again. Tell whether it has ended."""
    until = time.monotonic() + way.seconds
    pause = float(parse_seconds(round.server.book.server.stop_again)) if way.again else way.seconds
    while True:
        now = time.monotonic()
        while event := round.log.hear(min(until, now + pause)):
            if way.is_console and event["event"] == "line" and _refuses(round, str(event["text"])):
                return False
            # A late exit event of an earlier process is not proof; where the host restarts the server at once, none can
            # be down.
            if event["event"] == "exit" and (not round.driver.state().runs or round.driver.kind == "self"):
                return True
        if not round.driver.state().runs or time.monotonic() >= until:
            return not round.driver.state().runs
        if way.again:
            # The console often ends with the first word: then there is nobody to say it to again.
            with suppress(Trouble):
                round.console.send(way.again)
                round.console.close()


def _family_without_session(process: int) -> list[int]:
    """Return what a server has started that leads no session of its own, by which its processes are found later."""
    with suppress(ProcessLookupError):
        return machine.family(process) if process and os.getsid(process) != process else []
    return []


def _await_family(leader: int, family: Sequence[int], until: float) -> None:
    """Wait for what the server started and left behind. Raises DoesNotStop where it stays."""
    if not leader:  # it ran where its processes cannot be seen
        return
    for member in [*machine.session_members(leader), *filter(machine.is_alive, family)]:
        try:
            handle = os.pidfd_open(member)
        except ProcessLookupError:
            continue
        try:
            gone = select.select([handle], [], [], max(0.0, until - time.monotonic()))[0]
        finally:
            os.close(handle)
        if not gone:
            raise DoesNotStop(
                RoundOutcome.FAILED, f"The server left {machine.name_process(member)} behind.", f"kill {member}"
            )


def _free_ports(round: Round, files: ServerFiles | None) -> None:
    """Note who holds a port that the server should have let go; of a rented machine that cannot be seen."""
    for port in wanted_ports(files) if files and round.server.mirror is None else ():
        for owner in machine.holders(port.protocol, port.port):
            round.journal.note(
                Step.STOP, f"port {port.port} ({port.protocol}) is still held by {machine.name_process(owner.process)}"
            )
