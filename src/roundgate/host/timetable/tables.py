"""The tables ``[timetable.NAME]`` of the site file: what is done when, to which servers."""

from typing import Literal

from msgspec import Struct, field

Deed = Literal["restart", "apply", "backup", "send", "check"]


class TimetableEntry(Struct, frozen=True, forbid_unknown_fields=True):
    """One ``[timetable.NAME]`` table."""

    do: Deed
    """`restart`; `apply`: bring into force what waits, if anything does; `backup`: of the worlds; `send`: the `line`
    to the console; `check`: what is found is sent as a notice.

    Example: "restart"
    """
    at: list[str] = field(default_factory=list)
    """Times of day.

    Example: ["05:00"]
    """
    days: list[str] = field(default_factory=list)
    """On which weekdays; left out: all.

    Example: ["mon", "thu"]
    """
    cron: str = ""
    """In place of `at`: minute, hour, day, month and weekday as cron reads them.

    Example: "0 5 1 * *"
    """
    zone: str = ""
    """The time zone; left out: the machine's.

    Example: "Europe/London"
    """
    servers: list[str] = field(default_factory=lambda: ["@all"])
    """For which servers, by name or by `@TAG`.

    Example: ["@ranked"]
    """
    line: str = ""
    """For `send`: the line for the console.

    Example: "say Tea at four"
    """
    countdown: str = "0s"
    """For `restart` and `apply`: how long before the moment the players are notified.

    Example: "10m"
    """
    reason: str = ""
    """For `restart` and `apply`: the message for the players.

    Example: "nightly restart"
    """
    when_empty: bool = field(default=False, name="when-empty")
    """For `restart` and `apply`: wait until nobody is on the server.

    Example: true
    """
    wait_at_most: str = field(default="", name="wait-at-most")
    """With `when-empty`: after this long it is done although somebody is. Left out: no limit.

    Example: "2h"
    """
    silent: bool = True
    """For `restart` and `apply`: continue where the players cannot be notified.

    Example: true
    """
    whole: bool = False
    """For `backup`: the whole folder, not only the worlds.

    Example: true
    """
    make_up: str = field(default="", name="make-up")
    """How late a moment that was missed is still made up for. Left out: it is not.

    Example: "3h"
    """
