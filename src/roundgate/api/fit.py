"""What the servers of a site are promised on this machine: ports, memory and processor cores."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from contextlib import suppress
from decimal import Decimal
from pathlib import Path
from typing import NamedTuple

from roundgate.api.key_changes import ChangeOptions
from roundgate.api.server import OpenServer
from roundgate.core.files import ServerFiles
from roundgate.core.fleet.cores import TooFewCores, core_ranges, cores_in, overlaps, proposal
from roundgate.core.fleet.ports import PortClash, PortPromise, clashes, free_block
from roundgate.core.next_step import typed_command
from roundgate.core.operations.base import Operation
from roundgate.host import machine
from roundgate.host.errors import Trouble, WrongUsage
from roundgate.host.fleet.ports import ports_of

_NEW = ChangeOptions(new=True)
_NODES = Path("/sys/devices/system/node")


class MemoryPromise(NamedTuple):
    """How much memory a server may take, in bytes; None where nothing says so."""

    server: str
    setting: str
    size: int | None


class CorePromise(NamedTuple):
    """Which cores a server may use; None where it may use all."""

    server: str
    setting: str
    cores: frozenset[int] | None


class Machine(NamedTuple):
    """What this machine has."""

    memory: int
    """Bytes."""
    nodes: tuple[frozenset[int], ...]
    """The cores of each NUMA node; one node where the system shows none."""

    @property
    def cores(self) -> frozenset[int]:
        """All cores."""
        return frozenset(core for node in self.nodes for core in node)


class Survey(NamedTuple):
    """What is promised, with what waits on the slates."""

    machine: Machine
    ports: tuple[PortPromise, ...]
    clashes: tuple[PortClash, ...]
    foreign: dict[tuple[int, str], str]
    """Ports that are promised and that a process of somebody else holds now, with what it is."""
    memory: tuple[MemoryPromise, ...]
    cores: tuple[CorePromise, ...]
    shared: dict[int, list[str]]
    """Cores that more than one server has."""

    @property
    def promised(self) -> int:
        """The memory that is promised to all of them, in bytes."""
        return sum(promise.size or 0 for promise in self.memory)

    @property
    def beyond(self) -> dict[str, frozenset[int]]:
        """Cores that a server is promised and the machine does not have."""
        found = {
            promise.server: promise.cores - self.machine.cores for promise in self.cores if promise.cores is not None
        }
        return {server: cores for server, cores in found.items() if cores}

    @property
    def fits(self) -> bool:
        """Whether all promises can be kept."""
        return not (self.clashes or self.shared or self.beyond or self.promised > self.machine.memory)


def survey(servers: Sequence[OpenServer]) -> Survey:
    """Look at what servers are promised. Raises Trouble where a rulebook is broken."""
    found = [(server, _files(server)) for server in servers]
    ports = tuple(promise for server, files in found for promise in ports_of(server.server, files))
    memory = tuple(_memory(server, files) for server, files in found)
    cores = tuple(_cores(server, files) for server, files in found)
    given = {promise.server: promise.cores for promise in cores if promise.cores is not None}
    return Survey(
        this_machine(), ports, tuple(clashes(ports)), _foreign(servers, ports), memory, cores, overlaps(given)
    )


def _files(server: OpenServer) -> ServerFiles:
    return server.workspace.outcome(server.workspace.operations).after


def this_machine() -> Machine:
    """Describe what this machine has; the cores are those that this process may use."""
    import psutil

    usable = frozenset(os.sched_getaffinity(0))
    nodes = []
    for path in sorted(_NODES.glob("node[0-9]*"), key=lambda server: int(re.sub(r"\D", "", server.name))):
        try:
            cores = cores_in((path / "cpulist").read_text().strip()) & usable
        except (OSError, ValueError):
            continue
        if cores:
            nodes.append(cores)
    missing = usable - frozenset(core for node in nodes for core in node)
    return Machine(psutil.virtual_memory().total, tuple(nodes) + ((missing,) if missing or not nodes else ()))


def _foreign(servers: Sequence[OpenServer], ports: Sequence[PortPromise]) -> dict[tuple[int, str], str]:
    folders = {os.path.realpath(server.server.run_in) for server in servers}
    promised = {(promise.port, promise.protocol) for promise in ports}
    return {
        (owner.port, owner.protocol): machine.name_process(owner.process)
        for owner in machine.all_owned()
        if (owner.port, owner.protocol) in promised and machine.folder_of_process(owner.process) not in folders
    }


def _memory(server: OpenServer, files: ServerFiles) -> MemoryPromise:
    setting = server.book.server.memory
    value = files.counting(setting) if setting else None
    return MemoryPromise(server.name, setting, int(value) if isinstance(value, Decimal | int) else None)


def _cores(server: OpenServer, files: ServerFiles) -> CorePromise:
    setting = server.book.server.cores
    value = files.counting(setting) if setting else None
    return CorePromise(server.name, setting, cores_in(str(value)) if value else None)


def ports_for(servers: Sequence[OpenServer], server: OpenServer, start: int = 0) -> dict[str, int]:
    """Return the next free block of ports for a server: its settings, each with its new number.

    What the other servers are promised and what is open on this machine now is taken. Raises Trouble.
    """
    files = _files(server)
    wanted = ports_of(server.server, files)
    if not any(promise.setting for promise in wanted):
        raise Trouble(f"No setting of {server.name} holds a port.", typed_command("explain", server.name))
    others = [other for other in servers if other.name != server.name]
    taken = {(promise.port, promise.protocol) for other in others for promise in ports_of(other.server, _files(other))}
    own = {(promise.port, promise.protocol) for promise in wanted}
    open_now = {(port.port, port.protocol) for port in machine.all_owned()} - own
    begin = start or min(promise.port for promise in wanted if promise.setting)
    found = free_block(wanted, taken | open_now, begin)
    if found is None:
        do = typed_command("fit ports", options=("--for", server.name, "--from", "20000"))
        raise Trouble(f"There is no free block of ports from {begin} on.", do)
    return found


def cores_given(
    servers: Sequence[OpenServer], give: int, spare: int, others: Sequence[OpenServer]
) -> list[tuple[OpenServer, list[Operation]]]:
    """Make the operations that share cores out among servers; cores of ``others`` are left to them.

    Raises Trouble where there are too few, WrongUsage where a rulebook knows of no cores.
    """
    without = [server.name for server in servers if not server.book.server.cores]
    if without:
        cause = f"The rulebook of {', '.join(without)} names no setting that holds cores."
        raise WrongUsage(cause, 'It needs [server] cores = "SETTING".')
    kept = frozenset(core for other in others for core in (_cores(other, _files(other)).cores or ()))
    try:
        shared = proposal([server.name for server in servers], give, spare, this_machine().nodes, kept)
    except TooFewCores as error:
        fewer = _most_cores([server.name for server in servers], give, spare, kept)
        hint = f"Give at most {fewer} to each." if fewer else "There is not one for each: name fewer servers."
        raise Trouble(str(error), hint) from error
    made = []
    for server in servers:
        word = f"{server.book.server.cores}={core_ranges(shared[server.name])}"
        made.append((server, server.key_changes(_NEW).operations_of([word])))
    return made


def _most_cores(names: Sequence[str], give: int, spare: int, kept: frozenset[int]) -> int:
    """Return how many cores each server can get, below ``give``; 0 where there is not one for each."""
    for fewer in range(give - 1, 0, -1):
        with suppress(TooFewCores):
            proposal(names, fewer, spare, this_machine().nodes, kept)
            return fewer
    return 0
