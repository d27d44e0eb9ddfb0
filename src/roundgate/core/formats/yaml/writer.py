"""Scalars of YAML: what a plain one means, and how a value is written so that every reader gives it back."""

from __future__ import annotations

import json
import re
from typing import NamedTuple

from roundgate.core.formats.protocol import EditRefused, EntryKind, PlainData
from roundgate.core.formats.shared.scalars import Number
from roundgate.core.formats.yaml.events import Event
from roundgate.core.patterns import lazy

BOOL_WORDS = frozenset(("y", "n", "yes", "no", "on", "off", "true", "false"))
_NULL = frozenset(("", "~", "null", "Null", "NULL"))
_BOOL = frozenset(("true", "True", "TRUE", "false", "False", "FALSE"))
_NUMBER = lazy(
    r"[-+]?(?:0x[0-9a-fA-F_]+|0o?[0-7_]+|0b[01_]+|(?:[0-9][0-9_]*)?\.?[0-9_]+(?:[eE][-+]?[0-9]+)?|[0-9][0-9_]*\.?|\.(?:inf|Inf|INF))|\.(?:nan|NaN|NAN)"
)
_TIME = lazy(r"\d{4}-\d\d?-\d\d?|\d+(?::[0-5]?\d)+(?:\.\d*)?")
_SAFE = lazy(r"[\w/(.$+](?:[\w ./()+$%@;'\"&*?!|<>=~^-]|:(?=\S)|,)*(?<![\s:])|[\w]")
_SAFE_IN_FLOW = lazy(r"[\w/(.$](?:[\w ./()+$%@;&*|<>=~^-]|:(?=[\w/]))*(?<![\s:])|[\w]")


class Bare(str):
    """A word to be written as it is, without quotes."""

    __slots__ = ()


class Written(NamedTuple):
    """A value as text, and the events that it will be read as."""

    text: str
    events: list[Event]


def kind_of(events: Event) -> EntryKind:
    """Return what a scalar is to most readers."""
    sign, value, _, tag, is_plain = events
    if sign in "[{":
        return "list" if sign == "[" else "map"
    if sign == "*":
        return "code"
    if tag is not None and tag != "!":
        return "text" if tag.endswith("str") else "code"
    if not is_plain or tag == "!":
        return "text"
    if value in _NULL:
        return "null"
    if value in _BOOL or value.lower() in BOOL_WORDS - {"y", "n"}:
        return "bool"
    return "number" if _NUMBER.fullmatch(value) and any(char.isdigit() for char in value) else "text"


def is_plain_text(value: str, *, in_flow: bool) -> bool:
    """Return whether a text may stand without quotes and stays a text for every reader."""
    if value in _NULL or value.lower() in BOOL_WORDS or _NUMBER.fullmatch(value) or _TIME.match(value):
        return False
    if value.startswith(("---", "...")) or " #" in value or value == "<<":
        return False
    return (_SAFE_IN_FLOW if in_flow else _SAFE).fullmatch(value) is not None


def scalar(value: PlainData, *, like: str, in_flow: bool, ascii_only: bool = False) -> Written:
    """Write a scalar; ``like`` is the first character of what stood there, whose quotes are kept where they can be.

    Raises EditRefused.
    """
    if value is None:
        return _plain("null")
    if isinstance(value, bool):
        return _plain("true" if value else "false")
    if isinstance(value, Number | Bare):
        return _plain(str(value))
    if isinstance(value, int | float):
        return _plain(json.dumps(value))
    if not isinstance(value, str):
        raise EditRefused("a list or a map cannot be written here")
    clean = value.isprintable() and not re.search("[\u2028\u2029\ufeff\x85]", value)
    if like == "'" and clean and not (ascii_only and not value.isascii()):
        return Written("'" + value.replace("'", "''") + "'", [("S", value, None, None, False)])
    if like not in ("'", '"') and clean and is_plain_text(value, in_flow=in_flow):
        return _plain(value)
    return Written(_double(value, ascii_only=ascii_only or not clean), [("S", value, None, None, False)])


def _plain(text: str) -> Written:
    return Written(text, [("S", text, None, None, True)])


def _double(value: str, *, ascii_only: bool) -> str:
    if any("\ud800" <= char <= "\udfff" for char in value):
        raise EditRefused("half a character cannot be written")
    pieces = []
    for char in value:
        if char in '"\\':
            pieces.append("\\" + char)
        elif char in _SHORT:
            pieces.append(_SHORT[char])
        elif char < " " or char == "\x7f" or (ascii_only and char > "~"):
            pieces.append(
                f"\\x{ord(char):02x}"
                if char <= "\xff"
                else f"\\u{ord(char):04x}"
                if char <= "\uffff"
                else f"\\U{ord(char):08x}"
            )
        else:
            pieces.append(char)
    return '"' + "".join(pieces) + '"'


_SHORT = {"\n": "\\n", "\t": "\\t", "\r": "\\r", "\0": "\\0"}


def block_text(value: str, header: str, indent: str, newline: str) -> Written | None:
    """Write a text as a block over several lines, or give None where that could not be read back."""
    lines = value.split("\n")
    kept = lines[:-1] if value.endswith("\n") else lines
    clean = all(line.isprintable() and line.rstrip() == line for line in lines)
    if not kept or not kept[-1] or kept[0][:1] in (" ", "") or not clean or header != "|":
        return None
    sign = "|" if value.endswith("\n") else "|-"
    text = sign + newline + newline.join(indent + line if line else "" for line in kept)
    return Written(text, [("S", value, None, None, False)])


def flow(value: PlainData, *, ascii_only: bool = False) -> Written:
    """Write any value on one line, in brackets."""
    if isinstance(value, dict):
        events: list[Event] = [("{", "", None, None, True)]
        parts = []
        for name, item in value.items():
            key, inner = (
                scalar(str(name), like="", in_flow=True, ascii_only=ascii_only),
                flow(item, ascii_only=ascii_only),
            )
            parts.append(f"{key.text}: {inner.text}")
            events += key.events + inner.events
        return Written("{" + ", ".join(parts) + "}", [*events, ("}", "", None, None, True)])
    if isinstance(value, list):
        items = [flow(item, ascii_only=ascii_only) for item in value]
        events = [
            ("[", "", None, None, True),
            *(event for item in items for event in item.events),
            ("]", "", None, None, True),
        ]
        return Written("[" + ", ".join(item.text for item in items) + "]", events)
    return scalar(value, like="", in_flow=True, ascii_only=ascii_only)


def block(
    value: PlainData,
    indent: str,
    unit: str,
    newline: str,
    *,
    ascii_only: bool = False,
    flat: frozenset[str] = frozenset(),
) -> Written:
    """Write a map or list over several lines, the first one without its indentation; anything else on one line.

    ``flat``: the names of maps and lists that are written in brackets anyway, as their neighbours are.
    """
    if isinstance(value, dict) and value:
        events: list[Event] = [("{", "", None, None, True)]
        lines = []
        for name, item in value.items():
            key = scalar(str(name), like="", in_flow=False, ascii_only=ascii_only)
            is_flat = name in flat or not (isinstance(item, dict | list) and item)
            inner = (
                flow(item, ascii_only=ascii_only)
                if name in flat and isinstance(item, dict | list)
                else block(item, indent + unit, unit, newline, ascii_only=ascii_only, flat=flat)
            )
            gap = " " if is_flat else newline + indent + unit
            lines.append(f"{key.text}:{gap}{inner.text}")
            events += key.events + inner.events
        return Written(f"{newline}{indent}".join(lines), [*events, ("}", "", None, None, True)])
    if isinstance(value, list) and value:
        events = [("[", "", None, None, True)]
        lines = []
        for item in value:
            inner = block(item, indent + "  ", unit, newline, ascii_only=ascii_only, flat=flat)
            lines.append(f"- {inner.text}")
            events += inner.events
        return Written(f"{newline}{indent}".join(lines), [*events, ("]", "", None, None, True)])
    return (
        flow(value, ascii_only=ascii_only)
        if isinstance(value, dict | list)
        else scalar(value, like="", in_flow=False, ascii_only=ascii_only)
    )
