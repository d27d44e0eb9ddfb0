"""The step prove: facts that show that the server is up and each change is in force.

Exit codes and log lines prove nothing by themselves. What counts: the process stays, it owns its ports on the right
addresses, a probe is answered, changed values are read back and compared, and the lobby shows the server.
"""

from __future__ import annotations

import socket
import time
from collections.abc import Iterator, Sequence

from msgspec import Struct

from roundgate.core.advice import overriding
from roundgate.core.files import ServerFiles, format_value, value_of
from roundgate.core.fleet.wanted import WantedPort, wanted_ports
from roundgate.core.probes import is_answer, texts_of
from roundgate.core.records.live import told_for
from roundgate.core.rounds import (
    Fact,
    KeyGone,
    PortAnswers,
    PortOwned,
    PortsUnchecked,
    StayedUp,
    Step,
    ValueInForce,
    ValuesUnread,
)
from roundgate.core.rulebook.model import Probe
from roundgate.host import machine
from roundgate.host.asking.ports import ask_port
from roundgate.host.errors import Trouble
from roundgate.host.fleet.networks import network_elsewhere
from roundgate.host.patterns import search
from roundgate.host.rented.ports import address_of, answers
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.options import NotProven
from roundgate.host.rounds.reading import confirmed, look_at_world, read_back
from roundgate.host.written import taken_out

_PORT_PAUSE = 0.05
_END_WITHIN = 1.0
"""Seconds to wait for the news that the server has ended, after a check has failed."""


class Proof(Struct, frozen=True):
    """What was seen, and which of the changes were read back and which were not."""

    facts: list[Fact]
    read: list[str]
    unread: list[str]


def prove(round: Round, files: ServerFiles, names: Sequence[str]) -> Proof:
    """Prove that the server is up with ``files`` in force; return what was seen.

    ``names`` are the settings and lists that changed. Raises NotProven.
    """
    began = time.monotonic()
    _no_failures(round)
    # Answers from before the stop would prove the old values.
    round.forget_answers()
    read: list[str] = []
    try:
        facts: list[Fact] = [*_prove_ports(round, files), *_prove_values(round, files, names, read)]
        facts += look_at_world(round, files, names)
        facts += _taken_out(round)
    except (NotProven, Trouble):
        _raise_if_ended(round)
        raise
    except Exception as error:
        # A change must be proven or undone. Where nothing changed, a mistake in our own checks is no reason to call the
        # server broken.
        if names:
            raise
        facts = [PortsUnchecked(type(error).__name__)]
    round.console.close()
    round.journal.note(Step.PROVE, "ready; all checks that need no waiting have passed")
    _watch(round, began + round.server.seconds("watch"))
    facts.append(StayedUp(max(1, int(time.monotonic() - began))))
    return Proof(facts, read, [name for name in names if name not in read])


def _no_failures(round: Round) -> None:
    for line in round.log.lines:
        if round.is_failure(line):
            raise NotProven(f"its log says: {line.strip()}", round.evidence())


def _raise_if_ended(round: Round) -> None:
    """Name the end of the server as the reason where a check failed because of it. Raises NotProven.

    A server that is about to end closes its ports first, and its exit is heard a moment later.
    """
    until = time.monotonic() + _END_WITHIN
    while not round.log.exited and round.log.hear(until):
        pass
    if round.log.exited:
        raise _ended_soon(round)


def _ended_soon(round: Round) -> NotProven:
    how = round.log.describe_end(round.server.name)
    return NotProven(f"it ended soon after it was ready{how}", round.evidence())


def _watch(round: Round, until: float) -> None:
    """Watch for the server's end and for failures in its log."""
    round.journal.waits(Step.PROVE, "watching that it stays up", max(0.0, until - time.monotonic()))
    while event := round.log.hear(until):
        if event["event"] == "exit":
            raise _ended_soon(round)
        if event["event"] == "line" and round.is_failure(str(event["text"])):
            raise NotProven(f"its log says: {str(event['text']).strip()}", round.evidence())


# --- ports -------------------------------------------------------------------------------------------------------


def _prove_ports(round: Round, files: ServerFiles) -> Iterator[PortOwned | PortAnswers]:
    if round.server.mirror is not None:
        yield from _prove_ports_afar(round, files)
        return
    for wanted in wanted_ports(files):
        _await_port(round, wanted.protocol, wanted.address, wanted.port)
        process = round.driver.state().process
        is_asked = wanted.probe is not None and not (process and network_elsewhere(process))
        if wanted.probe and is_asked:
            _await_answer(round, wanted, wanted.probe)
        elif wanted.probe:
            why = "its process has a network namespace of its own, which is not reached from here"
            round.journal.note(Step.PROVE, f"port {wanted.port} ({wanted.protocol}) is not asked: {why}")
        yield PortOwned(wanted.port, wanted.protocol, wanted.address, answered=is_asked)


def _prove_ports_afar(round: Round, files: ServerFiles) -> Iterator[PortAnswers]:
    """See that a rented server's ports answer; whose they are cannot be seen from here. Raises NotProven."""
    where = address_of(round.server.entry)
    for wanted in wanted_ports(files):
        until = time.monotonic() + round.server.seconds("watch")
        is_seen = wanted.protocol == "tcp"
        while is_seen and not answers(round.server.entry, wanted.port):
            if time.monotonic() > until or round.log.exited:
                raise NotProven(f"nobody answers on port {wanted.port} (tcp) of {where}", round.evidence())
            round.log.hear(time.monotonic() + _PROBE_PAUSE)
        if wanted.probe is not None:
            _await_answer(round, wanted._replace(address=where), wanted.probe)
        elif not is_seen:
            note = f"port {wanted.port} (udp) of {where} cannot be looked at: its rulebook has no probe for it"
            round.journal.note(Step.PROVE, note)
            continue
        yield PortAnswers(wanted.port, wanted.protocol, where, answered=wanted.probe is not None)


def _await_port(round: Round, protocol: str, address: str, port: int) -> None:
    """See that the server's processes own the port, on the right address; some open it just after the ready sign."""
    until = time.monotonic() + round.server.seconds("watch")
    while True:
        process = round.driver.state().process
        owned = _owned_by(process, protocol, port)
        mine = [held for held in owned if (held.protocol, held.port) == (protocol, port)]
        if any(_same_address(held.address, address) for held in mine):
            return
        if mine and time.monotonic() > until:
            where = ", ".join(sorted({held.address for held in mine}))
            raise NotProven(f"it owns port {port} on {where}, not on {address}", round.evidence())
        if time.monotonic() > until or round.log.exited:
            raise NotProven(f"it does not own port {port} ({protocol})", round.evidence())
        # The system tells nobody when a port is opened; the log ends the pause early when the server says something.
        round.log.hear(time.monotonic() + _PORT_PAUSE)


def _owned_by(process: int | None, protocol: str, port: int) -> list[machine.OwnedPort]:
    """Return the ports of the server; of one whose process cannot be seen, whoever has this port."""
    if process is None:
        return []
    return machine.listening(machine.family(process)) if process else machine.holders(protocol, port)


def _same_address(owned: str, wanted: str) -> bool:
    if not wanted or owned == wanted:
        return True
    if wanted in ("0.0.0.0", "::", "*"):
        return owned in ("0.0.0.0", "::")
    try:
        found = socket.getaddrinfo(wanted, None)
    except OSError:
        return False
    return owned in {str(info[4][0]) for info in found}


def _await_answer(round: Round, wanted: WantedPort, probe: Probe) -> None:
    """See that the port answers the rulebook's probe. Raises NotProven.

    Without a ready sign nothing tells when the server begins to answer: it is asked again until its start takes too
    long.
    """
    until = 0.0 if round.has_ready_sign else round.probes_until
    while True:
        try:
            _probe(round, wanted, probe)
        except NotProven:
            # Between two questions the log is heard, which ends the pause where the server ends.
            if time.monotonic() > until or round.log.exited:
                raise
            round.log.hear(time.monotonic() + _PROBE_PAUSE)
        else:
            return


_PROBE_PAUSE = 0.2


def _probe(round: Round, wanted: WantedPort, probe: Probe) -> None:
    """Ask a port once. Raises NotProven where it does not answer as the rulebook says."""
    why = f"it is ready and owns port {wanted.port} ({wanted.protocol})"

    def fits(answer: bytes) -> bool:
        return is_answer(probe, answer, search)

    try:
        answer = ask_port(wanted.protocol, wanted.address, wanted.port, probe, fits)
    except OSError as error:
        message = f"{why}, and that port does not answer the rulebook's probe: {error.strerror or error}"
        # A port that is open but silent is what a hung server looks like from outside.
        raise NotProven(message, round.evidence()) from error
    if not fits(answer):
        seen = texts_of(answer)[0].strip()[:60]
        raise NotProven(f"{why}, and the rulebook's probe got another answer: {seen!r}", round.evidence())


# --- values ----------------------------------------------------------------------------------------------------------


def _prove_values(round: Round, files: ServerFiles, names: Sequence[str], read: list[str]) -> list[Fact]:
    """Read the changes back; ``read`` gets the names of those that the server confirms. Raises NotProven."""
    facts: list[Fact] = []
    unread = []
    asked = {
        setting.name: setting
        for setting in told_for([entry.operation for entry in round.operations], files)
        if setting.ask
    }
    for name in names:
        if name in asked and confirmed(round, asked[name]):
            read.append(name)
            continue
        spec = round.server.book.setting.get(name)
        counts = spec is not None and files.is_in_use(name) and not overriding(spec, files.names)
        found = read_back(round, name, spec) if spec is not None and counts else None
        if spec is None or found is None:
            unread.append(name)
            continue
        wanted = files.stored(name)
        if value_of(found[0], spec) != value_of(wanted, spec):
            shown = format_value(wanted, spec) if wanted is not None else "its default"
            why = f"{name} should be {shown}, but its {found[1].replace('-', ' ')} says {format_value(found[0], spec)}"
            raise NotProven(why, round.evidence())
        read.append(name)
        facts.append(ValueInForce(name, format_value(found[0], spec), found[1]))
    if unread:
        facts.append(ValuesUnread(tuple(unread)))
    return facts


def _taken_out(round: Round) -> list[KeyGone]:
    """Return which keys that no rulebook describes are gone although an earlier round wrote them."""
    gone = taken_out(round.server, round.store, round.server.read_only(files_of(round)).files)
    return [KeyGone(name, number) for name, number in gone.items()]


def files_of(round: Round) -> list[str]:
    """Name the files in which rounds wrote keys that no rulebook describes."""
    return sorted({name.partition(":")[0] for name in round.store.written(round.server.name) if ":" in name})
