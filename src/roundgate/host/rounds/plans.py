"""What each kind of round does, as data: the engine has one way through, and a plan says where it turns."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from roundgate.core.rounds import RoundKind


class Plan(Struct, frozen=True):
    """How a kind of round goes."""

    writes: Literal["slate", "at-stop-only", "earlier-files", "live-only", "backup"]
    """What goes into the files: all that waits; only what must not be lost at a stop; files of an earlier round;
    what a running server can be told of; or what a backup holds, besides what must not be lost at a stop."""
    ends_up: Literal["up", "as-it-was", "down"]
    """How the server is when the round has gone well; ``as-it-was`` lets a server that was down stay down."""
    refuses_errors: bool = False
    """Errors in the files end the round before anything is touched."""
    refuses_taken_ports: bool = True
    needs_rulebook: bool = True
    """A broken rulebook ends the round before anything is touched."""
    goes_on_despite: Literal["nothing", "mistakes", "anything"] = "nothing"
    """What the round survives when the files cannot be looked at: unforeseen mistakes only, or refusals too."""
    rewinds: bool = True
    """What is not proven is put back."""
    is_live: bool = False
    """The server runs on, and is told."""
    needs_down: bool = False
    """There is nothing to do where the server runs already."""


PLANS: dict[RoundKind, Plan] = {
    RoundKind.APPLY: Plan("slate", "as-it-was", refuses_errors=True),
    RoundKind.RESTART: Plan("at-stop-only", "up", refuses_errors=True),
    RoundKind.RESTORE: Plan("backup", "as-it-was", refuses_taken_ports=False),
    RoundKind.REWIND: Plan("earlier-files", "as-it-was", refuses_taken_ports=False),
    RoundKind.START: Plan("at-stop-only", "up", goes_on_despite="mistakes", rewinds=False, needs_down=True),
    RoundKind.STOP: Plan(
        "at-stop-only", "down", refuses_taken_ports=False, needs_rulebook=False, goes_on_despite="anything"
    ),
    RoundKind.LIVE: Plan("live-only", "as-it-was", refuses_errors=True, refuses_taken_ports=False, is_live=True),
}
