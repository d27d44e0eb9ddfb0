"""How a server stands: up or down, who is on it, what waits, and what differs between its layers."""

from __future__ import annotations

import os
import time
from collections.abc import Sequence
from contextlib import closing, nullcontext, suppress
from functools import partial
from typing import TYPE_CHECKING, Any, Literal

from msgspec import Struct
from msgspec.structs import replace

from roundgate.api.known import known_of
from roundgate.cli.screen.differences import beside_slate, describe_difference
from roundgate.core.layers import DifferenceCode, Known, LayerDifference, Layers, differing_layers
from roundgate.core.rescue import rescue
from roundgate.core.values.units import format_ahead, format_seconds
from roundgate.host.drivers import driver_of
from roundgate.host.drivers.protocol import Driver, RunState, describe_exit
from roundgate.host.errors import KeeperGone, OutOfReach, Trouble
from roundgate.host.fleet.one_look import one_look
from roundgate.host.life import life_of, recent_crashes
from roundgate.host.lobby import ListLook, known_look
from roundgate.host.logs.slow_patterns import slow_ones
from roundgate.host.people.book import ended_people
from roundgate.host.rounds.locking import is_at_work
from roundgate.host.rounds.options import Options
from roundgate.host.rulebooks import mistake_in
from roundgate.host.servers import Server
from roundgate.host.store import RoundRow, Store
from roundgate.host.workspace import Workspace

if TYPE_CHECKING:
    from roundgate.cli.screen.outputs import ServerOutput, StateWord

_ANSWER_WITHIN = 3.0
"""Seconds for a keeper to say how its server stands; one that hangs must not hide the others."""


class Remark(Struct, frozen=True):
    """Something that a person should know of a server: what it is about, and the text."""

    code: str
    text: str


class ServerState(Struct, frozen=True):
    """What ``status`` says of one server."""

    server: Server
    state: RunState
    slots: str = ""
    address: str = ""
    waiting: int = 0
    layers: list[Layers] = []
    """Those of the settings whose layers differ."""
    remarks: list[Remark] = []
    odd: Literal["", "no answer", "no folder", "out of reach", "not known"] = ""
    """A word for the state where nothing is known of the server."""
    round: RoundRow | None = None
    """The round that is at work on it."""
    crashes: int = 0
    """Crashes in the last day."""
    listed: ListLook | None = None

    @property
    def word(self) -> StateWord:
        """The state in a word."""
        if self.odd:
            return self.odd
        if self.state.runs:
            return "up" if self.state.ready or not self.server.book.server.ready else "starting"
        if any(remark.code == OUTSIDE for remark in self.remarks):
            return "up, not held"
        if self.state.gave_up:
            return "crashed"
        return "restarting" if self.state.restarting else "down"

    @property
    def since(self) -> str:
        """How long it has been up."""
        return format_seconds(int(time.time() - self.state.started)) if self.state.started else ""

    def row(self) -> tuple[str, ...]:
        """Return the row of the table."""
        players = f"{self.state.players} of {self.slots}" if self.state.runs and self.slots else ""
        waits = f"{self.waiting} on the slate" if self.waiting else ""
        differing = [layer.name for layer in self.layers if beside_slate(layer.differences)]
        more = f" and {len(differing) - 2} more" if len(differing) > 2 else ""
        return (self.server.name, self.word, self.since, players, self.address, waits, ", ".join(differing[:2]) + more)

    def output(self) -> ServerOutput:
        """Return it for JSON."""
        from roundgate.cli.screen.outputs import RemarkOutput, ServerOutput, difference_output

        return ServerOutput(
            server=self.server.name,
            state=self.word,
            since=self.state.started,
            process=self.state.process,
            players=self.state.players if self.state.runs else None,
            slots=int(self.slots) if self.slots.isdecimal() else None,
            address=self.address or None,
            on_slate=self.waiting,
            differs={layers.name: [difference_output(each) for each in layers.differences] for layers in self.layers},
            remarks=[RemarkOutput(remark.code, remark.text) for remark in self.remarks],
            round=self.round.number if self.round else None,
            crashes=self.crashes,
            listed=self.listed.shown if self.listed else None,
        )


OUTSIDE = "outside-any-keeper"
"""The remark on a server that runs, and that Round Gate does not hold."""
_MANY = 24
"""Servers from which on every core works on some: fewer are quicker in one process."""


def states_of(servers: Sequence[Server], store: Store) -> list[ServerState]:
    """Work out how servers stand. Each has its own row, whatever is wrong with it, and all are asked at once."""
    cores = os.cpu_count() or 1
    if len(servers) == 1:
        return _states_here(servers, store)
    if cores < 2 or len(servers) < _MANY:
        with closing(store.copied()) as copy:
            return _states_here(servers, copy)
    from concurrent.futures import ProcessPoolExecutor
    from multiprocessing import get_context

    parts = [servers[number::cores] for number in range(cores)]
    look = partial(_states_of_part, store.packed())
    with ProcessPoolExecutor(cores, get_context("fork")) as pool:
        made = list(pool.map(look, parts))
    found = [
        ServerState(server, **fields)
        for part, each in zip(parts, made, strict=True)
        for server, fields in zip(part, each, strict=True)
    ]
    order = {server.name: number for number, server in enumerate(servers)}
    return sorted(found, key=lambda state: order[state.server.name])


def _states_of_part(books: bytes, servers: Sequence[Server]) -> list[dict[str, Any]]:
    """Work out some in a process of their own, with a copy of the books; the server itself stays behind."""
    with closing(Store.unpacked(servers[0].site.state, books)) as store:
        found = _states_here(servers, store)
    return [{name: getattr(state, name) for name in state.__struct_fields__ if name != "server"} for state in found]


def _states_here(servers: Sequence[Server], store: Store) -> list[ServerState]:
    drivers = []
    for server in servers:
        driver = driver_of(server) if server.folder.is_dir() else None
        if driver is not None:
            with suppress(Trouble):
                driver.post_state()
        drivers.append(driver)
    until = time.monotonic() + _ANSWER_WITHIN
    with one_look() if len(servers) > 1 else nullcontext():
        return [_closing(server, store, driver, until) for server, driver in zip(servers, drivers, strict=True)]


def _closing(server: Server, store: Store, driver: Driver | None, until: float) -> ServerState:
    try:
        return _state_of(server, store, driver, until)
    finally:
        if driver is not None:
            driver.close()


def _state_of(server: Server, store: Store, driver: Driver | None, until: float) -> ServerState:
    if driver is None:
        remark = f"its folder {server.folder} is not there; correct 'folder' in the site file"
        return ServerState(server, RunState(), remarks=[Remark("folder-missing", remark)], odd="no folder")
    try:
        state = driver.posted_state(until)
    except OutOfReach as error:
        return ServerState(server, RunState(), remarks=[Remark("out-of-reach", error.what)], odd="out of reach")
    except KeeperGone:
        remark = "its keeper does not answer; if that persists, end it (it is started again): " + _kill_command(server)
        return ServerState(server, RunState(), remarks=[Remark("keeper-silent", remark)], odd="no answer")
    except Trouble as error:  # one server whose state nothing tells must not hide the others
        found = _state_with(server, store, RunState())
        return replace(found, remarks=[*found.remarks, Remark("state-not-known", error.what)], odd="not known")
    return _state_with(server, store, state)


def _kill_command(server: Server) -> str:
    from roundgate.host.keeper.lock import lock_holder

    return f"kill -9 {lock_holder(server.state) or 'KEEPER'}"


def _state_with(server: Server, store: Store, state: RunState) -> ServerState:
    remarks = _life_remarks(server, store, state)
    work = next((row for row in store.open_rounds(server.name) if is_at_work(row)), None)
    crashes = len(recent_crashes(life_of(server)))
    listed = known_look(server, state.started)
    try:
        known = known_of(Workspace(server, store.slate(server.name)), store, state)
        layers = differing_layers(known)
        address = _address(server, known)
        counted = server.book.server.slots
        slots = known.started.counting_text(counted) if known.started and counted else ""
        remarks += _remarks(server, state, known, layers)
    except Exception as error:  # noqa: BLE001 - whatever its files hold, a server has its row
        remarks.append(Remark("files-unreadable", _why_unreadable(server, error)))
        layers, address, slots = [], "", ""
    waiting = len(store.slate(server.name)) + len(store.odd_entries(server.name))
    return ServerState(server, state, slots, address, waiting, layers, remarks, "", work, crashes, listed)


def _why_unreadable(server: Server, error: Exception) -> str:
    """Describe why a server's files could not be looked at: most often, what nobody foresaw comes of its rulebook."""
    with suppress(Exception):
        mistake = mistake_in(server.entry.rulebook, server.site.folder)
        if mistake is not None:
            return mistake.what
    return f"its files could not be read: {getattr(error, 'what', None) or type(error).__name__}"


def _address(server: Server, known: Known) -> str:
    ports = server.book.server.port
    if not ports:
        return ""
    port = ports[0]
    host = known.disk.counting_text(port.address) if port.address else port.bind
    number = known.disk.counting(port.setting) if port.setting else port.number
    return f"{host}:{number + port.plus}" if isinstance(number, int) else ""


def _life_remarks(server: Server, store: Store, state: RunState) -> list[Remark]:
    """Describe what goes on with a server by itself: a round that waits, crashes, and whether players find it."""
    remarks = _planned_remarks(server)
    for row in store.open_rounds(server.name):
        if is_at_work(row):
            text = f"{describe_waits(row)}; to call it off: roundgate rounds cancel {server.name}"
            remarks.append(Remark("round-at-work", text))
    if state.recovering is not None:
        text = f"round {state.round} is being recovered by itself (try {state.recovering or 1})"
        remarks.append(Remark("round-recovering", text))
    crashes = recent_crashes(life_of(server))
    if crashes:
        last = crashes[-1]
        when = time.strftime("%H:%M:%S", time.localtime(last["at"]))
        times = f"{len(crashes)} times in the last day, last" if len(crashes) > 1 else "once in the last day,"
        message = f"; its last words: {_masked(server, last['words'][-1])}" if last["words"] else ""
        remarks.append(Remark("crashed", f"crashed {times} at {when}{describe_exit(last['code'])}{message}"))
    if state.gave_up:
        text = f"it is not restarted any more; see: roundgate log {server.name}, then: roundgate start {server.name}"
        remarks.append(Remark("gave-up", text))
    look = known_look(server, state.started)
    if look is not None and not look.shown:
        ago = format_seconds(max(1, int(time.time() - look.at)))
        text = "is being looked for in the public list" if look.going_on else "not found in the public list"
        text = f"{text}: {look.why} ({ago} ago); ask again: roundgate status {server.name} --list"
        remarks.append(Remark("not-listed", text))
    slow = list(dict.fromkeys((*state.slow_patterns, *slow_ones(server))))
    if slow:
        text = f"these patterns of its rulebook take too long and are disabled: {', '.join(slow)}"
        remarks.append(Remark("slow-pattern", text))
    odd = store.odd_entries(server.name)
    if odd:
        text = f"{len(odd)} entries on its slate cannot be read; 'roundgate discard {server.name}' takes all off"
        remarks.append(Remark("slate-unreadable", text))
    return remarks


def _planned_remarks(server: Server) -> list[Remark]:
    """Describe what the timetable has for a server next."""
    if not server.site.file.timetable:
        return []
    from roundgate.host.timetable.looking import next_of  # most sites have none

    now = time.time()
    try:
        found = next_of(server.site, server.name, now)
    except Trouble as error:
        return [Remark("timetable-unreadable", error.what)]
    if not found:
        return []
    planned, at, is_skipped = found[0]
    left = format_ahead(at - now)
    text = f"next: {planned.entry.do} at {planned.clock(at)}, in {left} ({planned.name})"
    return [Remark("planned", f"{text}, skipped" if is_skipped else text)]


def _masked(server: Server, line: str) -> str:
    from roundgate.host.masking import secrets_of, without

    return without(line, secrets_of(Workspace(server), ()))


def describe_waits(row: RoundRow) -> str:
    """Describe what a round that is at work waits for."""
    from msgspec import MsgspecError, json

    try:
        options = json.decode(row.options, type=Options)
    except MsgspecError:
        options = Options()
    since = time.strftime("%H:%M:%S", time.localtime(row.began))
    waits = []
    if options.at is not None:
        waits.append(f"until {time.strftime('%Y-%m-%d %H:%M', time.localtime(options.at))}")
    if options.when_empty:
        waits.append("until no players are on it")
    if options.countdown:
        waits.append(f"for a countdown of {format_seconds(int(options.countdown))}")
    text = f", waits {' and '.join(waits)}" if waits else " is at work"
    return f"round {row.number} ({row.kind}) of {row.by}, since {since}{text}"


def _remarks(server: Server, state: RunState, known: Known, layers: list[Layers]) -> list[Remark]:
    remarks = [
        Remark(each.code, f"{layer.name}: {describe_difference(each)}")
        for layer in layers
        for each in beside_slate(layer.differences)
    ]
    saved = rescue(known.disk, known.started, ())
    if saved:
        text = "edits in a file that the server rewrites when it stops; 'roundgate apply' or 'stop' keeps them"
        remarks.append(Remark("edited-while-running", text))
    if known.started:
        for name in server.book.list:
            if known.disk.items(name) != known.started.items(name):
                difference = LayerDifference(DifferenceCode.NEEDS_RESTART)
                remarks.append(Remark(difference.code, f"{name}: {describe_difference(difference)}"))
    over = ended_people(server, known.disk)
    if over:
        names = ", ".join(end.standing.record.value("name") or end.standing.id for end in over[:3])
        more = f" and {len(over) - 3} more" if len(over) > 3 else ""
        text = f"{names}{more}: the time on {over[0].standing.roster} is over; roundgate roster sync {server.name}"
        remarks.append(Remark("person-due", text))
    if not state.runs:
        remarks += _outside(server)
    return remarks


def _outside(server: Server) -> list[Remark]:
    """Describe where a server that no keeper holds runs anyway."""
    from roundgate.host.rounds.obstacles import refuse_outsiders

    try:
        refuse_outsiders(server, RunState())
    except Trouble as error:
        return [Remark(OUTSIDE, f"{error.what} To take it over: {error.do}")]
    return []
