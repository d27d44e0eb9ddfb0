"""The tables ``[timetable.NAME]`` of the site file: what is done when, to which servers."""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import Meta, Struct, field

Deed = Literal["restart", "apply", "backup", "send", "check"]


def _about(words: str, example: str) -> Meta:
    return Meta(description=words, extra_json_schema={"examples": [example]})


class TimetableEntry(Struct, frozen=True, forbid_unknown_fields=True):
    """One ``[timetable.NAME]`` table."""

    do: Annotated[
        Deed,
        _about(
            "`restart`; `apply`: bring into force what waits, if anything does; `backup`: of the worlds; `send`: the "
            "`line` to the console; `check`: what is found is sent as a notice.",
            '"restart"',
        ),
    ]
    at: Annotated[list[str], _about("Times of day.", '["05:00"]')] = field(default_factory=list)
    days: Annotated[list[str], _about("On which weekdays; left out: all.", '["mon", "thu"]')] = field(
        default_factory=list
    )
    cron: Annotated[
        str, _about("In place of `at`: minute, hour, day, month and weekday as cron reads them.", '"0 5 1 * *"')
    ] = ""
    zone: Annotated[str, _about("The time zone; left out: the machine's.", '"Europe/London"')] = ""
    servers: Annotated[list[str], _about("For which servers, by name or by `@TAG`.", '["@ranked"]')] = field(
        default_factory=lambda: ["@all"]
    )
    line: Annotated[str, _about("send: the line for the console.", '"say Tea at four"')] = ""
    countdown: Annotated[str, _about("restart, apply: how long before the moment the players are told.", '"10m"')] = (
        "0s"
    )
    reason: Annotated[str, _about("restart, apply: what the players are told.", '"nightly restart"')] = ""
    when_empty: Annotated[bool, _about("restart, apply: wait until nobody is on the server.", "true")] = field(
        default=False, name="when-empty"
    )
    wait_at_most: Annotated[
        str, _about("With `when-empty`: after this long it is done although somebody is. Left out: no limit.", '"2h"')
    ] = field(default="", name="wait-at-most")
    silent: Annotated[bool, _about("restart, apply: go on where the players cannot be told.", "true")] = True
    whole: Annotated[bool, _about("backup: the whole folder, not only the worlds.", "true")] = False
    make_up: Annotated[
        str, _about("How late a moment that was missed is still made up for. Left out: it is not.", '"3h"')
    ] = field(default="", name="make-up")
