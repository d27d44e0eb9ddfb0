"""The moments of an entry: cron expressions in a time zone, worked out by a library.

At a clock change an hour is missing or there twice. A moment in the missing hour comes right after it; one in the hour
that is there twice comes once, but for entries of every hour or minute, which go by real time.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterator, Sequence
from datetime import datetime, tzinfo

from roundgate.core.patterns import lazy

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_TIME = lazy(r"([01]?[0-9]|2[0-3]):([0-5][0-9])")


class WrongMoment(ValueError):
    """A time, a weekday or an expression that cannot be read; the message says why."""


def expressions(at: Sequence[str], days: Sequence[str], cron: str) -> tuple[str, ...]:
    """Return the cron expressions of an entry: its own, or those for its times of day. Raises WrongMoment."""
    if bool(at) == bool(cron):
        raise WrongMoment("it needs 'at', such as \"05:00\", or 'cron', and not both")
    if cron:
        if days:
            raise WrongMoment("'days' goes with 'at'; a cron expression has the days in it")
        return (cron,)
    odd = next((day for day in days if day.lower()[:3] not in DAYS), None)
    if odd is not None:
        raise WrongMoment(f"'{odd}' is not a weekday: {', '.join(DAYS)}")
    numbers = ",".join(str((DAYS.index(day.lower()[:3]) + 1) % 7) for day in days) or "*"
    found = []
    for text in at:
        match = _TIME.fullmatch(text)
        if match is None:
            raise WrongMoment(f"'{text}' is not a time of day: write it like 05:00")
        found.append(f"{int(match[2])} {int(match[1])} * * {numbers}")
    return tuple(found)


def check_expressions(crons: Sequence[str]) -> None:
    """See that every expression can be read, and comes round at all. Raises WrongMoment."""
    from cronsim import CronSim, CronSimError

    for cron in crons:
        try:
            next(CronSim(cron, datetime(2026, 1, 1)))
        except CronSimError as error:
            raise WrongMoment(f"'{cron}' is not a cron expression: {str(error).lower()}") from error
        except StopIteration as error:
            raise WrongMoment(f"'{cron}' never occurs") from error
        if len(cron.split()) != 5:
            raise WrongMoment(f"'{cron}' has not five parts: minute, hour, day, month, weekday")


def moments_after(crons: Sequence[str], zone: tzinfo, after: float) -> Iterator[float]:
    """Yield the moments of an entry after one, in order and each once, all in seconds since 1970."""
    from cronsim import CronSim

    begin = datetime.fromtimestamp(after, zone)
    last = after
    for moment in heapq.merge(*(map(datetime.timestamp, CronSim(cron, begin)) for cron in crons)):
        if moment > last:
            yield moment
            last = moment
