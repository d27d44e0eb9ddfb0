"""The stand-in's crew roles: read from ``berths.lua`` and, over them, ``berths.club.lua``, as a game does.

A role whose category is unknown is left out, and nothing says so. A file that is not what it should be is dropped.
"""

from __future__ import annotations

import os
import re
from typing import Any

_TOKEN = re.compile(
    r"\s+|--[^\n]*|(?P<function>function\b.*?\bend\b)|(?P<name>[A-Za-z_]\w*)|(?P<text>\"[^\"\n]*\")"
    r"|(?P<number>-?\d+(?:\.\d+)?)|(?P<sign>[(){},;=])",
    re.DOTALL,
)
Berths = dict[str, dict[str, Any]]


class _Wrong(ValueError):
    """A file that is not what it should be."""


def _tokens(body: str) -> list[tuple[str, str]]:
    found, at = [], 0
    while at < len(body):
        match = _TOKEN.match(body, at)
        if match is None:
            raise _Wrong
        if match.lastgroup:
            found.append((match.lastgroup, match[0]))
        at = match.end()
    return found


class _Reader:
    def __init__(self, body: str) -> None:
        self.tokens = _tokens(body)
        self.at = 0

    def take(self, *wanted: str) -> str:
        if self.at >= len(self.tokens) or (wanted and self.tokens[self.at][1] not in wanted):
            raise _Wrong
        self.at += 1
        return self.tokens[self.at - 1][1]

    def next_is(self, sign: str) -> bool:
        return self.at < len(self.tokens) and self.tokens[self.at][1] == sign

    def value(self) -> Any:
        if self.next_is("{"):
            return self.table()
        kind, word = self.tokens[self.at] if self.at < len(self.tokens) else ("sign", "")
        if kind == "sign":
            raise _Wrong
        self.at += 1
        if kind == "text":
            return word[1:-1]
        return {"true": True, "false": False}.get(word, word) if kind == "name" else word

    def table(self) -> Any:
        self.take("{")
        named: dict[str, Any] = {}
        items: list[Any] = []
        while not self.next_is("}"):
            is_named = self.at + 1 < len(self.tokens) and self.tokens[self.at + 1][1] == "="
            if is_named:
                name = self.take()
                self.take("=")
                named[name] = self.value()
            else:
                items.append(self.value())
            if not self.next_is("}"):
                self.take(",", ";")
        self.take("}")
        return named or items


def read_berths(folder: str) -> tuple[Berths, Berths]:
    """Read the categories and roles that count: the club's before the game's."""
    categories: Berths = {}
    roles: Berths = {}
    for name in ("berths.lua", "berths.club.lua"):
        try:
            with open(os.path.join(folder, name), encoding="utf-8") as file:
                reader = _Reader(file.read())
            found: list[tuple[str, str, Any]] = []
            while reader.at < len(reader.tokens):
                word = reader.take("category", "role")
                reader.take("(")
                key = reader.take()[1:-1]
                reader.take(",")
                found.append((word, key, reader.table()))
                reader.take(")")
        except (OSError, ValueError, RecursionError):
            continue  # dropped, without a word
        for word, key, fields in found:
            (categories if word == "category" else roles)[key] = fields if isinstance(fields, dict) else {}
    return categories, {key: role for key, role in roles.items() if role.get("category") in categories}
