"""The stand-in's ranks: kept in one of six forms, each read by its own few lines, and asked by ``may ID PERMISSION``.

The setting ``ranks.kept`` says which form counts. A tab anywhere in a file makes the stand-in drop it whole, without a
word, and nobody has a right of it then. A rank that is not defined is ignored.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterator

_ITEM = re.compile(r"\s*-\s*(?P<word>\S+)\s*$")
_FIELD = re.compile(r"(?P<space>\s*)['\"]?(?P<name>[\w.*-]+)['\"]?:\s*(?P<value>.*?)\s*$")
_PAIR = re.compile(r"\s*-\s*\{?['\"]?(?P<id>[\w-]+)@cove['\"]?:\s*['\"]?(?P<rank>[\w-]+)['\"]?\}?\s*$")
FORMS = ("deck", "signals", "stores", "lines", "levels", "waters")
_LEFT_OUT = ("rank.take",)
"""What ``everything`` of a signal book leaves out."""


def _text(folder: str, *names: str) -> str:
    """Read a file; nothing where it is missing, is not a plain file, or has a tab in it."""
    path = os.path.join(folder, *names)
    if not os.path.isfile(path):  # a pipe would keep it waiting forever
        return ""
    try:
        with open(path, encoding="utf-8", errors="replace") as file:
            text = file.read()
    except OSError:
        return ""
    return "" if "\t" in text else text


def _plain(word: str) -> str:
    return word.strip(" '\"")


def _tree(text: str) -> dict[str, dict[str, dict[str, list[str]]]]:
    """Read three levels of names: section, name, field, and the words of each field; plain values at the top too."""
    found: dict[str, dict[str, dict[str, list[str]]]] = {"": {}}
    section = name = field = ""
    for raw in text.splitlines():
        line = re.sub(r"(^|\s)#.*$", "", raw)
        item = _ITEM.match(line)
        if item and name:
            found[section][name].setdefault(field, []).append(_plain(item["word"]))
            continue
        match = _FIELD.match(line)
        if not match:
            continue
        depth, key, value = len(match["space"]), match["name"], match["value"]
        words = [_plain(part) for part in value.strip("[]{}").split(",") if _plain(part)] if value else []
        if depth == 0:
            section, name, field = key, "", ""
            found.setdefault(section, {})
            if words:
                found[""][key] = {"": words}
        elif depth == 2:
            name, field = key, ""
            found[section].setdefault(name, {})
            if words:
                found[section][name][""] = words
        else:
            field = key
            found[section].setdefault(name, {}).setdefault(field, []).extend(words)
    return found


def _covers(word: str, permission: str) -> bool:
    return word == permission or (word.endswith("*") and permission.startswith(word[:-1]))


class Ranks:
    """Who may do what, by the form that the server keeps."""

    def __init__(self, folder: str, kept: str = "deck", world: str = "") -> None:
        """Read the files of a form."""
        self.folder, self.kept, self.world = folder, kept, world
        self.newcomers: list[str] = []
        self.may: dict[str, list[str]] = {}
        self.never: dict[str, list[str]] = {}
        self.also: dict[str, list[str]] = {}
        self.power: dict[str, int] = {}
        self.ranks_of: dict[str, list[str]] = {}
        self.own: dict[str, tuple[list[str], list[str]]] = {}
        self.order: dict[str, list[tuple[bool, str]]] = {}
        """Grants and denials as the file has them."""
        self.needed: dict[str, int] = {}
        if kept in FORMS:
            getattr(self, f"_read_{kept}")()

    def _read_deck(self) -> None:
        self._take(_tree(_text(self.folder, "ranks.yml")))

    def _take(self, tree: dict[str, dict[str, dict[str, list[str]]]]) -> None:
        self.newcomers = tree[""].get("newcomers", {}).get("", [])
        for rank, fields in tree.get("ranks", {}).items():
            self.may[rank], self.never[rank] = fields.get("may", []), fields.get("never", [])
            self.also[rank] = fields.get("also", [])
            if fields.get("newcomer") == ["true"]:
                self.newcomers = [rank]

    def _read_waters(self) -> None:
        tree = _tree(_text(self.folder, "waters", self.world, "ranks.yml"))
        self._take(tree)
        for sailor, fields in tree.get("crew", {}).items():
            self.ranks_of[sailor] = fields.get("ranks", [])
            self.own[sailor] = fields.get("may", []), fields.get("never", [])

    def _read_signals(self) -> None:
        rank = ""
        for raw in _text(self.folder, "signals.ini").splitlines():
            line = re.sub(r"(^|\s)[;#].*$", "", raw).strip()
            if line.startswith("["):
                rank = line.strip("[]")
                self.may[rank], self.never[rank] = [], []
            elif "=" in line and rank:
                name, _, value = (part.strip() for part in line.partition("="))
                self._signal(rank, name, value)
        for line in _text(self.folder, "signalcrew.txt").splitlines():
            sailor, _, ranks = line.partition(" ")
            if sailor.startswith("GW-"):
                self.ranks_of[sailor] = [part.strip() for part in ranks.split(",") if part.strip()]

    def _signal(self, rank: str, name: str, value: str) -> None:
        if name == "power":
            self.power[rank] = int(value) if value.isdigit() else 0
        elif name == "newcomer":
            self.newcomers += [rank] if value == "1" and not self.newcomers else []
        elif name == "everything":
            self.may[rank] += ["!everything"] if value == "1" else []
        elif value in ("0", "1"):
            (self.may if value == "1" else self.never)[rank].append(name)

    def _read_stores(self) -> None:
        text = _text(self.folder, "rights.yml")
        tree = _tree(text)
        self.newcomers = tree[""].get("newcomers", {}).get("", [])
        declared = tree[""].get("roles", {}).get("", []) or [
            _plain(match[1])
            for match in re.finditer(r"^ *- ([\w-]+) *$", text.partition("\nroles:")[2].split("\n\n")[0], re.M)
        ]
        for rank in declared:
            self.may[rank] = [name for name, held in tree.get("rights", {}).items() if rank in held.get("", [])]
        for line in text.splitlines():
            pair = _PAIR.match(re.sub(r"\s#.*$", "", line))
            if pair:
                self.ranks_of.setdefault(pair["id"], []).append(pair["rank"])

    def _read_lines(self) -> None:
        self.newcomers = ["deckhand"]
        for line in _text(self.folder, "crewlines.properties").splitlines():
            rank, colon, words = line.partition(":")
            if colon and not line.startswith("#"):
                self.also[rank] = [part[1:] for part in words.split() if part[0] == "*"]
                self.order[rank] = [(part[0] == "+", part[1:]) for part in words.split() if part[0] in "+-"]
        for line in _text(self.folder, "linecrew.properties").splitlines():
            sailor, sign, rank = line.partition("=")
            if sign and sailor.startswith("GW-"):
                self.ranks_of[sailor.strip()] = [part.strip() for part in rank.split(",")]

    def _read_levels(self) -> None:
        for line in _text(self.folder, "commandlevels.properties").splitlines():
            name, sign, level = (part.strip() for part in line.partition("="))
            if sign and level.isdigit() and not line.startswith("#"):
                self.needed[name] = int(level)

    # --- questions ---

    def allows(self, sailor: str, permission: str, rank: str = "", level: int = 0) -> bool:
        """Return whether somebody may; ``rank`` is by the list of officers, ``level`` by the start-up commands."""
        if self.kept == "levels":
            return permission in self.needed and level >= self.needed[permission]
        ranks = [rank] if self.kept == "deck" and rank else self.ranks_of.get(sailor, [])
        known = self.order if self.kept == "lines" else self.may
        here = [rank for rank in ranks if rank in known] or [
            newcomer for newcomer in self.newcomers if newcomer in known
        ]
        if self.kept == "lines":
            return self._by_lines(here, permission)
        if self.kept == "signals":
            return self._by_signals(here, permission)
        if self.kept == "deck":
            return self._by_nearest(here, permission)
        every = list(self._all_above(here))
        may, never = self.own.get(sailor, ([], []))
        if any(_covers(word, permission) for word in never):
            return False
        if any(_covers(word, permission) for rank in every for word in self.never.get(rank, ())):
            return False
        return any(_covers(word, permission) for word in [*may, *(word for rank in every for word in self.may[rank])])

    def _all_above(self, here: list[str]) -> Iterator[str]:
        seen: set[str] = set()
        while here:
            here = [rank for rank in dict.fromkeys(here) if rank in self.may and rank not in seen]
            seen.update(here)
            yield from here
            here = [above for rank in here for above in self.also.get(rank, ())]

    def _by_nearest(self, here: list[str], permission: str) -> bool:
        seen: set[str] = set()
        while here:
            here = [rank for rank in here if rank in self.may and rank not in seen]
            seen.update(here)
            if any(_covers(word, permission) for rank in here for word in self.never.get(rank, ())):
                return False
            if any(_covers(word, permission) for rank in here for word in self.may[rank]):
                return True
            here = [above for rank in here for above in self.also.get(rank, ())]
        return False

    def _by_lines(self, here: list[str], permission: str) -> bool:
        """Read the lines from those above down to one's own: the last word that is about it counts."""
        seen: set[str] = set()
        steps: list[list[str]] = []
        while here:
            here = [rank for rank in dict.fromkeys(here) if rank in self.order and rank not in seen]
            seen.update(here)
            steps.append(here)
            here = [above for rank in here for above in self.also.get(rank, ())]
        may = False
        for step in reversed(steps):
            for rank in step:
                for grants, word in self.order[rank]:
                    may = grants if _covers(word, permission) else may
        return may

    def _by_signals(self, here: list[str], permission: str) -> bool:
        for power in sorted({self.power.get(rank, 0) for rank in here}, reverse=True):
            same = [rank for rank in here if self.power.get(rank, 0) == power]
            if any(permission in self.never[rank] for rank in same):
                return False
            if any(permission in self.may[rank] for rank in same):
                return True
            if permission not in _LEFT_OUT and any("!everything" in self.may[rank] for rank in same):
                return True
        return False
