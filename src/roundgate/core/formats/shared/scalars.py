"""What a text means in a file that knows numbers, true and false: which kind it gets, and how what people type fits."""

from __future__ import annotations

from roundgate.core.formats.protocol import EditRefused, EntryKind, PlainData
from roundgate.core.patterns import lazy

_NUMBER = lazy(r"-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?(?:[eE][+-]?[0-9]+)?")


class Number(str):
    """A number as it is written, digit by digit."""

    __slots__ = ()


def is_number(text: str) -> bool:
    """Return whether a text is a number in the form that JSON, YAML, TOML and Lua all read."""
    return _NUMBER.fullmatch(text) is not None


def fitted(value: PlainData, kind: EntryKind | None, present: EntryKind | None) -> PlainData:
    """Give a text the kind it should have: the one asked for, else the present one where it can, else by its look.

    Raises EditRefused where it cannot have the kind asked for.
    """
    if isinstance(value, Number) or not isinstance(value, str):
        return value
    if kind is None:
        return _by_present(value, present)
    if kind == "text":
        return value
    if kind == "number" and is_number(value):
        return Number(value)
    if kind == "bool" and value in ("true", "false"):
        return value == "true"
    if kind == "null" and value in ("", "null"):
        return None
    raise EditRefused(f"'{value}' is no {kind}")


def _by_present(value: str, present: EntryKind | None) -> PlainData:
    if present == "text":
        return value
    if value in ("true", "false") and present in (None, "bool", "null"):
        return value == "true"
    if is_number(value) and present in (None, "number", "null"):
        return Number(value)
    if value == "null" and present in (None, "null"):
        return None
    if present in ("number", "bool"):
        wanted = "a number" if present == "number" else "true or false"
        raise EditRefused(f"{wanted} is expected there, and '{value}' is not; --kind text writes it as a text")
    return value
