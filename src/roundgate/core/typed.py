"""What a value on the command line means in its file: a text, a number, a list, a record. Nothing is guessed silently.

Lists and records are given as JSON, in every format that can hold them. What looks like one and is not is refused.
"""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from typing import NamedTuple, cast

from roundgate.core.formats.protocol import Document, EditRefused, Entry, EntryKind, Path, PlainData
from roundgate.core.formats.shared.scalars import Number, is_number
from roundgate.core.patterns import lazy

KINDS = ("text", "number", "bool", "null", "json")
"""What ``--kind`` may say. ``json`` is any JSON value, a list or a record above all."""

TREES = ("json", "yaml", "toml", "lua", "xml", "statements")
"""The formats that hold lists and records."""

_ESCAPING = (*TREES, "properties")
_RECORD = lazy(r"\{\s*(?:[\"'{\[}]|[\w.-]+\s*[:=])|\{.*\}\s*\Z", re.DOTALL)
_LIST = lazy(r"\[\s*[\"'{\[]|\[.*\]\s*\Z", re.DOTALL)
_ESCAPE = lazy(r"\\(?:[ntr\"]|u[0-9a-fA-F]{4})")
_MEASURE = lazy(r"[-+]?[0-9]+(?:\.[0-9]+)?\s*(?:ms|s|sec|m|min|h|d|[kmgt]i?b?|%)", re.IGNORECASE)
_FIELD = lazy(r"(?P<name>[\w.@#-]+)=(?P<value>.*)", re.DOTALL)


class KindMismatch(EditRefused):
    """A value that cannot be meant as it stands. ``meant`` and ``kind`` are what it should be, where that is clear."""

    def __init__(self, why: str, meant: str = "", kind: str = "") -> None:
        """Keep the reason and the value to give instead."""
        super().__init__(why)
        self.meant = meant
        self.kind = kind


class Typed(NamedTuple):
    """A value as an operation keeps it: its text and its kind, empty where the file decides."""

    text: str
    kind: str


def typed(word: str, kind: str, format_name: str, present: Entry | None) -> Typed:
    """Return what a word of the command line means at a place that holds ``present`` now. Raises Unfit.

    Raises KindMismatch.
    """
    if kind == "json":
        value = json_value(word)
        if format_name not in TREES:
            return Typed(_single(value), "")
        return Typed(word, "json")
    if kind:
        return Typed(word, kind if format_name in TREES else "")
    if _ESCAPE.search(word) and format_name in _ESCAPING:
        raise KindMismatch(
            f"'{word}' could mean a line break or other escape, or a backslash and a letter. "
            "With --kind text it is written as typed; with --kind json an escape counts as one",
            _as_json_text(word),
            "json",
        )
    if format_name in TREES:
        return _in_tree(word, present)
    _not_measured(word, present)
    return Typed(word, "")


def _in_tree(word: str, present: Entry | None) -> Typed:
    if not (_RECORD.match(word) or _LIST.match(word)):
        if present is not None and present.kind == "number":
            _not_measured(word, present)
        return Typed(word, "")
    what = "list" if word.lstrip().startswith("[") else "record"
    if present is not None and present.kind == "text":
        raise KindMismatch(
            f"a text is there now, and '{word}' looks like a {what}. With --kind text it is written as typed; "
            "with --kind json it becomes a list or record",
            word,
            "text",
        )
    try:
        json_value(word)
    except KindMismatch as error:
        raise KindMismatch(f"{error}. With --kind text it is written as typed", error.meant, "json") from error
    return Typed(word, "json")


def _not_measured(word: str, present: Entry | None) -> None:
    """Refuse ``10m`` where the file holds a bare number. Raises Unfit."""
    if present is not None and is_number(present.value) and _MEASURE.fullmatch(word):
        raise KindMismatch(
            f"the file holds {present.value} there, a number without a unit, so '{word}' would not be read. "
            "Give a number in the unit that the file uses; with --kind text it is written as typed"
        )


def _single(value: PlainData) -> str:
    if isinstance(value, list | dict):
        raise KindMismatch("this kind of file holds single values: no lists and no records")
    if isinstance(value, bool):
        return "true" if value else "false"
    return "" if value is None else str(value)


def _as_json_text(word: str) -> str:
    """Write a word as the JSON text in which its escapes count."""
    quoted = '"' + re.sub(r'(?<!\\)"', r"\\\"", word) + '"'
    try:
        json.loads(quoted, strict=False)
    except ValueError:
        return ""
    return quoted


def _members(pairs: list[tuple[str, PlainData]]) -> dict[str, PlainData]:
    found = dict(pairs)
    if len(found) < len(pairs):
        names = [name for name, _ in pairs]
        twice = next(name for name in names if names.count(name) > 1)
        raise KindMismatch(f"the record has '{twice}' more than once")
    return found


def _no_constant(word: str) -> PlainData:
    raise ValueError(f"{word} is not a JSON value")


def json_value(word: str) -> PlainData:
    """Read a value that is written as JSON, numbers digit by digit. Raises Unfit with what was probably meant.

    Raises KindMismatch.
    """
    try:
        return json.loads(
            word,
            object_pairs_hook=_members,
            parse_int=Number,
            parse_float=Number,
            parse_constant=_no_constant,
        )
    except json.JSONDecodeError as error:
        cause = f"{error.msg[:1].lower()}{error.msg[1:]} at character {error.pos + 1}"
    except (ValueError, RecursionError) as error:
        if isinstance(error, KindMismatch):
            raise
        cause = str(error) if isinstance(error, ValueError) else "it is nested too deeply"
    meant = _meant(word)
    what = "list" if word.lstrip().startswith("[") else "record" if word.lstrip().startswith("{") else "value"
    raise KindMismatch(f"a {what} is given as JSON, and '{word}' is not valid JSON: {cause}", meant, "json")


def _meant(word: str) -> str:
    """Write in JSON what is a list or a map in YAML's flow style: ``{a: 1}``, ``['*']``."""
    import yaml

    if len(word) > 2000:
        return ""
    try:
        value = yaml.safe_load(word)
        return json.dumps(value, ensure_ascii=False) if isinstance(value, dict | list) and _is_plain(value) else ""
    except (yaml.YAMLError, TypeError, ValueError, RecursionError):
        return ""


def _is_plain(value: PlainData) -> bool:
    if isinstance(value, dict):
        return all(isinstance(name, str) and item is not None and _is_plain(item) for name, item in value.items())
    return all(_is_plain(item) for item in value) if isinstance(value, list) else True


def plain_value(text: str, kind: str) -> tuple[PlainData, EntryKind | None]:
    """Return the plain value of an operation's text, and the kind it must have, None where the file decides."""
    if kind == "json":
        return json_value(text), None
    return text, cast("EntryKind", kind) if kind else None


def kinds_at(document: Document, home: Path) -> list[EntryKind]:
    """Return the kinds of a list's items, in order."""
    depth = len(home)
    kinds: dict[int, EntryKind] = {}
    for entry in document.entries():
        if len(entry.path) > depth and entry.path[:depth] == home and isinstance(step := entry.path[depth], int):
            inner = entry.path[depth + 1 :]
            kinds[step] = entry.kind if not inner else "list" if isinstance(inner[0], int) else "map"
    return [kinds[number] for number in sorted(kinds)]


def is_there(document: Document, path: Path) -> bool:
    """Return whether a document has a value, or values below it, at a path."""
    if document.find(path) is not None:
        return True
    return any(entry.path[: len(path)] == path for entry in document.entries())


def must_match(value: PlainData, kinds: Sequence[EntryKind], word: str) -> None:
    """See that a new item is what a list's other items are. Raises Unfit with the item that was probably meant.

    Raises KindMismatch.
    """
    records = sum(1 for kind in kinds if kind in ("map", "list"))
    if not kinds or 0 < records < len(kinds):
        return
    if records and not isinstance(value, dict | list):
        raise KindMismatch(f"the items of this list are records, and '{word}' is a single value. Give a record as JSON")
    if not records and isinstance(value, dict | list):
        raise KindMismatch(f"the items of this list are single values, and '{word}' is a record")


def record_of(arguments: Sequence[str]) -> str:
    """Write FIELD=VALUE arguments as one record in JSON; an empty text where they are something else."""
    fields = [_FIELD.fullmatch(word) for word in arguments]
    if not fields or None in fields:
        return ""
    pairs = {field["name"]: field["value"] for field in fields if field}
    return json.dumps(pairs, ensure_ascii=False) if len(pairs) == len(fields) else ""
