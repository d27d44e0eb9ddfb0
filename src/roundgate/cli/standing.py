"""How a server stands: up or down, who is on it, what waits, and what differs between its layers."""

from __future__ import annotations

import time
from collections.abc import Sequence
from typing import Any

from msgspec import Struct

from roundgate.core.files import plain_form
from roundgate.core.layers import Known, Layers, layers_of
from roundgate.core.rescue import rescue
from roundgate.core.slate import Operation
from roundgate.core.values.units import say_seconds
from roundgate.host.drivers import driver_of
from roundgate.host.drivers.protocol import RunState
from roundgate.host.errors import Trouble
from roundgate.host.servers import Server
from roundgate.host.store import Store, value_digest


class Standings(Struct, frozen=True):
    """What ``status`` says of one server."""

    server: Server
    state: RunState
    slots: str
    address: str
    waiting: int
    layers: list[Layers]
    remarks: list[str]

    @property
    def word(self) -> str:
        """The state in a word."""
        if self.state.runs:
            return "up" if self.state.ready or not self.server.book.server.ready else "starting"
        if self.state.gave_up:
            return "crashed"
        return "restarting" if self.state.restarting else "down"

    @property
    def since(self) -> str:
        """How long it has been up."""
        return say_seconds(int(time.time() - self.state.started)) if self.state.started else ""

    def row(self) -> tuple[str, ...]:
        """Give the row of the table."""
        players = f"{self.state.players} of {self.slots}" if self.state.runs and self.slots else ""
        waits = f"{self.waiting} on the slate" if self.waiting else ""
        differing = [one.name for one in self.layers if one.differences and not _only_slate(one)]
        more = f" and {len(differing) - 2} more" if len(differing) > 2 else ""
        return (self.server.name, self.word, self.since, players, self.address, waits, ", ".join(differing[:2]) + more)

    def as_json(self) -> dict[str, Any]:
        """Give it for JSON; field names are stable."""
        return {
            "server": self.server.name,
            "state": self.word,
            "since": self.state.started,
            "process": self.state.process,
            "players": self.state.players if self.state.runs else None,
            "slots": self.slots or None,
            "address": self.address or None,
            "on-slate": self.waiting,
            "differs": {one.name: list(one.differences) for one in self.layers if one.differences},
            "remarks": self.remarks,
        }


def _only_slate(layers: Layers) -> bool:
    return all(words.startswith("on the slate") for words in layers.differences)


def known_of(
    server: Server,
    store: Store,
    state: RunState,
    asked: dict[str, str] | None = None,
    also: Sequence[str] = (),
) -> Known:
    """Gather what is known of a server's values; ``also`` are files to read that its rulebook does not name."""
    operations: list[Operation] = [one.operation for one in store.slate(server.name)]
    now, outcome = server.outcome(operations, also)
    drifted = {
        name: number
        for name, (number, mark) in store.written(server.name).items()
        if name in server.book.setting
        and value_digest(server.name, name, plain_form(server.book, name, now.files.stored(name))) != mark
    }
    started = server.read_started() if state.runs else None
    live = store.live(server.name, state.started) if state.started else None
    return Known(now.files, outcome.after, started, live, asked, drifted)


def standing_of(server: Server, store: Store) -> Standings:
    """Work out how a server stands."""
    driver = driver_of(server)
    try:
        state = driver.state()
        known = known_of(server, store, state)
    finally:
        driver.close()
    layers = [layers_of(name, known) for name in server.book.setting]
    ports = server.book.server.port
    address = ""
    if ports:
        host = known.disk.counting(ports[0].address) if ports[0].address else ""
        address = f"{host}:{known.disk.counting(ports[0].setting)}"
    counted = server.book.server.slots
    slots = str(known.started.counting(counted)) if known.started and counted else ""
    remarks = _remarks(server, state, known, layers)
    return Standings(server, state, slots, address, len(store.slate(server.name)), layers, remarks)


def _remarks(server: Server, state: RunState, known: Known, layers: list[Layers]) -> list[str]:
    remarks = [
        f"{one.name}: {words}" for one in layers for words in one.differences if not words.startswith("on the slate")
    ]
    saved = rescue(known.disk, known.started, ())
    if saved:
        remarks.append("edits in a file that the server rewrites when it stops; 'roundgate apply' or 'stop' keeps them")
    if known.started:
        for name in server.book.list:
            if known.disk.items(name) != known.started.items(name):
                remarks.append(f"{name}: on disk but not running: restart")
    if state.gave_up:
        remarks.append(f"crashed {state.crashes + 1} times and was given up; see: roundgate log {server.name}")
    if not state.runs:
        remarks += _outside(server)
    return remarks


def _outside(server: Server) -> list[str]:
    """Say where a server that no keeper holds runs all the same."""
    from roundgate.host.rounds.obstacles import refuse_outsiders

    try:
        refuse_outsiders(server, RunState())
    except Trouble as error:
        return [error.what]
    return []
