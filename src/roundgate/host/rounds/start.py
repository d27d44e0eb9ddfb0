"""The step start: start the server and wait for its ready sign."""

from __future__ import annotations

import contextlib
import time

from roundgate.core.fleet.wanted import wanted_ports
from roundgate.core.rounds import Step
from roundgate.core.values.units import format_seconds
from roundgate.host import machine
from roundgate.host.errors import Trouble
from roundgate.host.rented.ports import answers
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.options import NotProven
from roundgate.host.rounds.stop import is_by_hand

_PORT_PAUSE = 0.05


def start(round: Round) -> None:
    """Start the server and wait until it is ready. Raises NotProven with the log as evidence."""
    began = time.monotonic()
    # Lines of the process before must not pass for this one's ready sign.
    round.log.restart()
    round.forget_answers()
    try:
        round.driver.open()
        round.driver.lease(round.number)
        round.driver.follow()
        round.driver.start()
    except Trouble as error:
        raise NotProven(error.what.rstrip("."), []) from error
    except OSError as error:
        raise NotProven(f"its keeper's configuration cannot be written: {error.strerror or error}", []) from error
    waits = "waiting for the ready sign"
    if is_by_hand(round):
        waits = round.server.entry.by_hand.start
    round.journal.waits(Step.START, waits, round.store.timing(round.server.name, "start"))
    until = began + round.server.seconds("start_within")
    round.probes_until = until
    if round.has_ready_sign:
        _await_ready(round, until)
        if round.server.goes_into_background:  # its PID file may have been written long before it was ready
            _await_ports(round, until)
    else:
        if round.server.book.server.ready:
            why = "its rulebook names no logs" if not round.server.book.server.logs else "its log is out of reach"
            round.journal.note(Step.START, f"{why}, so its ready sign is not seen; its ports tell")
        _await_ports(round, until)
    round.store.note_timing(round.server.name, "start", time.monotonic() - began)


def _await_ports(round: Round, until: float) -> None:
    """Wait until a server that gives no ready sign owns its ports. Raises NotProven where it ends before."""
    # Files that cannot be read name no ports; then the watch time alone has to show that it stays up.
    with contextlib.suppress(Trouble):
        wanted = wanted_ports(round.look().read().files)
        missing = {(port.protocol, port.port) for port in wanted}
        while missing and time.monotonic() < until:
            if round.server.mirror is not None:
                missing = _silent_afar(round, missing)
                continue
            process = round.driver.state().process
            owned = machine.listening(machine.family(process)) if process else []
            missing -= {(port.protocol, port.port) for port in owned}
            event = round.log.hear(time.monotonic() + _PORT_PAUSE) if missing else None
            if event and event["event"] == "exit":
                raise _ended_early(round)


def _silent_afar(round: Round, missing: set[tuple[str, int]]) -> set[tuple[str, int]]:
    """Return which TCP ports of a rented server nobody answers on yet; others cannot be looked at. Raises NotProven."""
    entry = round.server.entry
    silent = {(protocol, port) for protocol, port in missing if protocol == "tcp" and not answers(entry, port)}
    event = round.log.hear(time.monotonic() + 10 * _PORT_PAUSE) if silent else None
    if event and event["event"] == "exit":
        raise _ended_early(round)
    return silent


def _ended_early(round: Round) -> NotProven:
    how = round.log.describe_end(round.server.name)
    return NotProven(f"it ended before it was ready{how}", round.evidence())


def _await_ready(round: Round, until: float) -> None:
    while event := round.log.hear(until):
        if event["event"] == "ready":
            return None
        if event["event"] == "exit":
            raise _ended_early(round)
        if event["event"] == "deaf":
            round.journal.note(Step.START, "its log is out of reach now, so its ready sign is not seen; its ports tell")
            return _await_ports(round, until)
        if event["event"] == "line" and round.is_failure(str(event["text"])):
            raise NotProven(f"its log says: {str(event['text']).strip()}", round.evidence())
    limit = format_seconds(int(round.server.seconds("start_within")))
    raise NotProven(f"it was not ready within {limit}", round.evidence())
