"""The stand-in's ranks: read by its own few lines out of ``ranks.yml``, and asked by ``may ID PERMISSION``.

A tab anywhere makes it drop the whole file, without a word, and everybody is without rights then. A rank that is not
defined is ignored.
"""

from __future__ import annotations

import os
import re

_ITEM = re.compile(r"\s*-\s*(?P<word>\S+)\s*$")
_FIELD = re.compile(r"(?P<blank>\s*)(?P<name>[\w-]+):\s*(?P<value>.*?)\s*$")


class Ranks:
    """What each rank may, and what it never may; a denial as near as a grant counts before it."""

    def __init__(self, folder: str) -> None:
        """Read the file; none where it is missing."""
        self.newcomers = ""
        self.may: dict[str, list[str]] = {}
        self.never: dict[str, list[str]] = {}
        self.also: dict[str, list[str]] = {}
        path = os.path.join(folder, "ranks.yml")
        if not os.path.isfile(path):  # a pipe would keep it waiting for ever
            return
        try:
            with open(path, encoding="utf-8", errors="replace") as file:
                text = file.read()
        except OSError:
            return
        if "\t" not in text:
            self._read(text)

    def _read(self, text: str) -> None:
        rank = field = ""
        for raw in text.splitlines():
            line = re.sub(r"(^|\s)#.*$", "", raw)
            item = _ITEM.match(line)
            if item and rank:
                self._list(field).setdefault(rank, []).append(item["word"].strip("'\""))
                continue
            found = _FIELD.match(line)
            if not found:
                continue
            depth, name, value = len(found["blank"]), found["name"], found["value"]
            if depth == 0:
                rank = ""
                if name == "newcomers":
                    self.newcomers = value.strip("'\"")
            elif depth == 2:
                rank = name
                self.may.setdefault(rank, [])
            else:
                field = name
                words = [one.strip(" '\"") for one in value.strip("[]").split(",")] if value.startswith("[") else []
                self._list(field).setdefault(rank, []).extend(one for one in words if one)

    def _list(self, field: str) -> dict[str, list[str]]:
        return {"may": self.may, "never": self.never, "also": self.also}.get(field, {})

    def allows(self, rank: str, permission: str) -> bool:
        """Tell whether somebody of a rank may; nobody's rank is that of newcomers."""
        here = [rank if rank in self.may else self.newcomers] if rank else [self.newcomers]
        seen: set[str] = set()
        while here:
            here = [one for one in here if one in self.may and one not in seen]
            seen.update(here)
            if any(_covers(word, permission) for one in here for word in self.never.get(one, ())):
                return False
            if any(_covers(word, permission) for one in here for word in self.may[one]):
                return True
            here = [above for one in here for above in self.also.get(one, ())]
        return False


def _covers(word: str, permission: str) -> bool:
    return word == permission or (word.endswith("*") and permission.startswith(word[:-1]))
