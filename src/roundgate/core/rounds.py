"""The terms of rounds: their kinds, steps, marks and outcomes, and the facts that prove one.

The values are stored in the site's state and printed as JSON, so they stay as they are.
"""

from __future__ import annotations

from enum import StrEnum
from typing import Literal

from msgspec import Struct


class RoundKind(StrEnum):
    """What a person asks for."""

    APPLY = "apply"
    REWIND = "rewind"
    RESTART = "restart"
    STOP = "stop"
    START = "start"
    LIVE = "live"
    RESTORE = "restore"


class Step(StrEnum):
    """What a round does, in the order in which it does it."""

    GATHER = "gather"
    ANNOUNCE = "announce"
    STOP = "stop"
    SAVE = "save"
    WRITE = "write"
    START = "start"
    TELL = "tell"
    PROVE = "prove"
    REWIND = "rewind"
    RECOVER = "recover"


class Mark(StrEnum):
    """What a line of a round's journal says of its step."""

    BEGIN = "begin"
    END = "end"
    """The step is done; the message is the seconds that it took."""
    NOTE = "note"
    FACT = "fact"
    """The message is a fact, as JSON."""


class RoundOutcome(StrEnum):
    """How a round ends."""

    PROVEN = "proven"
    """The changes are in force."""
    UNREAD = "unread"
    """The server is up with the new files; nobody could read the changes back."""
    WRITTEN = "written"
    """The changes are in the files, and the server is down, or was kept though it is not proven."""
    DONE = "done"
    """A start, stop or restart as asked."""
    REFUSED = "refused"
    """Nothing was touched."""
    BUSY = "busy"
    """Another round holds the server; nothing was touched."""
    CALLED_OFF = "called-off"
    """A person called it off before it wrote; nothing was changed."""
    FAILED = "failed"
    """Nothing was changed, and the server is as it was."""
    REWOUND = "rewound"
    """Not proven, and put back."""
    LOST = "lost"
    """The files are as they were, and the server does not come up with them."""
    UNFINISHED = "unfinished"
    """Not proven and not put back; the round stays open for ``recover``."""

    @property
    def went_well(self) -> bool:
        """Return whether what was asked for has happened and the server is as it should be."""
        return self in (RoundOutcome.PROVEN, RoundOutcome.UNREAD, RoundOutcome.DONE)


class PortOwned(Struct, frozen=True, tag_field="fact", tag="port-owned", rename="kebab"):
    """The server's processes own a port."""

    port: int
    protocol: str
    address: str
    """Empty for any address."""
    answered: bool
    """Whether it answered the rulebook's probe there."""


class PortAnswers(Struct, frozen=True, tag_field="fact", tag="port-answers", rename="kebab"):
    """A port of a rented server answers; whose it is cannot be seen from here."""

    port: int
    protocol: str
    address: str
    answered: bool
    """Whether it answered the rulebook's probe there."""


class ValueInForce(Struct, frozen=True, tag_field="fact", tag="value-in-force", rename="kebab"):
    """The running server says that it has the value of a setting."""

    name: str
    value: str
    source: Literal["start-log", "console", "query"]


class ValuesUnread(Struct, frozen=True, tag_field="fact", tag="values-unread", rename="kebab"):
    """Settings and lists that are in the files and that the server cannot be asked for."""

    names: tuple[str, ...]


class WorldKept(Struct, frozen=True, tag_field="fact", tag="world-kept", rename="kebab"):
    """The world was made with another value, which stays."""

    name: str
    world: str
    made: str
    wanted: str | None
    """What the files ask for; None for the default."""


class KeyGone(Struct, frozen=True, tag_field="fact", tag="key-gone", rename="kebab"):
    """A key that a round wrote is no longer in its file."""

    name: str
    round: int


class PortsUnchecked(Struct, frozen=True, tag_field="fact", tag="ports-unchecked", rename="kebab"):
    """The files cannot be looked at, so nobody knows which ports to look for."""

    error: str


class StayedUp(Struct, frozen=True, tag_field="fact", tag="stayed-up", rename="kebab"):
    """The server has stayed up for so many seconds."""

    seconds: int


Fact = PortOwned | PortAnswers | ValueInForce | ValuesUnread | WorldKept | KeyGone | PortsUnchecked | StayedUp
