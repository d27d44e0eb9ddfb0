"""The facts that prove a round, as text."""

from __future__ import annotations

from msgspec import MsgspecError, json

from roundgate.core.rounds import (
    Fact,
    KeyGone,
    PortAnswers,
    PortOwned,
    PortsUnchecked,
    StayedUp,
    ValueInForce,
    ValuesUnread,
    WorldKept,
)
from roundgate.core.values.units import format_seconds


def describe_fact(fact: Fact) -> str:
    """Format a fact."""
    match fact:
        case PortOwned(port, protocol, address, answered):
            text = f"owns port {port} ({protocol}) on {address or 'any address'}"
            return text + (f" and answers there by {protocol}" if answered else "")
        case PortAnswers(port, protocol, address, answered):
            return f"port {port} ({protocol}) of {address} answers" + (" the rulebook's probe" if answered else "")
        case ValueInForce(name, value, source):
            return f"{name} is {value}, says its {source.replace('-', ' ')}"
        case ValuesUnread(names):
            return f"in the files, but not read back (the rulebook does not say how): {', '.join(names)}"
        case WorldKept(name, world, made, wanted):
            wish = wanted if wanted is not None else "the default"
            return f"{name} is {made}: the world {world} was made with it; {wish} has no effect in it"
        case KeyGone(name, number):
            return (
                f"{name}, written by round {number}, is no longer in its file: the server does not know it, or took "
                "it out"
            )
        case PortsUnchecked(error):
            return f"its ports were not checked, as its files could not be read ({error})"
        case StayedUp(seconds):
            return f"has stayed up for {format_seconds(seconds)}"


def stored_fact(message: str) -> Fact | None:
    """Read a fact of the journal; None where it is none that this version knows."""
    decoder: json.Decoder[Fact] = json.Decoder(Fact)
    try:
        return decoder.decode(message)
    except MsgspecError:
        return None
