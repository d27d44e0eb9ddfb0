"""A round's process is ended by SIGKILL at every act on the disk; afterwards all is wholly old or wholly new.

Every statement to the journal and the books, and every file operation of the write and rewind steps.
"""

from __future__ import annotations

import os
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import psutil
import pytest

from conftest import SiteUnderTest, wait_for
from roundgate.core.operations.base import Operation
from roundgate.core.operations.lists import AddItem
from roundgate.core.operations.values import SetValue
from roundgate.host.drivers.keeper import KeeperDriver
from roundgate.host.errors import Busy
from roundgate.host.rounds.locking import held, refuse_broken_off
from roundgate.host.rounds.options import Options
from roundgate.host.rounds.process import launch
from roundgate.host.servers import Server
from roundgate.host.site import read_site
from roundgate.host.store import Store
from sampling import sampled

INJECT = str(Path(__file__).parent / "inject")
PARTS = 8
"""Into how many tests the crash points are parted, so that both cores have work."""

GOOD: list[Operation] = [
    SetValue("gullwind.properties", "boat.slots", "24", "16", "race.slots"),
    AddItem("courses.txt", "courses", "Lantern Run"),
]
BAD: list[Operation] = [*GOOD, SetValue("gullwind.properties", "tick.rate", "60", "30", "tick.rate")]


class Trial:
    """One server with its round's process under attack; all but that process is as in life."""

    def __init__(self, site: SiteUnderTest, operations: list[Operation]) -> None:
        self.site = site
        self.operations = operations
        self.home = site.folder / "regatta"
        self.server = Server(read_site(site.folder), "regatta")
        self.store = Store(self.server.site.state)
        self.driver = KeeperDriver(self.server)
        self.first: dict[str, bytes] = {}
        self.up()

    def close(self) -> None:
        self.driver.close()
        self.store.close()

    def up(self) -> None:
        self.driver.open()
        self.driver.follow()
        if not self.driver.state().runs:
            self.driver.start()
        while not self.driver.state().ready:
            self.driver.next_event(time.monotonic() + 5)

    def down(self) -> None:
        self.driver.expect_stop()
        self.driver.send("stop")
        while self.driver.state().runs:
            self.driver.next_event(time.monotonic() + 5)

    def files(self) -> dict[str, bytes]:
        return {path.name: path.read_bytes() for path in self.home.iterdir() if path.suffix in (".properties", ".txt")}

    def begin(self) -> None:
        """Bring all to where the round begins: old files, server up, changes on the slate."""
        self.store.take_off_slate([waiting.id for waiting in self.store.slate("regatta")])
        for name, data in self.first.items():
            (self.home / name).write_bytes(data)
        self.up()
        self.store.add_to_slate("regatta", self.operations, "test")

    def round(self, monkeypatch: pytest.MonkeyPatch, at: int) -> str:
        """Run a round that is ended at act ``at``, and wait until the keeper has it recovered; return its outcome."""
        monkeypatch.setenv("CRASH_AT", str(at))
        window = launch(self.server, self.store, Options())
        for _ in window.events():
            pass
        window.close()
        os.waitpid(window.process, 0)
        if not self.was_leased(window.number):  # nothing was touched; the next command closes it
            refuse_broken_off(self.server, self.store)
        wait_for(lambda: self.is_over(window.number), 40)
        row = self.store.round(window.number)
        return row.outcome if row else ""

    def was_leased(self, number: int) -> bool:
        """Return whether the round had taken hold of the server, so that the keeper has to see to it."""
        return any(line.step == "announce" for line in self.store.journal(number))

    def is_over(self, number: int) -> bool:
        row = self.store.round(number)
        if row is None or not row.outcome:
            return False
        try:
            with held(self.server, self.store):
                return True
        except Busy:
            return False


@pytest.fixture
def quick_site() -> Iterator[SiteUnderTest]:
    """A site in memory where there is one: a killed process loses nothing that it has written, synced or not."""
    memory = Path("/dev/shm")
    with tempfile.TemporaryDirectory(dir=memory if os.access(memory, os.W_OK) else None) as folder:
        site = SiteUnderTest(Path(folder))
        yield site
        site.end()


def points_of(done: list[str], step: str) -> list[int]:
    """Return the acts, from 1, at which to end a round: every statement to its books, and every act of ``step``.

    Only a sample is taken, and fewer of the way back: each costs a second and more.
    """
    begin, end = (done.index(f"journal {step} {mark}") + 1 for mark in ("begin", "end"))
    assert end - begin > 8, done[begin:end]
    words = ("journal", "INSERT", "UPDATE", "DELETE", "BEGIN", "COMMIT")
    books = [at for at, act in enumerate(done, start=1) if act.startswith(words)]
    found = sorted({*books, *range(begin, end + 1)})
    if step == "write":
        return list(sampled(found, 10))
    after = [at for at in found if at >= begin]
    return list(sampled(after, 16 if len(after) > 60 else 12))


@pytest.mark.parametrize("operations", [GOOD, BAD], ids=["proven", "rewound"])
@pytest.mark.parametrize("part", range(PARTS))
def test_a_crash_at_any_act_leaves_all_old_or_all_new_and_the_server_up(
    quick_site: SiteUnderTest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, part: int, operations: list[Operation]
) -> None:
    site = quick_site
    site.add("regatta", "server.name=Saltmarsh Regatta\nboat.slots=16\n", extra='watch = "0.02s"')
    trial = Trial(site, operations)
    trial.down()
    trial.first = trial.files()
    monkeypatch.setenv("PYTHONPATH", INJECT)
    monkeypatch.setenv("CRASH_COUNT", str(tmp_path / "count"))
    trial.begin()
    assert trial.round(monkeypatch, 0) == ("proven" if operations is GOOD else "rewound")
    done = (tmp_path / "count").read_text().split("\n")
    acts = len(done)
    trial.down()
    for at in points_of(done, "write" if operations is GOOD else "rewind")[part::PARTS]:
        trial.begin()
        outcome = trial.round(monkeypatch, at)
        where = f"act {at} of {acts}, {outcome}"
        assert trial.driver.state().ready, f"{where}: the server is down"
        assert not [path for path in trial.home.iterdir() if ".roundgate-" in path.name], where
        is_new = trial.store.slate("regatta") == []
        assert not (is_new and operations is BAD), where
        trial.down()
        new = {name: data.replace(b"boat.slots=16", b"boat.slots=24") for name, data in trial.first.items()}
        new["courses.txt"] += b"Lantern Run\n"
        assert trial.files() == (new if is_new else trial.first), where
    trial.close()


def test_with_the_keeper_dead_too_the_next_command_says_so_and_recover_finishes(site: SiteUnderTest) -> None:
    """As after a power cut: round and keeper end while the files are being written, one new, the other old."""
    site.add("regatta", "server.name=Saltmarsh Regatta\nboat.slots=16\n")
    site.ok("start")
    site.ok("set", "race.slots=24")
    site.ok("add", "courses", "Lantern Run")
    sabotage = site.folder / "sabotage"
    sabotage.mkdir()
    (sabotage / "sitecustomize.py").write_text(
        "import os, signal, sys\n"
        "if 'roundgate.host.rounds' in sys.orig_argv and 'run' in sys.orig_argv:\n"
        "    plain = os.unlink\n"
        "    seen = []\n"
        "    def cut(path, **more):\n"
        "        seen.append(path) if 'courses.txt.roundgate' in str(path) else None\n"
        "        if len(seen) == 2:\n"  # the first one clears the way, the second one is after the file's change
        "            for one in open(os.environ['KEEPERS']).read().split():\n"
        "                os.kill(int(one), signal.SIGKILL)\n"
        "            os.kill(os.getpid(), signal.SIGKILL)\n"
        "        plain(path, **more)\n"
        "    os.unlink = cut\n"
    )
    keepers = site.folder / "keepers"
    guard = psutil.Process(site.keeper_process("regatta")).ppid()
    keepers.write_text(f"{guard} {site.keeper_process('regatta')}")
    done = site.run("apply", "--yes", env={"PYTHONPATH": str(sabotage), "KEEPERS": str(keepers)})
    assert done.returncode == 4
    wait_for(lambda: site.keeper_process("regatta") is None)
    assert "Lantern Run" in site.text("regatta", "courses.txt") and site.value("regatta", "boat.slots") == "16"
    output = site.fails(4, "apply", "--yes")
    assert "was interrupted" in output and "roundgate rounds recover" in output and "will be put back" in output
    assert "will be put back" in site.run("status").stderr
    site.ok("rounds", "recover")
    assert "Lantern Run" not in site.text("regatta", "courses.txt")
    assert site.server_process("regatta") is not None
    assert "race.slots: 16 -> 24" in site.ok("slate")
    assert "no round was interrupted" in site.ok("rounds", "recover")


def test_a_keeper_that_lives_recovers_by_itself_though_nobody_looks(running: SiteUnderTest) -> None:
    running.ok("set", "race.slots=24")
    done = running.run("apply", "--yes", env={"PYTHONPATH": INJECT, "CRASH_AT": "journal stop begin"})
    assert done.returncode == 4 and "without a message" in done.stdout
    wait_for(lambda: "open" not in running.run("rounds").stdout)
    assert running.server_process("regatta") is not None
    assert os.environ.get("CRASH_AT") is None


def test_a_recovery_that_is_slow_to_end_keeps_nothing_else_from_being_recovered(site: SiteUnderTest) -> None:
    """Its process may go on for minutes after it has closed its round: it looks for the server in a public list."""
    site.add("regatta", extra='watch = "0.02s"')
    lingering = site.folder / "linger"
    lingering.touch()
    assert site.run("start", env={"PYTHONPATH": INJECT, "LINGER": str(lingering)}).returncode == 0
    for slots in ("24", "32"):
        site.ok("set", f"race.slots={slots}")
        done = site.run("apply", "--yes", env={"PYTHONPATH": INJECT, "CRASH_AT": "journal write begin"})
        assert done.returncode == 4
        wait_for(lambda: "open" not in site.run("rounds").stdout, 40)
        assert site.server_process("regatta") is not None
    first = site.server_process("regatta")
    assert first is not None
    psutil.Process(first).kill()
    wait_for(lambda: site.server_process("regatta") not in (None, first), 40)
    wait_for(lambda: "up" in site.run("status").stdout, 40)
    lingering.unlink()
    assert "proven" in site.ok("apply", "--yes")
