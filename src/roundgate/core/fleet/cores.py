"""Processor cores that servers are promised: which overlap, and a proposal that shares them out."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import pairwise


class TooFewCores(ValueError):
    """More cores are to be given than there are; the message says how many are missing."""


def core_ranges(cores: Sequence[int] | frozenset[int] | set[int]) -> str:
    """Write cores as people do: ``0,2-3``."""
    ordered = sorted(cores)
    starts = [at for at, core in enumerate(ordered) if at == 0 or core != ordered[at - 1] + 1]
    parts = []
    for begin, end in pairwise([*starts, len(ordered)]):
        first, last = ordered[begin], ordered[end - 1]
        parts.append(str(first) if first == last else f"{first}-{last}")
    return ",".join(parts)


def cores_in(text: str) -> frozenset[int]:
    """Read cores as people write them: ``0,2-3``. Raises ValueError."""
    found: set[int] = set()
    for part in text.split(","):
        first, _, last = part.partition("-")
        found.update(range(int(first), int(last or first) + 1))
    return frozenset(found)


def mask(cores: Sequence[int] | frozenset[int] | set[int]) -> str:
    """Write cores as a mask in hexadecimal digits: cores 0, 2 and 3 are ``0xd``."""
    return f"0x{sum(1 << core for core in cores):x}"


def overlaps(given: Mapping[str, frozenset[int]]) -> dict[int, list[str]]:
    """Return the cores that more than one server has, each with the servers."""
    holders: dict[int, list[str]] = {}
    for server, cores in given.items():
        for core in cores:
            holders.setdefault(core, []).append(server)
    return {core: servers for core, servers in sorted(holders.items()) if len(servers) > 1}


def proposal(
    servers: Sequence[str],
    give: int,
    spare: int,
    nodes: Sequence[frozenset[int]],
    kept: frozenset[int] = frozenset(),
) -> dict[str, frozenset[int]]:
    """Share cores out: ``give`` to each server, the first ``spare`` of the machine to none, none of ``kept``.

    A server's cores are next to each other, and of one NUMA node where that is possible. Raises TooFewCores.
    """
    machine = sorted(core for node in nodes for core in node)
    free = [core for core in machine[spare:] if core not in kept]
    if give * len(servers) > len(free):
        raise TooFewCores(
            f"{len(servers)} servers with {give} cores each need {give * len(servers)}, and {len(free)} are free of "
            f"{len(machine)}" + (f", with {spare} to spare." if spare else ".")
        )
    left = [[core for core in sorted(node) if core in set(free)] for node in nodes]
    found: dict[str, frozenset[int]] = {}
    for server in servers:
        node = next((group for group in left if len(group) >= give), None)
        rest = (node or sorted(core for group in left for core in group))[
            :give
        ]  # of several nodes, where none has enough
        found[server] = frozenset(rest)
        left = [[core for core in group if core not in found[server]] for group in left]
    return found
