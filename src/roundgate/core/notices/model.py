"""A notice: what happened to which server, and the fields that the text of a message may name."""

from __future__ import annotations

from enum import StrEnum
from typing import Any

from msgspec import Struct

from roundgate.core.patterns import lazy


class NoticeEvent(StrEnum):
    """What a notice is about. The values are written in the site file and sent, so they stay as they are."""

    PLANNED = "planned"
    """A round waits for its time, for an empty server, or counts down."""
    CALLED_OFF = "called-off"
    """A round that was planned does not take place."""
    GOING_DOWN = "going-down"
    """The server is being stopped."""
    UP_AGAIN = "up-again"
    """The server is up as was asked for, or again after a crash."""
    REWOUND = "rewound"
    """A change was not proven and was put back."""
    FAILED = "failed"
    """A round ended otherwise than asked: the message says how the server is."""
    CRASHED = "crashed"
    """The server ended by itself."""
    GAVE_UP = "gave-up"
    """The server crashed too often and is no longer started again."""
    BACKUP_FAILED = "backup-failed"
    MISSED = "missed"
    """Something of the timetable did not take place."""
    FINDINGS = "findings"
    """A check of the timetable found something."""
    TEST = "test"
    """Somebody wants to see that notices arrive."""


class Notice(Struct, frozen=True):
    """One notice; times in seconds, ``at`` since 1970."""

    event: NoticeEvent
    message: str
    """All of it in a sentence or two, without secrets."""
    server: str = ""
    site: str = ""
    at: float = 0.0
    when: str = ""
    """The moment as people write it, with the zone: 2026-11-26 05:00 CET."""
    reason: str = ""
    """What a person gave as the reason."""
    expected: float | None = None
    """How long the server is likely to be away; None where nobody knows."""
    took: float | None = None
    """How long it was away; None where nobody knows."""
    round: int = 0
    """The number of the round; 0 where there is none."""


FIELDS = {
    "event": "what happened: one of the events of `on`",
    "message": "all of it in a sentence or two",
    "server": "the server",
    "site": "the site's name",
    "when": "the moment, with the zone",
    "reason": "what was given as --reason",
    "expected": "how long the server is likely to be away, as text; empty where nobody knows",
    "expected-seconds": "the same as a number",
    "took": "how long it was away, as text",
    "took-seconds": "the same as a number",
    "round": "the number of the round; 0 where there is none",
}
"""The fields that a template may name in braces, and what each holds."""
_FIELD = lazy(r"\{([a-z][a-z.-]*[\w-]*)\}")
SECRET = "secret."
"""What the name of a secret begins with, in braces."""


def fields_of(notice: Notice) -> dict[str, str | int]:
    """Return the fields of a notice by their names in templates."""
    from roundgate.core.values.units import format_seconds  # the site file names events; it needs no more of this

    return {
        "event": str(notice.event),
        "message": notice.message,
        "server": notice.server,
        "site": notice.site,
        "when": notice.when,
        "reason": notice.reason,
        "expected": "" if notice.expected is None else format_seconds(round(max(notice.expected, 1))),
        "expected-seconds": 0 if notice.expected is None else round(notice.expected),
        "took": "" if notice.took is None else format_seconds(round(max(notice.took, 1))),
        "took-seconds": 0 if notice.took is None else round(notice.took),
        "round": notice.round,
    }


def unknown_fields(template: Any) -> list[str]:
    """Return what a template names in braces and no notice has; secrets are none of a notice's."""
    return [name for name in names_in(template) if name not in FIELDS and not name.startswith(SECRET)]


def names_in(template: Any) -> list[str]:
    """Return all names in braces in a template: a text, or a tree with texts in it."""
    if isinstance(template, str):
        return _FIELD.findall(template)
    if isinstance(template, dict):
        return [name for part in template.values() for name in names_in(part)]
    if isinstance(template, list):
        return [name for part in template for name in names_in(part)]
    return []


def filled(template: Any, fields: dict[str, str | int]) -> Any:
    """Fill a template; in a tree every text is filled, so that no value can break out of its place.

    A text that is one field and nothing else becomes that field, a number where it is one. Unknown names stay.
    """
    if isinstance(template, dict):
        return {name: filled(part, fields) for name, part in template.items()}
    if isinstance(template, list):
        return [filled(part, fields) for part in template]
    if not isinstance(template, str):
        return template
    whole = _FIELD.fullmatch(template)
    if whole is not None and whole[1] in fields:
        return fields[whole[1]]
    return _FIELD.sub(lambda match: str(fields.get(match[1], match[0])), template)
