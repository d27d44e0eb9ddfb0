"""One look at the timetable of a server: what is due is claimed, what was missed is told, and when to look again."""

from __future__ import annotations

import contextlib
import os
import sqlite3
import time
from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct, json

from roundgate.core.notices.model import Notice, NoticeEvent
from roundgate.core.timetable.looking import Due, look
from roundgate.host.notices.outbox import tell
from roundgate.host.site import Site
from roundgate.host.timetable.books import TimetableBooks
from roundgate.host.timetable.plan import PlannedEntry, timetable_of

NEXT_FILE = "timetable.json"
"""In a server's state folder: when its keeper is to have somebody look again."""


class DueNow(Struct, frozen=True):
    """What this process is to carry out."""

    entry: str
    at: float
    made_up: bool


def look_at(site: Site, server: str, now: float | None = None) -> tuple[list[DueNow], float | None]:
    """Claim what is due of a server's timetable, the earliest first; return it, and when to look again.

    Raises Trouble for a timetable that cannot be read, sqlite3.Error where nothing can be claimed: then nothing is due.
    """
    now = time.time() if now is None else now
    entries = [planned for planned in timetable_of(site) if server in planned.servers]
    due: list[DueNow] = []
    upcoming: list[float] = []
    books = TimetableBooks(site)
    try:
        for planned in entries:
            found, again = _look_at_entry(site, books, server, planned, now)
            due += [DueNow(planned.name, found.at, found.made_up)] if found is not None else []
            upcoming += [again] if again is not None else []
    finally:
        books.close()
    return sorted(due, key=lambda task: task.at), min(upcoming, default=None)


def _look_at_entry(
    site: Site, books: TimetableBooks, server: str, planned: PlannedEntry, now: float
) -> tuple[Due | None, float | None]:
    _tell_interrupted(site, books, server, planned, now)
    known = books.known_since(server, planned.name, planned.mark, now)
    taken = books.taken(server, planned.name, min(known, now))
    found = look(planned.moments, known, now, taken, lead=planned.lead, make_up=planned.make_up)
    claimed = found.due
    if claimed is not None and not books.claim(server, planned.name, claimed.at, again=not claimed.made_up):
        claimed = None  # somebody else looks too, and was faster
    for at in found.skipped:
        books.write(server, planned.name, at, "skipped", "left out as was asked for")
    _tell_missed(site, books, server, planned, found.missed)
    if found.known != known:
        books.settle(server, planned.name, planned.mark, found.known)
    return claimed, found.next


def _tell_interrupted(site: Site, books: TimetableBooks, server: str, planned: PlannedEntry, now: float) -> None:
    """Tell of what a process had begun that died, such as in a power cut; what may be made up for is free again."""
    for at in books.orphans(server, planned.name):
        again = now - at <= planned.make_up
        if again:
            books.release(server, planned.name, at)
            books.settle(server, planned.name, planned.mark, min(at, now) - 1)
        follows = "It is made up for now." if again else "It is not made up for."
        moment = planned.clock(at, "%Y-%m-%d %H:%M %Z")
        message = f"{planned.name} ({planned.entry.do}) of {server} at {moment} was interrupted. {follows}"
        tell(site, Notice(NoticeEvent.MISSED, message, server))


def _tell_missed(
    site: Site, books: TimetableBooks, server: str, planned: PlannedEntry, missed: Sequence[float]
) -> None:
    mine = books.miss(server, planned.name, missed, "no keeper or clock was running") if missed else []
    if mine:
        last = planned.clock(mine[-1], "%Y-%m-%d %H:%M %Z")
        times = f"{len(mine)} times, the last at {last}" if len(mine) > 1 else f"at {last}"
        message = f"{planned.name} ({planned.entry.do}) of {server} was missed {times}: no keeper or clock was running."
        tell(site, Notice(NoticeEvent.MISSED, message, server))


def write_next(state: str, moment: float | None) -> None:
    """Tell a server's keeper when to have somebody look again. On a full disk it looks once a minute anyway."""
    path = Path(state) / NEXT_FILE
    fresh = path.with_suffix(f".{os.getpid()}.new")
    with contextlib.suppress(OSError):
        handle = os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(handle, "wb") as file:
            file.write(json.encode({"due": moment}))
        fresh.replace(path)


def next_of(site: Site, server: str, now: float) -> list[tuple[PlannedEntry, float, bool]]:
    """Return the next moment of each entry of a server, the earliest first, and whether it is to be left out."""
    found = []
    taken: dict[str, dict[float, str]] = {}
    mine = [planned for planned in timetable_of(site) if server in planned.servers]
    if mine:
        with contextlib.suppress(sqlite3.Error, OSError):
            books = TimetableBooks(site)
            taken = {planned.name: {**books.taken(server, planned.name, now)} for planned in mine}
            books.close()
    for planned in mine:
        at = planned.next_moment(now)
        if at is not None:
            found.append((planned, at, taken.get(planned.name, {}).get(at) == "skip"))
    return sorted(found, key=lambda pair: pair[1])
