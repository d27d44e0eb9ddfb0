"""The stand-in's crates: read from ``flotsam.json`` with all the habits of a game, and opened by a roll of its own.

A file that is no JSON is dropped whole with one line that helps nobody. A chance above 1 counts as 1, an unknown table
gives nothing, and there are never more crates than positions.
"""

from __future__ import annotations

import json
import os
import random
import re
from collections import Counter
from typing import Any

_ENTRY = re.compile(r"(.+?)(?:\*(\d+)(?:-(\d+))?)?(?:\|([^|]*))?")
_DEEPEST = 20


class Flotsam:
    """The crates of one server."""

    def __init__(self, folder: str) -> None:
        """Read the file; ``remark`` is what the log says of it."""
        self.remark = ""
        self.found: dict[str, Any] = {}
        self.random = random.Random()
        path = os.path.join(folder, "flotsam.json")
        try:
            with open(path, encoding="utf-8") as file:
                found = json.load(file)
        except FileNotFoundError:
            return
        except (OSError, ValueError, RecursionError):
            self.remark = "flotsam: ?"
            return
        self.found = found if isinstance(found, dict) else {}

    def _part(self, name: str) -> dict[str, Any]:
        part = self.found.get(name)
        return part if isinstance(part, dict) else {}

    def at_once(self, name: str) -> int:
        """Return how many of a drop are there at a time."""
        drop = self._part("drops").get(name, {})
        return max(0, min(int(drop.get("count", 1)), len(drop.get("positions", []))))

    def open(self, name: str) -> Counter[str]:
        """Open one crate of a drop."""
        drop = self._part("drops")[name]
        out = float(drop.get("left-out", 0.0))
        found: Counter[str] = Counter()
        for entry in drop.get("contents", []):
            what, many, chance = self._read(entry)
            if self.random.random() < (1.0 if chance is None else chance) and self.random.random() >= out:
                self._take(what, many, found, 0)
        return found

    def _read(self, entry: str) -> tuple[str, int, float | None]:
        match = _ENTRY.fullmatch(entry)
        if match is None:
            return "", 0, 0.0
        least = int(match[2] or 1)
        try:
            chance = None if match[4] is None else float(match[4])
        except ValueError:
            chance = 0.0
        return match[1], self.random.randint(least, int(match[3] or least)), chance

    def _take(self, what: str, many: int, found: Counter[str], depth: int) -> None:
        kind, sign, name = what.partition(":")
        if not sign:
            found[what] += many
            return
        for _ in range(many if depth < _DEEPEST else 0):
            if kind == "rig":
                self._rig(self._part("rigs").get(name, {}), found)
            elif kind == "table":
                self._table(self._part("tables").get(name, {}), found, depth + 1)

    def _rig(self, rig: dict[str, Any], found: Counter[str]) -> None:
        single = [rig[part] for part in ("sail", "lens") if part in rig]
        for entry in [*single, *rig.get("fittings", [])]:
            what, _, chance = self._read(entry)
            if self.random.random() < (1.0 if chance is None else chance):
                found[what] += 1

    def _table(self, table: dict[str, Any], found: Counter[str], depth: int) -> None:
        entries = [self._read(entry) for entry in table.get("entries", [])]
        if table.get("sure") is True or table.get("take", "each") == "each":
            for what, many, chance in entries:
                is_sure = table.get("sure") is True or chance is None
                if what != "nothing" and (is_sure or self.random.random() < (chance or 0.0)):
                    self._take(what, many, found, depth)
            return
        weights = [1.0 if chance is None else chance for _, _, chance in entries]
        times = 1
        if table["take"] == "some":
            least, _, most = str(table.get("times", "1")).partition("-")
            times = self.random.randint(int(least), int(most or least))
        for what, many, _ in self.random.choices(entries, weights, k=times) if sum(weights) > 0 else ():
            if what != "nothing":
                self._take(what, many, found, depth)

    def roll(self, words: str) -> str:
        """Open a drop many times: ``DROP N``; return how often each thing was there, and how many of it in all."""
        name, _, many = words.rpartition(" ")
        if name not in self._part("drops") or not many.isdecimal() or int(many) > 1_000_000:
            return "roll what?"
        there: Counter[str] = Counter()
        all_of: Counter[str] = Counter()
        for _ in range(int(many)):
            found = self.open(name)
            all_of.update(found)
            there.update(thing for thing, number in found.items() if number)
        parts = ", ".join(f"{thing} {there[thing]}/{all_of[thing]}" for thing in sorted(there))
        return f"rolled {name} {many}, {self.at_once(name)} at once: {parts or 'nothing'}"
