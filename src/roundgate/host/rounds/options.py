"""What a person asks of a round, and what breaks a round off."""

from __future__ import annotations

from msgspec import Struct

from roundgate.core.next_step import Advice
from roundgate.core.rounds import RoundKind, RoundOutcome


class Options(Struct, frozen=True):
    """The options of a round; times in seconds."""

    kind: RoundKind = RoundKind.APPLY
    countdown: float = 0.0
    reason: str = ""
    when_empty: bool = False
    empty_within: float = 0.0
    """How long to wait for an empty server before going on anyway; 0: as long as it takes."""
    at: float | None = None
    """The moment to stop at, in seconds since 1970."""
    backup: bool = False
    keep: bool = False
    """Keep the change even where it is not proven."""
    kill: bool = False
    silent: bool = False
    """Continue even if the players cannot be notified."""
    despite_errors: bool = False
    start: bool = False
    """Start a server that was down."""
    target: int = 0
    """For a rewind: the round to go back before; for a restore: the backup."""
    only: tuple[str, ...] = ()
    """For a restore: the files and folders of the backup; none: all."""
    reviewed: str = ""
    """The digest of what the person saw and agreed to; empty where nobody looked."""


class RoundAborted(Exception):
    """A round ends here, before anything was written."""

    def __init__(self, outcome: RoundOutcome, message: str, do: Advice = "") -> None:
        """Keep the outcome, what happened, and what to do."""
        super().__init__(message)
        self.outcome = outcome
        self.message = message
        self.do = do


class HalfWritten(Exception):
    """Some of a round's files are new, or may be, and the others are not; the message says why."""


class NotProven(Exception):
    """The server did not come up with the change in force; ``evidence`` are the log lines that show it."""

    def __init__(self, why: str, evidence: list[str]) -> None:
        """Keep the reason and the evidence."""
        super().__init__(why)
        self.why = why
        self.evidence = evidence
