"""The step stop: the rulebook's stop command, then its signals, and certainty that the process is gone."""

from __future__ import annotations

import os
import select
import time
from collections.abc import Iterator

from roundgate.core.files import ServerFiles
from roundgate.core.rounds import RoundOutcome, Step
from roundgate.core.values.units import format_seconds
from roundgate.host import machine
from roundgate.host.errors import Trouble
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.obstacles import wanted_ports
from roundgate.host.rounds.options import RoundAborted


class DoesNotStop(RoundAborted):
    """The server did not end within its grace time."""


def stop(round: Round, files: ServerFiles | None) -> None:
    """Stop the server and make sure that it is gone. Raises DoesNotStop; the server runs on then.

    ``files`` are what it read at its start: the ports there must be free afterwards.
    """
    process = round.driver.state().process
    if process is None:
        return
    began = time.monotonic()
    round.driver.follow()
    round.driver.expect_stop()
    for way in _ways(round):
        round.journal.waits(Step.STOP, way, round.store.timing(round.server.name, "stop"))
        if _ended(round, time.monotonic() + round.server.seconds("grace")):
            break
        round.journal.note(Step.STOP, f"still there {format_seconds(int(round.server.seconds('grace')))} after: {way}")
    else:
        raise _does_not_stop(round)
    _await_family(process, began + round.server.seconds("grace"))
    _free_ports(round, files)
    round.store.note_timing(round.server.name, "stop", time.monotonic() - began)


def _does_not_stop(round: Round) -> DoesNotStop:
    """Take the wish back: whenever the server ends now, its keeper starts it again, unless it is to stay down."""
    name, for_good = round.server.name, round.plan.ends_up == "down"
    round.driver.stop_failed(for_good=for_good)
    hint = f"roundgate log {name}; to end it by force, give --kill"
    within = format_seconds(int(round.server.seconds("grace")))
    if for_good:
        message = (
            f"{name} does not stop within {within}. Should it end in the next 10 minutes after all, it stays down."
        )
    else:
        message = (
            f"{name} does not stop within {within}. It runs on as it was; nothing was changed. Should it end later "
            "after all, it is started again."
        )
    return DoesNotStop(RoundOutcome.FAILED, message, hint)


def _ways(round: Round) -> Iterator[str]:
    """Try one way after another; each is only tried when the ones before did not do."""
    command = round.server.book.server.stop
    if command:
        try:
            round.console.send(command)
            round.console.close()
            yield f"'{command}' on the console"
        except Trouble as error:
            round.journal.note(Step.STOP, f"the console did not take the stop command: {error.what}")
    for name in round.server.book.server.signals:
        try:
            round.driver.signal(name)
        except Trouble as error:
            round.journal.note(Step.STOP, error.what)
            continue
        yield name
    if round.server.may_kill or round.options.kill:
        round.driver.signal("SIGKILL")
        yield "SIGKILL"


def _ended(round: Round, until: float) -> bool:
    while event := round.log.hear(until):
        if event["event"] == "exit" and not round.driver.state().runs:
            return True
    return not round.driver.state().runs


def _await_family(leader: int, until: float) -> None:
    """Wait for what the server started and left behind. Raises DoesNotStop where it stays."""
    for member in machine.session_members(leader):
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
    """Note who holds a port that the server should have let go."""
    for protocol, _, port, _ in wanted_ports(round.server, files) if files else ():
        for owner in machine.holders(protocol, port):
            round.journal.note(
                Step.STOP, f"port {port} ({protocol}) is still held by {machine.name_process(owner.process)}"
            )
