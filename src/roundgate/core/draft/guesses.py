"""What type a value has, from its looks, its name, and what its comment says; and how sure that is."""

from __future__ import annotations

import re
from collections.abc import Callable
from decimal import Decimal
from typing import NamedTuple

from roundgate.core import values
from roundgate.core.draft.hints import Hints
from roundgate.core.patterns import lazy
from roundgate.core.rulebook.model import Setting, TomlValue
from roundgate.core.secrets import sounds_secret
from roundgate.core.values import ValueProblem

Field = TomlValue | list[TomlValue] | dict[str, TomlValue]
"""What one field of a setting holds in a rulebook."""

_SPELLINGS = (("true", "false"), ("yes", "no"), ("on", "off"), ("enabled", "disabled"), ("enable", "disable"))
_INTEGER = lazy(r"[-+]?\d{1,18}")
_DECIMAL = lazy(r"[-+]?\d{0,12}\.\d{1,12}|[-+]?\d{1,12}\.")
_SIZE = lazy(r"\d+(?P<unit>[kKmMgG])")
_SIZE_UNITS = {"k": "kilobytes", "m": "megabytes", "g": "gigabytes"}
_ADDRESS = lazy(r"\d{1,3}(?:\.\d{1,3}){3}|[0-9a-fA-F]*:[0-9a-fA-F:]*:[0-9a-fA-F:.]*")
_ADDRESS_NAME = lazy(r"(?:address|addr|host|bind|interface|listen|ip)$", re.IGNORECASE)
_WEB = lazy(r"(?P<scheme>[a-z][a-z0-9+.-]*)://\S+", re.IGNORECASE)
_PORT_NAME = lazy(r"(?:^|[^a-z])port$|[a-z]Port$|(?:^|[^a-z])port[^a-z]", re.IGNORECASE)
_UNIT_NAMES = (
    ("milliseconds", lazy(r"(?:_ms|-ms|millis(?:econds)?|Ms)$")),
    ("seconds", lazy(r"(?:seconds|_secs?|-secs?|Secs?)$", re.IGNORECASE)),
    ("minutes", lazy(r"(?:minutes|_mins?|-mins?|Mins)$", re.IGNORECASE)),
    ("hours", lazy(r"hours$", re.IGNORECASE)),
    ("days", lazy(r"days$", re.IGNORECASE)),
    ("bytes", lazy(r"bytes$", re.IGNORECASE)),
    ("kilobytes", lazy(r"(?:_kb|-kb|KB)$")),
    ("megabytes", lazy(r"(?:_mb|-mb|MB)$")),
    ("percent", lazy(r"percent(?:age)?$", re.IGNORECASE)),
)
_SPECIAL = lazy(
    r"(?<![\w.])(?P<value>-1|0)\s*(?:=|:|-|is|to|means?|for|will|sets?)?\s*(?:it\s+)?(?:to\s+)?"
    r"(?P<word>disables?d?|off|never|no\s+limit|unlimited|infinite|none|no\b)",
    re.IGNORECASE,
)
_SPECIAL_WORDS = {"unlimited": "unlimited", "infinite": "unlimited", "no limit": "unlimited", "never": "never"}


Found = tuple[dict[str, Field], list[str]] | None
"""The fields that a rule gives, and why they are not sure; None where it does not apply."""


class Guess(NamedTuple):
    """The fields of a setting as guessed, and what a person should look at."""

    fields: dict[str, Field]
    unsure: tuple[str, ...]
    """Why the type or a field is not sure; empty where all of it follows from value and comment."""


def guess(key: str, value: str, kind: str, hints: Hints, comment: str, *, is_off: bool) -> Guess:
    """Guess the type, bounds and default of a value; ``kind`` is what it is in a file that knows kinds, else ``text``.

    Every guess fits the value itself: a bound that the value breaks, or a default that its type does not take, is left
    out and told.
    """
    fields, unsure = _as_list(value, kind, comment) or _type_of(key, value, kind, hints)
    if fields["type"] in _SCALES:
        _add_bounds(fields, unsure, hints)
        _add_special(fields, comment)
    if fields["type"] != "secret":
        _add_default(fields, unsure, value, hints, comment, is_off=is_off)
    _keep_what_fits(fields, unsure, value)
    return Guess(fields, tuple(unsure))


_SEPARATED = lazy(
    r"\b(?P<word>comma|semicolon|space|blank)s?[- ](?:separated|delimited|parted)"
    r"|\b(?:separated|delimited|parted)\s+(?:by|with)\s+(?:an?\s+)?[\"'`]?(?P<sign>,|;|comma|semicolon|space|blank)",
    re.IGNORECASE,
)
_SEPARATORS = {"comma": ",", "semicolon": ";", "space": " ", "blank": " "}


def _as_list(value: str, kind: str, comment: str) -> Found:
    """Return a list where the comment says what separates its entries, and the value does not show something else."""
    found = _SEPARATED.search(comment)
    if not found or kind not in ("text", "") or sounds_secret(comment[:80]):
        return None
    word = (found["word"] or found["sign"]).lower()
    fields: dict[str, Field] = {"type": "list", "unique": False}
    separator = _SEPARATORS.get(word, word)
    if separator != ",":
        fields["separator"] = separator
    return (fields, []) if not value or _fits(fields, value) else None


_SCALES = ("int", "decimal", "percent", "duration", "size")


def _type_of(key: str, value: str, kind: str, hints: Hints) -> tuple[dict[str, Field], list[str]]:
    name = key.rsplit(".", 1)[-1]
    if sounds_secret(key) and _as_bool(name, value, kind, hints) is None:
        return {"type": "secret"}, []
    for rule in (_as_bool, _as_choice, _as_number, _as_place):
        found = rule(name, value, kind, hints)
        if found is not None:
            return found
    if kind == "number":
        return {"type": "decimal"}, []
    return {"type": "text"}, [] if value or hints.about else ["it is empty, and no comment describes it"]


def _as_bool(_name: str, value: str, kind: str, hints: Hints) -> Found:
    if value in hints.choices and len(hints.choices) > 2:
        return None
    for yes, no in _SPELLINGS:
        if value.lower() in (yes, no):
            shape = _case_of(value)
            spelling: list[TomlValue] = [shape(yes), shape(no)]
            return ({"type": "bool"} if spelling == ["true", "false"] else {"type": "bool", "spelling": spelling}), []
    if value in ("0", "1") and hints.is_bool and hints.most is None and not hints.unit:
        return {"type": "bool", "spelling": ["1", "0"]}, []
    if not value and hints.is_bool and kind == "text":
        return {"type": "bool"}, ["it is empty; its spelling is a guess"]
    return None


def _case_of(word: str) -> Callable[[str], str]:
    return str.upper if word.isupper() else str.capitalize if word[:1].isupper() else str.lower


def _as_choice(_name: str, value: str, _kind: str, hints: Hints) -> Found:
    if len(hints.choices) < 2 or hints.is_bool:
        return None
    choices: dict[str, TomlValue] = dict(hints.choices)
    by_case = next((word for word in choices if word.lower() == value.lower()), None)
    if by_case is not None and by_case != value and value:
        choices = {value if word == by_case else word: about for word, about in choices.items()}
        return {"type": "choice", "choices": choices}, ["whether case counts is not known"]
    if value in choices or not value:
        return {"type": "choice", "choices": choices}, []
    if _INTEGER.fullmatch(value) and all(_INTEGER.fullmatch(word) for word in choices):
        return None  # examples of numbers, or only the special ones are named
    if re.fullmatch(r"[\w.+-]{1,24}", value) and not _DECIMAL.fullmatch(value):
        return {"type": "choice", "choices": {value: "", **choices}}, ["the comment does not name the value itself"]
    return None


def _as_number(name: str, value: str, _kind: str, hints: Hints) -> Found:
    unit = hints.unit or next((unit for unit, pattern in _UNIT_NAMES if pattern.search(name)), "")
    unsure = [] if hints.unit or not unit else ["the unit is guessed from the name"]
    size = _SIZE.fullmatch(value)
    if size:
        letter = size["unit"]
        return {"type": "size", "stored": _SIZE_UNITS[letter.lower()], "suffix": letter}, []
    is_whole = _INTEGER.fullmatch(value) is not None
    if re.fullmatch(r"[-+]?0\d+", value):
        return {"type": "text"}, ["it has a leading zero: a mask, or a number of a fixed length"]
    if not is_whole and _DECIMAL.fullmatch(value) is None:
        return None
    if is_whole and _PORT_NAME.search(name) and 0 < int(value) < 65536:
        return {"type": "port"}, []
    if unit == "percent":
        return {"type": "percent", "stored": "percent"}, unsure
    for kind in ("duration", "size"):
        if unit in (values.UNITS.get(kind) or ()) and (is_whole or unit == "seconds"):
            return {"type": kind, "stored": unit}, unsure
    return {"type": "int" if is_whole and not _looks_decimal(hints) else "decimal"}, []


def _looks_decimal(hints: Hints) -> bool:
    """Return whether the bounds or the default have a point, so that a value without one is a decimal anyway."""
    bounds = (hints.least, hints.most)
    has_point = any(bound is not None and bound != bound.to_integral_value() for bound in bounds)
    return has_point or hints.type == "float" or bool(hints.default and _DECIMAL.fullmatch(hints.default))


def _as_place(name: str, value: str, _kind: str, _hints: Hints) -> Found:
    web = _WEB.fullmatch(value)
    if web:
        scheme = web["scheme"].lower()
        return {"type": "url", **({} if scheme in ("http", "https") else {"schemes": [scheme]})}, []
    if _ADDRESS.fullmatch(value) and value.count(".") in (0, 3):
        return {"type": "address"}, []
    if _ADDRESS_NAME.search(name) and re.fullmatch(r"[\w.-]+\.[a-z]{2,}|localhost|\*", value):
        return {"type": "address"}, ["whether it takes names as well as numbers is not known"]
    return None


def _add_bounds(fields: dict[str, Field], unsure: list[str], hints: Hints) -> None:
    if hints.least is not None and hints.most is not None:
        fields["range"] = [_plain(hints.least), _plain(hints.most)]
    elif hints.least is not None or hints.most is not None:
        bound = f"at least {hints.least}" if hints.least is not None else f"at most {hints.most}"
        unsure.append(f"the comment names one bound only: {bound}")


def _plain(number: Decimal) -> TomlValue:
    return int(number) if number == number.to_integral_value() else float(number)


def _add_special(fields: dict[str, Field], comment: str) -> None:
    found = _SPECIAL.search(comment)
    if found:
        word = " ".join(found["word"].lower().split())
        fields["special"] = {_SPECIAL_WORDS.get(word, "off"): int(found["value"])}


_ON_WISH = lazy(
    r"\b(?:uncomment|un-comment|you\s+(?:may|can|could|might)|if\s+you\s+(?:want|wish|need|like)|for\s+example|examples?:|"
    r"e\.g\.|to\s+enable\s+this)",
    re.IGNORECASE,
)
"""Words of a comment by which a commented-out line is there for those who want it."""


def _add_default(
    fields: dict[str, Field], unsure: list[str], value: str, hints: Hints, comment: str, *, is_off: bool
) -> None:
    stored = hints.default if hints.default is not None else value if is_off and not hints.no_default else None
    if stored in ("on", "off") and hints.default is not None and fields["type"] != "bool":
        stored = value if is_off else None  # "disabled by default" says no value of a number or a text
    if stored is None:
        return
    if hints.default is None and _ON_WISH.search(comment):
        unsure.append("its commented-out value may be an example, and not the default")
        return
    if len(stored) > 1 and stored[0] == stored[-1] == '"':
        stored = stored[1:-1]
    fields["default"] = _typed(stored, fields)
    if is_off and hints.default is not None and hints.default != value:
        unsure.append(f"it is commented out with {value!r}, and the comment calls {hints.default!r} the default")


def _typed(stored: str, fields: dict[str, Field]) -> TomlValue:
    """Write a default as the rulebook does: a number or a bool where it is one."""
    spelling = fields.get("spelling", ["true", "false"])
    assert isinstance(spelling, list)
    if fields["type"] == "bool":
        lowered = [str(word).lower() for word in spelling]
        is_yes = stored.lower() in (lowered[0], "true", "yes", "on", "1", "enabled")
        is_no = stored.lower() in (lowered[1], "false", "no", "off", "0", "disabled")
        return True if is_yes else False if is_no else stored
    if fields["type"] in (*_SCALES, "port"):
        if _INTEGER.fullmatch(stored):
            return int(stored)
        if _DECIMAL.fullmatch(stored):
            return float(stored)
    return stored


def _keep_what_fits(fields: dict[str, Field], unsure: list[str], value: str) -> None:
    """Drop each field that the value, or the default, shows to be wrong."""
    for field in ("range", "default", "special"):
        if field in fields and not _fits(fields, value if field == "range" else None):
            kept = fields.pop(field)
            unsure.append(f"the comment says {field} {kept!r}, which does not fit the value or its type")
    if value and not _fits({name: kept for name, kept in fields.items() if name != "default"}, value):
        told = fields["type"]
        fields.clear()
        fields["type"] = "text"
        unsure.append(f"it looks like {told}, and its value {value!r} is not one")


def _fits(fields: dict[str, Field], value: str | None) -> bool:
    from msgspec import ValidationError, convert

    try:
        spec = convert({"file": "", "key": "", **fields}, Setting)
        if value:
            values.read(value, spec)
        else:
            values.default_of(spec)
    except (ValueProblem, ValidationError):
        return False
    return True
