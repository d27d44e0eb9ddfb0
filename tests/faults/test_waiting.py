"""Rounds that wait: for a time of day, for a window that does not read; and who is taken for a round at work."""

from __future__ import annotations

import contextlib
import json
import os
import random
import signal
import socket
import time
from pathlib import Path

import psutil
import pytest
from msgspec import json as typed_json

from background import status
from conftest import SiteUnderTest
from roundgate.core.rounds import Step
from roundgate.host.keeper.config import socket_address
from roundgate.host.keeper.record import birth_of
from roundgate.host.rounds import announce as step
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.events import Noted, read_event
from roundgate.host.rounds.journal import Listener
from roundgate.host.rounds.locking import is_at_work
from roundgate.host.rounds.options import Options, RoundAborted
from roundgate.host.rounds.process import launch
from roundgate.host.servers import Server
from roundgate.host.site import read_site
from roundgate.host.store import Store


@pytest.fixture
def server(running: SiteUnderTest) -> Server:
    return Server(read_site(running.folder), "regatta")


def opened(server: Server, options: Options, events: int | None = None) -> tuple[Round, Store]:
    store = Store(server.site.state)
    number = store.open_round(server.name, options.kind, typed_json.encode(options), "wren", ran=True)
    row = store.round(number)
    assert row is not None
    return Round(server, store, row, events), store


def test_a_round_never_waits_for_its_window() -> None:
    """Nobody reads the pipe. Far more is told than it holds, and than is kept for it; the round goes on."""
    window, events = os.pipe()
    listener = Listener(events)
    signal.alarm(30)  # a blocked write would end the test by this
    try:
        for number in range(600):
            listener.tell(Noted(Step.ANNOUNCE, f"{number} " + "x" * 5000))
    finally:
        signal.alarm(0)
    assert listener.handle is None, "it is no longer told"
    os.close(window)


def test_a_window_that_reads_late_is_told_all_that_was_kept() -> None:
    window, events = os.pipe()
    listener = Listener(events)
    for number in range(100):
        listener.tell(Noted(Step.WRITE, f"{number} " + "x" * 5000))
    os.set_blocking(window, False)
    heard = b""
    while heard.count(b"\n") < 100:
        with contextlib.suppress(BlockingIOError):
            heard += os.read(window, 65536)
        listener.tell(Noted(Step.WRITE, "more"))
    told = [read_event(line) for line in heard.splitlines()[:100]]
    assert [row.message.split()[0] for row in told if isinstance(row, Noted)] == [str(number) for number in range(100)]
    os.close(window)


def test_a_time_of_day_is_kept_to_though_the_countdown_is_longer(server: Server) -> None:
    store = Store(server.site.state)
    at = time.time() + 2.0
    window = launch(server, store, Options(kind="restart", at=at, countdown=30.0))
    assert list(window.events())[-1].outcome == "done"
    window.close()
    began = next(line.at for line in store.journal(window.number) if (line.step, line.mark) == ("stop", "begin"))
    assert -0.05 < began - at < 5, began - at
    store.close()


def test_a_clock_that_is_set_during_the_wait_counts(server: Server, monkeypatch: pytest.MonkeyPatch) -> None:
    """An hour is to be waited for; the clock is set forward by as much, and the wait is over at the next look."""
    round, store = opened(server, Options())
    plain, shift = time.time, [0.0]
    monkeypatch.setattr(step, "_CLOCK_CHECKED", 0.05)
    monkeypatch.setattr(step.time, "time", lambda: plain() + shift[0])
    looks = []

    def hear(until: float | None, *, may_be_called_off: bool = False) -> None:
        looks.append(until)
        shift[0] = 3600.0 if len(looks) == 3 else shift[0]

    monkeypatch.setattr(round.log, "hear", hear)
    step._wait_until(round, plain() + 3600, "waiting")
    assert len(looks) == 3
    os.write(round.call_off._bell, b"!")
    with pytest.raises(RoundAborted, match="called off"):
        step._wait_until(round, plain() + 7200 + 3600, "waiting")
    store.close()


def test_another_process_with_the_number_of_a_dead_round_is_not_that_round(server: Server) -> None:
    store = Store(server.site.state)
    me, born = os.getpid(), birth_of(os.getpid())
    assert born is not None
    for birth, at_work in ((born, True), (born - 1, False), (0, False)):
        number = store.open_round("regatta", "apply", b"{}", "wren", process=me, birth=birth)
        row = store.round(number)
        assert row is not None and is_at_work(row) is at_work
        store.close_round(number, "failed", "")
    number = store.open_round("regatta", "apply", b"{}", "wren")
    row = store.round(number)
    assert row is not None and not is_at_work(row)
    store.close_round(number, "failed", "")
    store.close()


def _odd_value(dice: random.Random) -> object:
    return dice.choice(
        (None, True, -1, 0, 2**70, 1.5, "", "state", "SIGTERM\x00", "\ud800", [], {}, [[]], {"a": 1}, "x" * 9000)
    )


def test_the_keeper_outlives_whatever_is_said_to_it(running: SiteUnderTest) -> None:
    """Random messages: known and unknown questions with values of every kind, cut, joined and garbled."""
    dice = random.Random(8)
    keeper = running.keeper_process("regatta")
    state = str(running.folder / ".roundgate" / "servers" / "regatta")
    asks = ("state", "send", "follow", "stopping", "lease", "leave", "signal", "x", None, 7, [])
    fields = ("text", "on", "how", "round", "up", "name")
    for _ in range(400):
        message: object = {"ask": dice.choice(asks), **{dice.choice(fields): _odd_value(dice) for _ in range(2)}}
        if isinstance(message, dict) and message["ask"] == "signal":
            message["name"] = dice.choice(("SIGFOO", "", "Signals", "SIG_IGN", None, 15))
        data = bytearray(json.dumps(message).encode() + b"\n")
        if dice.random() < 0.3:
            data[dice.randrange(len(data))] = dice.randrange(256)
        with socket.socket(socket.AF_UNIX) as link, contextlib.suppress(OSError):
            address, handle = socket_address(state)
            try:
                link.settimeout(5)
                link.connect(address)
            finally:
                os.close(handle)
            link.sendall(bytes(data) * dice.choice((1, 1, 3)))
            if dice.random() < 0.5:
                link.recv(65536)
    assert running.keeper_process("regatta") == keeper and keeper is not None
    assert psutil.Process(keeper).memory_info().rss < 80_000_000
    assert status(running)["state"] in ("up", "starting", "restarting")
    assert Path(state).is_dir()
