"""Odds at size: crates and tables with 5,000 entries, nested, worked out exactly; and a curve of 1,000 levels.

Held to: 0.2 s of processor time to work out one opening, what is loaded and read before it left aside; reading the file
and the curve are printed beside it.
"""

from __future__ import annotations

import json
import random
import statistics
import time
from typing import Any

from roundgate.core.curves.levels import ladder_in
from roundgate.core.files import ServerFiles
from roundgate.core.loot.odds import Reckoner, odds_of
from roundgate.core.loot.reading import loot_in
from roundgate.core.text import Text
from roundgate.host.rulebooks import load_rulebook

RUNS, FLOOR = 7, 0.2


def content() -> dict[str, Any]:
    """Make 100 tables of 40 entries, every second one with another table in it, and a crate with 1,000 entries."""
    rng = random.Random(1)
    tables = {}
    for number in range(100):
        entries = [f"thing{rng.randrange(2000)}*1-3|{rng.random():.3f}" for _ in range(40)]
        entries += [f"table:t{number + 1}|0.3"] if number % 4 and number < 99 else []
        tables[f"t{number}"] = {"take": rng.choice(["each", "one", "some"]), "times": "1-3", "entries": entries}
    has = [f"table:t{rng.randrange(100)}|0.5" for _ in range(100)]
    has += [f"thing{rng.randrange(2000)}|0.2" for _ in range(900)]
    return {"drops": {"Big": {"count": 2, "positions": ["1 2 3|4 5 6"] * 2, "contents": has}}, "tables": tables}


def main() -> None:
    """Measure and print; ends with 1 where it takes longer than the floor."""
    book, text = load_rulebook("gullwind", None), Text(json.dumps(content()))
    levels = "".join(f"[[levels]]\nlevel = {n}\npoints = {n * n}\ngrants = 2\n\n" for n in range(1, 1001))
    read, opened, rows, curve = [], [], [], []
    entries = 0
    for _ in range(RUNS):
        began = time.process_time()
        scheme = loot_in(ServerFiles(book, {"flotsam.json": text}), "flotsam")
        read.append(time.process_time() - began)
        began = time.process_time()
        found = Reckoner(scheme).opening(("flotsam", "Big"))
        opened.append(time.process_time() - began)
        began = time.process_time()
        for outcome in odds_of(found):
            _ = outcome.chance, outcome.expected, outcome.mostly
        rows.append(time.process_time() - began)
        began = time.process_time()
        ladder_in(ServerFiles(book, {"seamanship.toml": Text(levels)}), "seamanship").balance()
        curve.append(time.process_time() - began)
        entries = sum(len(node.items) for node in scheme.nodes.values())
    for what, times in (("reading", read), ("one opening", opened), ("rows", rows), ("1,000 levels", curve)):
        print(f"{what:14}{statistics.median(times):8.3f} s")
    print(f"{entries} entries, {len(found)} things; floor {FLOOR} s for one opening")
    raise SystemExit(statistics.median(opened) > FLOOR)


if __name__ == "__main__":
    main()
