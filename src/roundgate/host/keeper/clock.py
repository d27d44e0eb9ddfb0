"""The keeper's part in the timetable: it knows when somebody must look, and starts the process that does.

What is due, and whether it is done already, is that process's business. So the keeper stays small, and one that is
restarted, or sleeps through an hour with its machine, does nothing twice.
"""

from __future__ import annotations

import json
import os
import time
from collections.abc import Callable

from roundgate.host.keeper.config import KeeperConfig

_EVERY = 60.0
"""Seconds between looks at the clock on the wall: it may be set, and a machine that sleeps does not count the time."""
_SOON = 2.0
"""Seconds until the keeper looks for what the process that it has started has written down."""
_UNANSWERED = 600.0
"""Seconds after which somebody is asked again where nothing new was written down: the timetable may have a mistake."""
_NEVER = float("inf")
_FILE = "timetable.json"


class WallClock:
    """Tells when the timetable is to be looked at."""

    def __init__(self, state: str, config: Callable[[], KeeperConfig], run: Callable[[list[str]], bool]) -> None:
        """Begin with a look as soon as there is a timetable. ``run`` starts a process."""
        self._path = os.path.join(state, _FILE)
        self._config = config
        self._run = run
        self._site: tuple[int, int] | None = None
        """The site file when it was last read: its time and its size."""
        self._has_timetable = False
        self._asked = -_NEVER
        """The moment of the monotonic clock at which somebody was last asked to look."""
        self._asked_for = _NEVER
        """The moment for which that was."""
        self._look_at = time.monotonic()

    def wait(self) -> float:
        """Return the seconds until the clock is to be looked at."""
        return max(0.0, self._look_at - time.monotonic())

    def look(self) -> None:
        """Have somebody look at the timetable where it is time, or where the site file is another one."""
        now = time.monotonic()
        if now < self._look_at:
            return
        command = self._config().get("tick")  # a keeper of an earlier version was told nothing of it
        self._look_at = now + _EVERY
        if not command:
            return
        is_new = self._read_site(command[-2])
        due = self._due() if self._has_timetable else _NEVER
        left = due - time.time()
        if is_new or (left <= 0 and (due != self._asked_for or now - self._asked >= _UNANSWERED)):
            self._asked, self._asked_for = now, due
            self._run(command)
            left = _SOON
        elif left <= 0:  # whoever was asked has not written anything down yet, or cannot
            left = _SOON if now - self._asked < _EVERY / 2 else _EVERY
        self._look_at = now + min(_EVERY, left)

    def _read_site(self, folder: str) -> bool:
        """Return whether the site file is another one, and has a timetable or had one."""
        path, had = os.path.join(folder, "roundgate.toml"), self._has_timetable
        try:
            found = os.stat(path)
            mark = (found.st_mtime_ns, found.st_size)
            if mark == self._site:
                return False
            with open(path, "rb") as file:
                self._has_timetable = b"[timetable" in file.read()
        except OSError:  # somebody is replacing it
            return False
        self._site = mark
        return had or self._has_timetable

    def _due(self) -> float:
        """Return the moment that whoever looked last has written down, in seconds since 1970."""
        try:
            with open(self._path, encoding="utf-8") as file:
                due = json.load(file)["due"]
        except (OSError, ValueError, KeyError, TypeError):
            return 0.0
        return _NEVER if due is None else float(due)
