"""Differences between the layers of a value, as text."""

from __future__ import annotations

from collections.abc import Iterable

from roundgate.core.layers import DifferenceCode, LayerDifference

_TEXTS = {
    DifferenceCode.ON_SLATE: "on the slate: {value}",
    DifferenceCode.NEEDS_RESTART: "on disk but not running: restart",
    DifferenceCode.NEEDS_NEW_WORLD: "on disk but not running: needs a restart and a new world",
    DifferenceCode.LIVE_UNTIL_STOP: "in force by the console; goes into the file at the next stop",
    DifferenceCode.LIVE_ONLY: "set at the console only: lost at the next restart",
    DifferenceCode.SERVER_DISAGREES: (
        "on disk, but the server says otherwise: changed at its console since, or it did not take the value"
    ),
    DifferenceCode.RESET_BY_OTHERS: "reset by something other than Round Gate since round {round}",
    DifferenceCode.GONE_FROM_FILE: (
        "written by round {round}, and no longer in the file: the server does not know it, or took it out"
    ),
}


def describe_difference(difference: LayerDifference) -> str:
    """Format one difference."""
    value = "to be taken out" if difference.value is None else difference.value
    return _TEXTS[difference.code].format(value=value, round=difference.round)


def beside_slate(differences: Iterable[LayerDifference]) -> list[LayerDifference]:
    """Leave out what waits on the slate: tables have a column for it."""
    return [difference for difference in differences if difference.code is not DifferenceCode.ON_SLATE]
