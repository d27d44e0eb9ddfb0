"""Times on a roster that end: bans for a week, ranks on trial."""

from __future__ import annotations

import re
from collections.abc import Collection
from datetime import date, timedelta
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from roundgate.core.people.book import Person

_DAYS = {"d": 1, "w": 7}


def end_of(word: str, today: date) -> date | None:
    """Read when a time on a roster ends: a day such as 2026-12-03, or so many days or weeks from today; else None."""
    span = re.fullmatch(r"(\d{1,4})\s*([dw])(?:ays?|eeks?)?", word.strip().lower())
    if span:
        return today + timedelta(days=int(span[1]) * _DAYS[span[2]])
    try:
        return date.fromisoformat(word.strip())
    except ValueError:
        return None


def is_over(end: str, today: date) -> bool:
    """Return whether a time that ends on a day is over: the day itself is one on which it no longer counts."""
    try:
        return date.fromisoformat(end[:10]) <= today
    except ValueError:
        return False


def end_on(person: Person, roster: str, places: Collection[str]) -> str:
    """Return the day on which somebody's time on a roster ends, as the people book has it; empty where it does not.

    ``places`` are the server's name and its tags, ``@all`` among them, as the book writes them. The server's own
    name counts before its tags.
    """
    found = {where: end for where, end in person.until.items() if where.rpartition("/")[2] == roster}
    known = sorted(places, key=lambda place: (place.startswith("@"), place))
    return next((found[f"{place}/{roster}"] for place in known if f"{place}/{roster}" in found), "")
