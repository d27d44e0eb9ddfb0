"""An entry of the timetable as it can be worked with: its moments in its zone, its servers, its times in seconds."""

from __future__ import annotations

import os
from collections.abc import Iterator
from datetime import datetime, tzinfo
from functools import cached_property
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from roundgate.core.timetable.moments import WrongMoment, check_expressions, expressions, moments_after
from roundgate.core.values import ValueProblem
from roundgate.core.values.units import parse_seconds
from roundgate.host.errors import Trouble
from roundgate.host.site import Site
from roundgate.host.site_file.checking import SITE_FILE, servers_meant, unknown_server
from roundgate.host.site_file.tables import SiteFile
from roundgate.host.timetable.tables import TimetableEntry


class PlannedEntry:
    """One entry of a site's timetable. Making one checks it."""

    def __init__(self, name: str, entry: TimetableEntry, site: Site) -> None:
        """Read its times. Raises Trouble where one cannot be read."""
        self.name = name
        self.entry = entry
        self.site = site
        try:
            self.crons = expressions(entry.at, entry.days, entry.cron)
            check_expressions(self.crons)
            self.lead = _seconds(entry.countdown, "countdown")
            self.wait_at_most = _seconds(entry.wait_at_most, "wait-at-most")
            self.make_up = _seconds(entry.make_up, "make-up")
        except WrongMoment as error:
            raise Trouble(f"{SITE_FILE}: [timetable.{name}]: {error}.", f"Fix {SITE_FILE}.") from error
        self.zone = _zone(name, entry.zone)
        if bool(entry.line) != (entry.do == "send"):
            raise Trouble(
                f"{SITE_FILE}: [timetable.{name}]: 'line' goes with do = \"send\", and that with it.",
                f"Fix {SITE_FILE}.",
            )
        if entry.wait_at_most and not entry.when_empty:
            raise Trouble(
                f"{SITE_FILE}: [timetable.{name}]: 'wait-at-most' goes with when-empty = true.", f"Fix {SITE_FILE}."
            )

    @property
    def mark(self) -> str:
        """What makes it the same entry as before: an entry with another time is a new one."""
        return f"{' '.join(self.crons)} {self.zone_name} {self.entry.do}"

    @property
    def zone_name(self) -> str:
        """The name of its zone."""
        return str(self.zone)

    @cached_property
    def servers(self) -> list[str]:
        """The servers that it is for, in the order of the site file."""
        return servers_meant(self.site.file, self.entry.servers)

    def moments(self, after: float) -> Iterator[float]:
        """Return its moments after one, in seconds since 1970."""
        return moments_after(self.crons, self.zone, after)

    def next_moment(self, after: float) -> float | None:
        """Return the next one."""
        return next(self.moments(after), None)

    def clock(self, moment: float, form: str = "%H:%M") -> str:
        """Format a moment as the clocks of its zone show it."""
        return datetime.fromtimestamp(moment, self.zone).strftime(form)


def timetable_of(site: Site) -> list[PlannedEntry]:
    """Return a site's timetable. Raises Trouble for the first entry that cannot be read."""
    if _READ and _READ[0][0] is site.file:
        return _READ[0][1]
    planned = []
    for name, entry in site.file.timetable.items():
        odd = unknown_server(site.file, entry.servers)
        if odd:
            raise Trouble(f"{SITE_FILE}: [timetable.{name}]: there is no server '{odd}'.", "Name servers, or @TAG.")
        planned.append(PlannedEntry(name, entry, site))
    _READ[:] = [(site.file, planned)]
    return planned


_READ: list[tuple[SiteFile, list[PlannedEntry]]] = []
"""The timetable that was read last: ``status`` asks for that of one server after the other."""


def _seconds(text: str, key: str) -> float:
    try:
        return float(parse_seconds(text)) if text else 0.0
    except ValueProblem as error:
        raise WrongMoment(f"'{text}' as '{key}' is not a duration") from error


def _zone(name: str, given: str) -> tzinfo:
    if given:
        try:
            return ZoneInfo(given)
        except (ZoneInfoNotFoundError, ValueError, OSError) as error:
            raise Trouble(
                f"{SITE_FILE}: [timetable.{name}]: '{given}' is not a time zone.",
                'Write one such as "Europe/London", or leave it out for the machine\'s.',
            ) from error
    import tzlocal

    if "TZ" in os.environ:
        tzlocal.reload_localzone()
    return tzlocal.get_localzone()
