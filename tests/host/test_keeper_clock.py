"""The keeper's part in the timetable: it has somebody look when it is time, and not all the time where that fails."""

from __future__ import annotations

import json
import time
from pathlib import Path
from typing import Any

from roundgate.host.keeper.clock import WallClock


class Asked:
    """A clock whose waits are over at once, and what it has had done."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.calls: list[list[str]] = []
        config: Any = {"tick": ["look", str(folder), "regatta"]}
        self.clock = WallClock(str(folder), lambda: config, lambda words: not self.calls.append(words))

    def looks(self, times: int = 1) -> int:
        """Look so many times, and return how often somebody was asked so far."""
        for _ in range(times):
            self.clock._look_at = 0.0
            self.clock.look()
        return len(self.calls)

    def answers(self, due: float | None) -> None:
        """Write down what whoever looked has found."""
        (self.folder / "timetable.json").write_text(json.dumps({"due": due}))


def test_somebody_looks_when_it_is_time_and_once_for_each_moment(tmp_path: Path) -> None:
    asked = Asked(tmp_path)
    site = tmp_path / "roundgate.toml"
    site.write_text("[site]\n")
    assert asked.looks(5) == 0, "without a timetable nobody is asked"
    site.write_text('[timetable.tea]\ndo = "check"\n')
    assert asked.looks(20) == 1, "one that cannot be read is not tried again and again"
    assert asked.clock.wait() > 1.0
    asked.answers(time.time() + 3600)
    assert asked.looks(5) == 1 and 50 < asked.clock.wait() <= 60
    asked.answers(time.time() + 20)
    asked.looks()
    assert 15 < asked.clock.wait() <= 20
    asked.answers(time.time() - 1)
    assert asked.looks(5) == 2
    asked.answers(None)
    assert asked.looks(5) == 2
    site.write_text("[site]\n# no more\n")
    assert asked.looks(5) == 3, "whoever looks sees that nothing is planned any more"
    asked.answers(time.time() - 1)
    assert asked.looks(5) == 3
