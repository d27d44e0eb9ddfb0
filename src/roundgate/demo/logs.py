"""Logs of the demo's servers: three weeks of made-up sailors who come and go, a file for each day, most compressed."""

from __future__ import annotations

import bz2
import gzip
import lzma
import os
import random
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path

import zstandard

_FIRST = [
    "Old",
    "Young",
    "Grey",
    "Little",
    "Tall",
    "Red",
    "Merry",
    "Silent",
    "Quick",
    "Lucky",
    "Salty",
    "Misty",
    "Bold",
]
_BIRDS = [
    "Avocet",
    "Bittern",
    "Brant",
    "Dotterel",
    "Eider",
    "Fulmar",
    "Gannet",
    "Godwit",
    "Grebe",
    "Heron",
    "Ibis",
    "Kestrel",
    "Lapwing",
    "Merlin",
    "Osprey",
    "Petrel",
    "Pintail",
    "Redshank",
    "Shearwater",
    "Smew",
    "Snipe",
    "Teal",
    "Whimbrel",
]
_LETTERS = "23456789ABCDEFGHJKLMNPQRSTUVWXYZ"
KNOWN = {
    "GW-7K3M-Q2XD": "Wren",
    "GW-8P2C-W4TN": "Tern",
    "GW-2H9V-L6RB": "Skua",
    "GW-5D4J-M8KF": "Plover",
    "GW-9T2N-C5VJ": "Dunlin",
    "GW-4Z8Q-R7HB": "Knot",
}
"""Sailors whom the demo's files and its story know."""
_DAYS = 21
_PACKERS: tuple[tuple[str, Callable[[bytes], bytes]], ...] = (
    (".gz", gzip.compress),
    (".xz", lzma.compress),
    (".zst", zstandard.compress),
    (".bz2", bz2.compress),
)


def sailors() -> dict[str, str]:
    """Return some three hundred sailors, id to name; always the same ones."""
    chance = random.Random(2026)
    found = dict(KNOWN)
    for first in _FIRST:
        for bird in _BIRDS:
            signs = "".join(chance.choice(_LETTERS) for _ in range(8))
            found[f"GW-{signs[:4]}-{signs[4:]}"] = f"{first} {bird}"
    return found


def write_logs(folder: Path, last: datetime, seed: int = 0) -> None:
    """Write the logs of the days that end with ``last`` into a folder; the last day is not compressed."""
    chance = random.Random(seed)
    people = list(sailors().items())
    folder.mkdir(parents=True, exist_ok=True)
    for back in range(_DAYS - 1, -1, -1):
        day = (last - timedelta(days=back)).replace(hour=12, minute=0, second=0, microsecond=0)
        data = "".join(_day(day, people, chance)).encode()
        path = folder / f"{day:%Y-%m-%d}.log"
        if back:
            ending, pack = _PACKERS[back % len(_PACKERS)]
            path, data = path.with_name(path.name + ending), pack(data)
        path.write_bytes(data)
        os.utime(path, (day.timestamp() + 43_200,) * 2)


def _day(day: datetime, people: list[tuple[str, str]], chance: random.Random) -> list[str]:
    """Return the lines of an afternoon and evening: who comes, and goes again."""
    events = []
    here = chance.sample(people[len(KNOWN) :], 40) + [
        person for person in people[: len(KNOWN)] if chance.random() < 0.8
    ]
    for sailor, name in here:
        comes = day + timedelta(seconds=chance.randrange(9 * 3600))
        goes = comes + timedelta(seconds=chance.randrange(300, 9000))
        events += [(comes, f"sailor {name} ({sailor}) came aboard"), (goes, f"sailor {name} ({sailor}) went ashore")]
        events += [(comes + timedelta(seconds=60), f"{name}: fair winds!")] if chance.random() < 0.4 else []
    return [f"[{at:%Y-%m-%d %H:%M:%S}] {message}\n" for at, message in sorted(events)]
