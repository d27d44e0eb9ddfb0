"""From a key to a place in a document: paths, and items of a list chosen by one of their fields.

``Start.Items[id=torch].count`` means the count of the item whose id is torch, wherever it is in the list by then.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from roundgate.core.formats.protocol import Document, EditRefused, Entry, Path
from roundgate.core.formats.shared.key_value import KeyFile
from roundgate.core.formats.shared.paths import format_path, parse_path
from roundgate.core.nearest import nearest
from roundgate.core.patterns import lazy

_CHOICE = lazy(r"\[(?P<field>[^\[\]=\"]+|\"(?:[^\"\\]|\\.)*\")=(?P<value>\"(?:[^\"\\]|\\.)*\"|[^\[\]\"]*)\]")
_ASSIGNMENT = lazy(r"(?P<name>(?:[^=\[\"]|\[[^\]]*\]|\"(?:[^\"\\]|\\.)*\")*?)=(?P<value>.*)", re.DOTALL)
_NEAR = 5


class NoSuchItem(EditRefused):
    """No item of a list, or more than one, has the field that a key asks for."""


def split_assignment(typed: str) -> tuple[str, str | None]:
    """Part NAME=VALUE; an equals sign in square brackets or quotes belongs to the name. None: there is no value."""
    found = _ASSIGNMENT.fullmatch(typed)
    if found:
        return found["name"], found["value"]
    name, equals, value = typed.partition("=")
    return name, value if equals else None


def place_of(document: Document, key: str) -> Path:
    """Return the path that a key means. Raises NoSuchItem where it chooses an item by a field that none has."""
    choice = None if isinstance(document, KeyFile) else _CHOICE.search(key)
    if choice is None or document.find(document.resolve(key)) is not None:
        return document.resolve(key)
    entries = document.entries()
    done = ""
    rest = key
    while choice is not None:
        home = document.resolve(done + rest[: choice.start()])
        number = _chosen(entries, home, _plain(choice["field"]), _plain(choice["value"]))
        done += f"{rest[: choice.start()]}[{number}]"
        rest = rest[choice.end() :]
        choice = _CHOICE.search(rest)
    return document.resolve(done + rest)


def list_place(document: Document, key: str) -> Path:
    """Return the place of a list by its key; a file as a whole has none. Of an ini file it may be a section."""
    if not key:
        return ()
    home = place_of(document, key)
    has_section = document.format_name == "ini" and len(home) == 2 and document.find(home) is None
    return (key,) if has_section and document.find((key, 0)) is not None else home


def list_entries(document: Document, key: str) -> list[Entry]:
    """Return the entries of the list that a rulebook's ``at`` means; of the whole file where it is empty."""
    if not key:
        return list(document.entries())
    found: list[Entry] = []
    home = list_place(document, key)
    while (entry := document.find((*home, len(found)))) is not None:
        found.append(entry)
    return found


def find_key(document: Document | None, key: str) -> Entry | None:
    """Return the entry that a key means, or None."""
    if document is None:
        return None
    try:
        return document.find(place_of(document, key))
    except NoSuchItem:
        return None


def _plain(word: str) -> str:
    import json  # only a quoted step needs it

    return str(json.loads(word, strict=False)) if word.startswith('"') else word


def _chosen(entries: Sequence[Entry], home: Path, field: str, value: str) -> int:
    """Return the number of the one item below ``home`` whose field has the value. Raises NoSuchItem."""
    depth = len(home)
    tail = parse_path(field)
    values = {
        step: entry.value
        for entry in entries
        if len(entry.path) > depth and entry.path[:depth] == home and entry.path[depth + 1 :] == tail
        if isinstance(step := entry.path[depth], int)
    }
    numbers = [number for number, held in values.items() if held == value]
    if len(numbers) == 1:
        return numbers[0]
    where = format_path(home) or "the file"
    if numbers:
        places = ", ".join(f"[{number}]" for number in numbers)
        raise NoSuchItem(f"{len(numbers)} items of {where} have {field}={value}: {places}; choose one by its number")
    if not values:
        raise NoSuchItem(f"{where} has no items with a field '{field}'")
    near = nearest(value, values.values())
    hint = f"; the nearest is {near}" if near else f"; there are {', '.join(list(values.values())[:_NEAR])}"
    raise NoSuchItem(f"no item of {where} has {field}={value}{hint}")


def key_of(path: Path) -> str:
    """Write a path as a person gives it on the command line."""
    return str(path[0]) if len(path) == 1 and isinstance(path[0], str) else format_path(path)


def near_keys(document: Document, key: str, *, lists: bool = False) -> list[str]:
    """Return the keys of a document that a key which is not there may have meant, the most likely ones first.

    ``lists``: only those of lists.
    """
    wanted = document.resolve(key)
    last = str(wanted[-1]) if wanted else key
    paths = [entry.path for entry in (*document.entries(), *document.switched_off())]
    if lists:
        paths = [path[:at] for path in paths for at, step in enumerate(path) if at and isinstance(step, int)]
    names = {key_of(path): str(path[-1]) for path in paths}
    same = [name for name, ending in names.items() if ending.lower() == last.lower()]
    if same:
        return same[:_NEAR]
    whole = nearest(key, names, least=75)
    ending = nearest(last, names.values(), least=75)
    found = [whole] if whole else [name for name, known in names.items() if known == ending]
    return found[:_NEAR]
