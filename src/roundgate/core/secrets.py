"""Keeping secrets out of everything that is shown: which values are secret, and texts with them blanked out."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from roundgate.core.formats.protocol import Document, Entry
from roundgate.core.nearest import nearest
from roundgate.core.rulebook.model import Rulebook
from roundgate.core.text import Splice, Text

HIDDEN = "(hidden)"
_SOUNDS_SECRET = re.compile(
    r"passw|secret|token|api.?key|(?:entry|access|door|admin|rcon).?(?:code|pin|key)|\bpin\b", re.IGNORECASE
)


def sounds_secret(key: str) -> bool:
    """Tell whether a key that no rulebook knows is likely to hold a secret."""
    return _SOUNDS_SECRET.search(key) is not None


def is_secret(book: Rulebook, file_path: str, key: str) -> bool:
    """Tell whether a key of a file holds a secret, by the rulebook or by the sound of its name."""
    return _holds_secret(_types(book, file_path), key)


def _types(book: Rulebook, file_path: str) -> dict[str, str]:
    """Give the type of each key that the rulebook knows in a file."""
    return {spec.key: spec.type for spec in book.setting.values() if book.file[spec.file].path == file_path}


def _holds_secret(types: Mapping[str, str], key: str) -> bool:
    if key in types:
        return types[key] == "secret"
    secrets = [known for known, kind in types.items() if kind == "secret"]
    return sounds_secret(key) or (bool(secrets) and types.get(nearest(key, types, least=75)) == "secret")


def secret_names(book: Rulebook, file_path: str) -> frozenset[str]:
    """Give the last names of the keys that hold a secret in a file, for a text that cannot be read."""
    keys = (key for key, kind in _types(book, file_path).items() if kind == "secret")
    return frozenset(re.split(r"[.\[\]\"]+", key.strip('"]'))[-1] for key in keys)


def secret_entries(book: Rulebook, file_path: str, document: Document) -> list[Entry]:
    """Give every entry, commented-out ones included, whose value must not be shown; a misspelt secret too."""
    types = _types(book, file_path)
    answers: dict[str, bool] = {}
    found = []
    for entry in (*document.entries(), *document.switched_off()):
        key = entry.path[-1]
        if entry.end > entry.start and isinstance(key, str):
            if key not in answers:
                answers[key] = _holds_secret(types, key)
            if answers[key]:
                found.append(entry)
    return _apart(found)


def _apart(entries: list[Entry]) -> list[Entry]:
    """Leave out what stands inside another entry: a line of a text that looks as if it were commented out."""
    kept: list[Entry] = []
    for one in sorted(entries, key=lambda one: (one.start, -one.end)):
        if not kept or one.start >= kept[-1].end:
            kept.append(one)
    return kept


def without_secrets(text: Text, entries: list[Entry], word: str = HIDDEN) -> Text:
    """Give the text with the values of ``entries`` blanked out."""
    return text.spliced(Splice(entry.start, entry.end, word) for entry in entries)


_NAMED_VALUE = re.compile(
    r"(?P<name>[\w.\-]+)[\"']?\]?[ \t]*(?:[:=]|[ \t])[ \t]*(?P<value>\"[^\"]*\"?|'[^']*'?|[^\s,;{}\[\]<>\"'=:/]+)"
)


def sounding_secret(text: Text, start: int, names: frozenset[str] = frozenset()) -> list[Entry]:
    """Find what looks like a secret on the line that holds an index; ``names`` are more names of secrets.

    This goes by the looks of the line alone, so that it works in a file that cannot be read.
    """
    line_start, line_end = text.line_around(start)
    line = text.body[line_start:line_end]
    cuts = []
    at = 0
    while found := _NAMED_VALUE.search(line, at):
        if sounds_secret(found["name"]) or found["name"] in names:
            spans = line_start + found.start("value"), line_start + found.end("value")
            cuts.append(Entry((found["name"],), found["value"].strip("\"'"), 0, 0, *spans))
            at = found.end()
        else:
            at = max(found.end("name"), found.start() + 1)
    return cuts


def without_sounding(body: str, names: frozenset[str] = frozenset()) -> str:
    """Give a text with every value blanked out whose name sounds like a secret, or is one of ``names``."""

    def blanked(found: re.Match[str]) -> str:
        if not sounds_secret(found["name"]) and found["name"] not in names:
            return found[0]
        start = found.start("value") - found.start()
        return found[0][:start] + HIDDEN

    return _NAMED_VALUE.sub(blanked, body)


_OPENS = re.compile(r"(?P<name>[\w.\-]+)[\"']?\]?[ \t]*[:=][ \t]*(?:[|>][-+\d]*|\"\"\"|'''|\[\[)?[ \t]*$")
"""The end of a line that has a name, and its value on the lines below."""
_LOOK_BACK = 50


def hidden_line(lines: Sequence[str], number: int, names: frozenset[str] = frozenset()) -> str:
    """Give a line of a file with what looks like a secret blanked out, by the looks of it and of the lines above."""
    line = lines[number]
    hidden = line if "(hidden" in line else without_sounding(line, names)
    indent = len(line) - len(line.lstrip())
    if hidden != line or not indent or not line.strip():
        return hidden
    for above in reversed(lines[max(0, number - _LOOK_BACK) : number]):
        if above.strip() and len(above) - len(above.lstrip()) < indent:
            opened = _OPENS.search(above)
            is_secret_name = opened and (sounds_secret(opened["name"]) or opened["name"] in names)
            return line[:indent] + HIDDEN if is_secret_name else line
    return line


def shown_line(text: Text, start: int, end: int, entries: list[Entry]) -> tuple[str, int, int]:
    """Give the line around a span with secrets blanked out, and column (from 1) and length of the span in it."""
    line_start, line_end = text.line_around(start)
    end = max(start + 1, min(end, line_end))
    cuts = [entry for entry in entries if line_start <= entry.start < line_end]
    line, column, length = text.body[line_start:line_end], start - line_start + 1, end - start
    for entry in sorted(cuts, key=lambda one: one.start, reverse=True):
        stop = min(entry.end, line_end)
        line = line[: entry.start - line_start] + HIDDEN + line[stop - line_start :]
        if start >= entry.start:
            column, length = entry.start - line_start + 1, len(HIDDEN)
    return line, column, length
