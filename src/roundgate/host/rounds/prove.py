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
from roundgate.core.records.live import told_for
from roundgate.core.rounds import Fact, KeyGone, PortOwned, PortsUnchecked, StayedUp, Step, ValueInForce, ValuesUnread
from roundgate.core.rulebook.model import Port, Probe
from roundgate.host import machine
from roundgate.host.drivers.protocol import exit_words
from roundgate.host.errors import Trouble
from roundgate.host.patterns import search
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.obstacles import wanted_ports
from roundgate.host.rounds.options import NotProven
from roundgate.host.rounds.reading import confirmed, look_at_world, read_back
from roundgate.host.written import taken_out

_PROBE_WITHIN = 3.0
_PORT_PAUSE = 0.05
_END_WITHIN = 1.0
"""Seconds to wait for the news that the server has ended, after a check has failed."""


class Proof(Struct, frozen=True):
    """What was seen, and which of the changes were read back and which were not."""

    facts: list[Fact]
    read: list[str]
    unread: list[str]


def prove(round: Round, files: ServerFiles, names: Sequence[str]) -> Proof:
    """Prove that the server is up with ``files`` in force; give what was seen.

    ``names`` are the settings and lists that changed. Raises NotProven.
    """
    began = time.monotonic()
    _no_failures(round)
    read: list[str] = []
    try:
        facts: list[Fact] = [*_prove_ports(round, files), *_prove_values(round, files, names, read)]
        facts += look_at_world(round, files, names)
        facts += _taken_out(round)
    except (NotProven, Trouble):
        _raise_if_ended(round)
        raise
    except Exception as error:
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
        raise _ended_soon(round.log.exit_code, round)


def _ended_soon(code: int | None, round: Round) -> NotProven:
    return NotProven(f"it ended soon after it was ready{exit_words(code)}", round.evidence())


def _watch(round: Round, until: float) -> None:
    """Watch for the server's end and for failures in its log."""
    round.journal.waits(Step.PROVE, "watching that it stays up", max(0.0, until - time.monotonic()))
    while event := round.log.hear(until):
        if event["event"] == "exit":
            raise _ended_soon(event["code"], round)
        if event["event"] == "line" and round.is_failure(str(event["text"])):
            raise NotProven(f"its log says: {str(event['text']).strip()}", round.evidence())


# --- ports -------------------------------------------------------------------------------------------------------


def _prove_ports(round: Round, files: ServerFiles) -> Iterator[PortOwned]:
    for protocol, address, port, setting in wanted_ports(round.server, files):
        ports = round.server.book.server.port
        spec = next(one for one in ports if (one.setting, one.protocol) == (setting, protocol))
        _await_port(round, protocol, address, port)
        if spec.probe:
            _probe(round, spec, address, port, spec.probe)
        yield PortOwned(port, protocol, address, answered=spec.probe is not None)


def _await_port(round: Round, protocol: str, address: str, port: int) -> None:
    """See that the server's processes own the port, on the right address; some open it just after the ready sign."""
    until = time.monotonic() + round.server.seconds("watch")
    while True:
        process = round.driver.state().process
        owned = machine.listening(machine.family(process)) if process else []
        mine = [one for one in owned if (one.protocol, one.port) == (protocol, port)]
        if any(_same_address(one.address, address) for one in mine):
            return
        if mine and time.monotonic() > until:
            where = ", ".join(sorted({one.address for one in mine}))
            raise NotProven(f"it owns port {port} on {where}, not on {address}", round.evidence())
        if time.monotonic() > until or round.log.exited:
            raise NotProven(f"it does not own port {port} ({protocol})", round.evidence())
        round.log.hear(time.monotonic() + _PORT_PAUSE)


def _same_address(owned: str, wanted: str) -> bool:
    if not wanted or owned == wanted:
        return True
    if wanted in ("0.0.0.0", "::", "*"):
        return owned in ("0.0.0.0", "::")
    try:
        found = socket.getaddrinfo(wanted, None)
    except OSError:
        return False
    return owned in {str(one[4][0]) for one in found}


def _probe(round: Round, spec: Port, address: str, port: int, probe: Probe) -> None:
    """See that the port answers the rulebook's probe. Raises NotProven."""
    host = "127.0.0.1" if address in ("", "0.0.0.0", "*") else "::1" if address == "::" else address
    try:
        answer = _asked(spec.protocol, host, port, probe.send)
    except OSError as error:
        why = f"it is ready and owns port {port} ({spec.protocol}), and that port does not answer the rulebook's probe"
        raise NotProven(f"{why}: {error.strerror or error}", round.evidence()) from error
    if not search(probe.match, answer):
        seen = answer.strip()[:60]
        why = f"it is ready and owns port {port} ({spec.protocol}), and the rulebook's probe got another answer"
        raise NotProven(f"{why}: {seen!r}", round.evidence())


def _asked(protocol: str, host: str, port: int, question: str) -> str:
    if protocol == "udp":
        kind = socket.AF_INET6 if ":" in host else socket.AF_INET
        with socket.socket(kind, socket.SOCK_DGRAM) as link:
            link.settimeout(_PROBE_WITHIN)
            link.connect((host, port))
            link.send(question.encode() + b"\n")
            return link.recv(65536).decode("utf-8", "replace")
    with socket.create_connection((host, port), _PROBE_WITHIN) as link:
        link.sendall(question.encode() + b"\n")
        return link.makefile("rb").readline(65536).decode("utf-8", "replace")


# --- values ----------------------------------------------------------------------------------------------------------


def _prove_values(round: Round, files: ServerFiles, names: Sequence[str], read: list[str]) -> list[Fact]:
    """Read the changes back; ``read`` gets the names of those that the server confirms. Raises NotProven."""
    facts: list[Fact] = []
    unread = []
    asked = {one.name: one for one in told_for([one.operation for one in round.operations], files) if one.ask}
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
    """Tell which keys that no rulebook describes are gone although an earlier round wrote them."""
    gone = taken_out(round.server, round.store, round.server.read_only(files_of(round)).files)
    return [KeyGone(name, number) for name, number in gone.items()]


def files_of(round: Round) -> list[str]:
    """Name the files in which rounds wrote keys that no rulebook describes."""
    return sorted({name.partition(":")[0] for name in round.store.written(round.server.name) if ":" in name})
