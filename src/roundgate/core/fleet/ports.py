"""Ports that servers are promised: which clash, and where there is room for another server's."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from itertools import combinations
from typing import NamedTuple

_ANY = ("", "*", "0.0.0.0", "::")
HIGHEST = 65535


class PortPromise(NamedTuple):
    """A port that a server will open."""

    server: str
    setting: str
    """The setting that holds it; empty where no setting does."""
    plus: int
    """How much higher it is than the setting says, for a neighbour that the server takes too."""
    port: int
    protocol: str
    address: str
    """Empty: all addresses of the machine."""


class PortClash(NamedTuple):
    """Two servers, or one twice, that cannot both have a port."""

    one: PortPromise
    other: PortPromise


def overlap(one: str, other: str) -> bool:
    """Return whether two addresses have one port in common: on two of the machine's own they have not."""
    return one in _ANY or other in _ANY or one == other


def clashes(promises: Sequence[PortPromise]) -> Iterator[PortClash]:
    """Find promises that cannot be kept together."""
    by_port: dict[tuple[int, str], list[PortPromise]] = {}
    for promise in promises:
        by_port.setdefault((promise.port, promise.protocol), []).append(promise)
    for same in by_port.values():
        for one, other in combinations(same, 2):
            if overlap(one.address, other.address):
                yield PortClash(one, other)


def free_block(wanted: Sequence[PortPromise], taken: Collection[tuple[int, str]], start: int) -> dict[str, int] | None:
    """Return new numbers for the settings of a server, all of them together in the first free block; None for none.

    The ports keep their distances, and their neighbours; ``taken`` has numbers with their protocols. The block begins
    at ``start`` or above.
    """
    own = [promise for promise in wanted if promise.setting]
    if not own:
        return {}
    least = min(promise.port for promise in own)
    span = max(promise.port for promise in own) - least
    settings = {promise.setting: promise.port - promise.plus for promise in own}
    if span > _WIDEST:  # ports that lie far apart are no block: each setting gets its own
        return _each_by_itself(own, taken, start)
    for base in range(max(1024, start), HIGHEST - span + 1):
        if all((promise.port - least + base, promise.protocol) not in taken for promise in own):
            return {setting: number - least + base for setting, number in settings.items()}
    return None


_WIDEST = 200


def _each_by_itself(
    own: Sequence[PortPromise], taken: Collection[tuple[int, str]], start: int
) -> dict[str, int] | None:
    found: dict[str, int] = {}
    used = set(taken)
    for setting in dict.fromkeys(promise.setting for promise in own):
        block = free_block([promise for promise in own if promise.setting == setting], used, start)
        if block is None:
            return None
        found.update(block)
        used |= {(block[setting] + promise.plus, promise.protocol) for promise in own if promise.setting == setting}
    return found
