"""Whatever befell a server before: after a crash it is started again, and once stopped it stays down.

What the keeper remembers of one event must not decide about a later one. Each life is a chain of events chosen by
chance; after each of them the server is where its owner wants it.
"""

from __future__ import annotations

import os
import random
import signal

import pytest

from background import status
from conftest import SiteUnderTest, change_keepers, wait_for
from sampling import sampled

EVENTS = 8
REFUSED = 31
"""A number of slots with which the server does not start."""


class Life:
    """One server, what is done to it, and whether it is to be up."""

    def __init__(self, site: SiteUnderTest) -> None:
        self.site = site
        self.home = site.add("regatta", "boat.slots=16\n", extra='grace = "0.3s"')
        script = self.home / "launch.sh"
        refuses = f"! grep -q '^boat.slots={REFUSED}' gullwind.properties || exit 1\nexec "
        script.write_text(script.read_text().replace("exec ", refuses))
        self.is_up = False
        self.slots = 16

    def process(self) -> int:
        """Return the server's process once it is up."""
        wait_for(lambda: status(self.site)["state"] == "up")
        process = self.site.server_process("regatta")
        assert process is not None
        return process

    def start(self) -> None:
        self.site.ok("start")
        self.is_up = True

    def stop(self) -> None:
        self.site.ok("stop")
        self.is_up = False

    def crash(self) -> None:
        process = self.process()
        os.kill(process, signal.SIGKILL)
        wait_for(lambda: self.site.server_process("regatta") not in (None, process), 30)

    def restart(self) -> None:
        before = self.process()
        self.site.ok("restart")
        assert self.process() != before

    def apply(self) -> None:
        self.slots = self.slots % 30 + 1
        self.site.ok("set", f"race.slots={self.slots}")
        self.site.ok("apply", "--yes")
        assert self.site.value("regatta", "boat.slots") == str(self.slots)

    def apply_what_is_undone(self) -> None:
        """The start script refuses this one value."""
        self.site.ok("set", f"race.slots={REFUSED}")
        assert "is up" in self.site.fails(3, "apply", "--yes")
        self.site.ok("discard")

    def refuse_to_stop(self) -> None:
        (self.home / "sea-trials.txt").write_text("hang-at-stop\n")
        self.site.ok("restart")  # it reads its trials at its start
        assert "does not stop" in self.site.fails(1, "restart")
        (self.home / "sea-trials.txt").unlink()
        self.crash()

    def lose_keeper(self) -> None:
        process = self.process()
        before = self.site.kill_keeper("regatta")
        wait_for(lambda: self.site.keeper_process("regatta") not in (None, before), 30)
        assert self.process() == process

    def lose_keeper_and_guard(self) -> None:
        process = self.process()
        self.site.kill_keeper("regatta", with_guard=True)
        assert self.process() == process
        assert self.site.keeper_process("regatta") is not None


WHEN_UP = (
    Life.crash, Life.crash, Life.crash, Life.restart, Life.apply, Life.apply_what_is_undone, Life.refuse_to_stop,
    Life.lose_keeper, Life.lose_keeper_and_guard, Life.stop,
)  # fmt: skip
WHEN_DOWN = (Life.start, Life.start, Life.apply, Life.stop)


@pytest.mark.parametrize("seed", sampled(range(3), 3))
def test_a_server_is_where_its_owner_wants_it_whatever_befell_it(
    site: SiteUnderTest, monkeypatch: pytest.MonkeyPatch, seed: int
) -> None:
    change_keepers(site, monkeypatch, PAUSES=(0.05,) * 50)
    life = Life(site)
    life.start()
    chance = random.Random(seed)
    past: list[str] = []
    for _ in range(EVENTS):
        event = chance.choice(WHEN_UP if life.is_up else WHEN_DOWN)
        past.append(event.__name__)
        try:
            event(life)
            wait_for(lambda: status(site)["state"] == ("up" if life.is_up else "down"), 30)
        except AssertionError as error:
            raise AssertionError(f"after {', '.join(past)}: {error}") from error
    if life.is_up:
        life.crash()
    else:
        wait_for(lambda: site.keeper_process("regatta") is None)
        assert site.server_process("regatta") is None, past
