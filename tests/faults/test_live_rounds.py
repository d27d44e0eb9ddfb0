"""Live rounds: a ban or a rank comes into force without a stop, proven at the console, or all is put back."""

from __future__ import annotations

import json
import os
import shutil
from pathlib import Path

import pytest

import roundgate
from conftest import BOOK, SiteUnderTest, wait_for
from faults.test_crashes import INJECT, Trial, quick_site
from roundgate.core.operations.base import Operation
from roundgate.core.operations.records import AddRecord, SetField
from roundgate.core.rounds import RoundKind
from roundgate.host.rounds.locking import refuse_broken_off
from roundgate.host.rounds.options import Options
from roundgate.host.rounds.process import launch
from sampling import sampled

__all__ = ["quick_site"]

DEMO = Path(roundgate.__file__).parent / "demo" / "site" / "regatta"
KNOT, WREN, SKUA, BANNED = "GW-4Z8Q-R7HB", "GW-7K3M-Q2XD", "GW-2H9V-L6RB", "GW-3X7Q-Z1PC"
CONFIRM = r"shows = '\bbanned\b'"


def with_book(site: SiteUnderTest, *changes: tuple[str, str]) -> None:
    """Give the site a rulebook of its own, changed in places."""
    source = BOOK
    for old, new in changes:
        assert old in source, old
        source = source.replace(old, new)
    (site.folder / "rulebooks").mkdir(exist_ok=True)
    (site.folder / "rulebooks" / "gullwind.toml").write_text(source)


@pytest.fixture
def quay(site: SiteUnderTest) -> SiteUnderTest:
    """A running server with rosters."""
    home = site.add("regatta")
    for name in ("officers.json", "ranks.yml", "banned.txt", "startup.cfg"):
        shutil.copy(DEMO / name, home)
    site.ok("start")
    return site


def who(site: SiteUnderTest, sailor: str) -> str:
    return site.ok("send", "regatta", f"who {sailor}")


def test_a_ban_is_in_force_at_once_and_the_server_is_not_stopped(quay: SiteUnderTest) -> None:
    process = quay.server_process("regatta")
    output = quay.ok("add", "regatta", "bans", KNOT, "name=Knot", "--until", "7d", "--now")
    assert (
        f"bans/{KNOT} is there, says its console" in output and "proven: In force on regatta, without a stop" in output
    )
    assert "banned until" in who(quay, KNOT)
    text = quay.text("regatta", "banned.txt")
    assert f"id: {KNOT}\nname: Knot\n" in text and f"id: {BANNED}" in text
    assert "the slate is empty" in quay.ok("slate", "regatta")
    quay.ok("remove", "regatta", f"bans/{KNOT}", "--now")
    assert "banned" not in who(quay, KNOT) and KNOT not in quay.text("regatta", "banned.txt")
    assert quay.server_process("regatta") == process
    shown = json.loads(quay.ok("rounds", "--json"))
    assert [(row["kind"], row["outcome"]) for row in shown[:2]] == [("live", "proven")] * 2


def test_what_the_server_reads_again_is_in_force_and_asked_for_where_it_can_be(quay: SiteUnderTest) -> None:
    process = quay.server_process("regatta")
    assert "officer harbourmaster" in who(quay, WREN)
    output = quay.ok("set", "regatta", "officers/Wren.rank=coxswain", "--now")
    assert "officers reload" in output and f"In force on regatta, without a stop: officers/{WREN}.rank" in output
    assert "officer coxswain" in who(quay, WREN) and quay.server_process("regatta") == process
    with_book(quay, ("live = { ask = \"who {id}\", shows = '\\bofficer {rank}\\b' }\n", ""))
    output = quay.ok("set", "regatta", "officers/Wren.rank=deckhand", "--now")
    assert f"cannot be asked for officers/{WREN}.rank" in output and "officer deckhand" in who(quay, WREN)
    quay.ok("set", "regatta", "officers/Wren.rank=marshal", "race.laps=4")
    assert f"officers/{WREN}.rank, race.laps: can also come into force without a restart" in quay.ok("slate", "regatta")
    output = quay.ok("apply", "regatta", "--live")
    assert "officer marshal" in who(quay, WREN) and "race.laps" in quay.ok("slate", "regatta"), output


@pytest.mark.parametrize(
    ("changes", "why"),
    [
        ([(CONFIRM, "shows = 'hanged'")], "does not confirm bans/"),
        ([('add = "ban {id} {name} {until}"', f'add = "unban {BANNED}"'), (CONFIRM, "shows = 'is'")], "wrote its file"),
    ],
)
def test_what_is_not_confirmed_is_put_back_in_the_file_and_on_the_server(
    quay: SiteUnderTest, changes: list[tuple[str, str]], why: str
) -> None:
    with_book(quay, *changes)
    before = quay.text("regatta", "banned.txt")
    process = quay.server_process("regatta")
    output = quay.fails(3, "add", "regatta", "bans", KNOT, "name=Knot", "--now")
    assert why in output and "was notified, and the slate is kept" in output
    assert quay.text("regatta", "banned.txt") == before and quay.server_process("regatta") == process
    assert "banned" not in who(quay, KNOT)
    assert f"bans/{KNOT}" in quay.ok("slate", "regatta")


def test_a_round_that_stops_the_server_asks_for_people_too(quay: SiteUnderTest) -> None:
    quay.ok("add", "regatta", "grants", KNOT, "--as", "3")
    quay.ok("remove", "regatta", "officers/Skua")
    output = quay.ok("apply", "regatta", "--yes")
    assert "regatta is up, and confirms that the change is in force" in output
    assert (
        f"grants/{KNOT} is there, says its console" in output and f"officers/{SKUA} is gone, says its console" in output
    )
    with_book(quay, ("shows = '\\bgrant {level}\\b'", "shows = 'grant 8'"))
    quay.ok("set", "regatta", f"grants/{KNOT}.level=5")
    assert "does not confirm grants/" in quay.fails(3, "apply", "regatta", "--yes")
    assert "grant 3" in who(quay, KNOT)


def test_a_server_that_is_down_or_cannot_be_told_is_said(quay: SiteUnderTest) -> None:
    output = quay.fails(2, "add", "regatta", "grants", KNOT, "--as", "3", "--now")
    assert "cannot apply that while it runs; it waits on the slate" in output
    quay.ok("discard", "regatta")
    quay.ok("stop")
    output = quay.fails(1, "add", "regatta", "bans", KNOT, "name=Knot", "--now")
    assert "is down, so there is nothing to tell" in output and "roundgate apply regatta" in output
    assert KNOT not in quay.text("regatta", "banned.txt")
    quay.ok("apply", "regatta", "--yes", "--start")
    assert "banned" in who(quay, KNOT)


GOOD: list[Operation] = [
    AddRecord("banned.txt", "bans", KNOT, (("id", KNOT), ("name", "Knot"))),
    SetField("officers.json", "officers", WREN, "rank", "coxswain", "harbourmaster"),
]


class LiveTrial(Trial):
    """A server that runs on while live rounds on it are ended."""

    def begin(self) -> None:
        self.store.take_off_slate([waiting.id for waiting in self.store.slate("regatta")])
        self.driver.send(f"unban {KNOT}")
        wait_for(lambda: KNOT not in (self.home / "banned.txt").read_text())
        for name, data in self.first.items():
            (self.home / name).write_bytes(data)
        self.driver.send("officers reload")
        self.store.add_to_slate("regatta", self.operations, "test")

    def files(self) -> dict[str, bytes]:
        return {name: (self.home / name).read_bytes() for name in ("banned.txt", "officers.json")}

    def round(self, monkeypatch: pytest.MonkeyPatch, at: int) -> str:
        monkeypatch.setenv("CRASH_AT", str(at))
        window = launch(self.server, self.store, Options(kind=RoundKind.LIVE))
        for _ in window.events():
            pass
        window.close()
        os.waitpid(window.process, 0)
        if not any(line.step == "save" for line in self.store.journal(window.number)):
            refuse_broken_off(self.server, self.store)
        wait_for(lambda: self.is_over(window.number), 40)
        row = self.store.round(window.number)
        return row.outcome if row else ""


@pytest.mark.parametrize("confirms", [True, False], ids=["proven", "rewound"])
@pytest.mark.parametrize("part", sampled(range(2), 2))
def test_a_crash_at_any_act_of_a_live_round_leaves_file_and_server_agreeing(
    quick_site: SiteUnderTest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, part: int, confirms: bool
) -> None:
    """Old or new, wholly, in the files and in what the server thinks; it is never stopped."""
    site = quick_site
    home = site.add("regatta")
    for name in ("officers.json", "ranks.yml", "banned.txt"):
        shutil.copy(DEMO / name, home)
    if not confirms:
        with_book(site, (CONFIRM, "shows = 'hanged'"))
    trial = LiveTrial(site, GOOD)
    trial.first = trial.files()
    process = site.server_process("regatta")
    monkeypatch.setenv("PYTHONPATH", INJECT)
    monkeypatch.setenv("CRASH_COUNT", str(tmp_path / "count"))
    trial.begin()
    assert trial.round(monkeypatch, 0) == ("proven" if confirms else "rewound")
    done = (tmp_path / "count").read_text().split("\n")
    first = done.index("journal write begin" if confirms else "journal rewind begin") + 1
    every = int(os.environ.get("STEP_OF_ACTS", "10"))  # each costs two seconds; 1 tries all
    for at in sampled(range(first + part, len(done) + 1, every), 7):
        trial.begin()
        outcome = trial.round(monkeypatch, at)
        where = f"act {at} of {len(done)} ({done[at - 1][:60]}), {outcome}"
        is_new = trial.store.slate("regatta") == []
        assert not (is_new and not confirms), where
        assert site.server_process("regatta") == process, where
        files = trial.files()
        assert (KNOT.encode() in files["banned.txt"]) == is_new, where
        assert (b"coxswain" in files["officers.json"]) == is_new, where
        assert is_new or files == trial.first, where
        assert ("banned" in who(site, KNOT)) == is_new, where
        assert ("coxswain" in who(site, WREN)) == is_new, where
    trial.close()
