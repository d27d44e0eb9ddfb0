"""What a change brings that only the other servers or the machine can tell: a port that is taken, cores beyond it."""

from __future__ import annotations

import os
from collections.abc import Iterator

from msgspec.structs import replace

from roundgate.core.checks import identity_of
from roundgate.core.checks.context import CheckContext
from roundgate.core.files import ServerFiles
from roundgate.core.findings import Finding
from roundgate.core.fleet.cores import core_ranges, cores_in
from roundgate.host.fleet.ports import other_ports, place_ports, ports_of, shared_ports
from roundgate.host.servers import Server


def clashes_brought(server: Server, before: ServerFiles, after: ServerFiles) -> list[Finding]:
    """Find what is wrong with a server's files among the others of its site, and was not before; it is waiting.

    The other servers are read only where one of its ports, or its cores, are others than before.
    """
    cores = server.book.server.cores
    same_cores = not cores or before.stored(cores) == after.stored(cores)
    if same_cores and ports_of(server, before) == ports_of(server, after):
        return []
    others = list(other_ports(server, {server.name}))
    found = [
        [*shared_ports([*place_ports(server, files), *others], {server.name}), *cores_beyond(server, files)]
        for files in (before, after)
    ]
    known = {identity_of(finding) for finding in found[0]}
    return [replace(finding, waiting=True) for finding in found[1] if identity_of(finding) not in known]


def cores_beyond(server: Server, files: ServerFiles) -> Iterator[Finding]:
    """Find processor cores that a server is promised and that this machine does not have."""
    name = server.book.server.cores
    entry = files.entry(name) if name else None
    value = files.counting(name) if entry is not None else None
    usable = frozenset(os.sched_getaffinity(0))
    beyond = cores_in(str(value)) - usable if value else frozenset()
    if entry is not None and beyond:
        context = CheckContext(server.name, files, {})
        place = context.entry_place(files.path_of(server.book.setting[name]), entry)
        cause = f"This machine has the cores {core_ranges(usable)}, and not {core_ranges(beyond)}."
        do = context.command("set", f"{name}={core_ranges(usable)}")
        yield context.finding("value-limit", "warning", place, cause, do, name)
