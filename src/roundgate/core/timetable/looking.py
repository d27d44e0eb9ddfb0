"""What is due, by what is known to be done: each moment of an entry is taken once, whatever the clock does."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Literal

from msgspec import Struct

MomentOutcome = Literal["running", "done", "failed", "needless", "missed", "skip", "skipped"]
"""What became of a moment. ``skip``: somebody has asked for it to be left out. ``needless``: nothing was to be done."""

LATE = 150.0
"""Seconds after a moment in which it is still on time: machines are slow, and whoever looks does so once a minute."""
LONG_AGO = 8 * 24 * 3600.0
"""Seconds after which a missed moment is no longer told of: the machine was off for a week."""
SETTLED = 25 * 3600.0
"""Seconds after which a moment is not looked at any more; a clock that is set back by a day finds it done."""


class Due(Struct, frozen=True):
    """A moment that is to be carried out now."""

    at: float
    made_up: bool = False
    """Whether it was missed, and its entry says that it is made up for."""


class Look(Struct, frozen=True):
    """What one look at an entry finds; times in seconds since 1970."""

    due: Due | None
    missed: list[float]
    """Moments that nobody was there to carry out."""
    skipped: list[float]
    """Moments that are left out because somebody asked for it."""
    next: float | None
    """When to look again: the next moment, less the time that it is announced before."""
    known: float
    """From when on moments count."""


def look(
    moments: Callable[[float], Iterable[float]],
    known: float,
    now: float,
    taken: Mapping[float, MomentOutcome],
    *,
    lead: float = 0.0,
    make_up: float = 0.0,
) -> Look:
    """Find what is due of an entry.

    ``moments`` gives those after a time, in order; ``known`` is since when the entry is there; ``taken`` what became of
    earlier ones; ``lead`` how long before a moment its work begins; ``make_up`` how late one is still made up for.
    """
    known = min(known, now)  # a clock that was ahead
    due: Due | None = None
    missed: list[float] = []
    skipped: list[float] = []
    upcoming = None
    for at in moments(max(known, now - LONG_AGO)):
        if at - lead > now:
            upcoming = at - lead
            break
        outcome = taken.get(at)
        is_late = now - at > LATE
        if outcome == "skip":
            skipped.append(at)
        elif outcome is None or (outcome == "missed" and not is_late):
            if due is not None:
                missed.append(due.at)
                due = None
            if not is_late:
                due = Due(at)
            elif now - at <= make_up:
                due = Due(at, made_up=True)
            else:
                missed.append(at)
    return Look(due, missed, skipped, upcoming, max(known, now - SETTLED))
