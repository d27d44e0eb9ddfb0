"""What a round tells the terminal that watches it, one JSON object a line."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct, json

from roundgate.core.next_step import Advice
from roundgate.core.rounds import Fact, RoundOutcome, Step


class StepBegun(Struct, frozen=True, tag_field="event", tag="begin"):
    """A step begins."""

    step: Step
    message: str = ""


class StepDone(Struct, frozen=True, tag_field="event", tag="end"):
    """A step is done."""

    step: Step
    seconds: float


class Noted(Struct, frozen=True, tag_field="event", tag="note"):
    """Something that a person should know."""

    step: Step
    message: str


class Proved(Struct, frozen=True, tag_field="event", tag="fact"):
    """A fact that was seen."""

    fact: Fact


class Waits(Struct, frozen=True, tag_field="event", tag="wait"):
    """A wait begins; ``seconds`` is how long it is likely to take, None where nobody knows."""

    step: Step
    message: str
    seconds: float | None


class RoundEnded(Struct, frozen=True, tag_field="event", tag="ended"):
    """The round has ended, or stays open where its outcome is ``unfinished``."""

    outcome: RoundOutcome
    message: str
    do: Advice = ""
    evidence: Sequence[str] = ()


RoundEvent = StepBegun | StepDone | Noted | Proved | Waits | RoundEnded

_DECODER: json.Decoder[RoundEvent] = json.Decoder(RoundEvent)


def read_event(line: bytes) -> RoundEvent:
    """Read one line."""
    return _DECODER.decode(line)
