"""The kinds of value: the explicit registry, and the special names that come before every kind.

Four functions are the way in: ``parse`` what a person typed, ``read`` what a file holds, ``store`` and ``show``.
"""

from __future__ import annotations

from msgspec.structs import replace

from roundgate.core.rulebook.model import OtherPlace, Setting, TomlValue
from roundgate.core.values.machine import Cores, FilePath, FlagBits
from roundgate.core.values.moments import Date, TimeOfDay
from roundgate.core.values.numbers import DecimalNumber, Percent, PortNumber, WholeNumber
from roundgate.core.values.parts import Colour, Vector
from roundgate.core.values.places import Endpoint, NetAddress, WebAddress
from roundgate.core.values.protocol import DocumentKind, Value, ValueKind, ValueProblem
from roundgate.core.values.several import Choices, EntryList, Identifier, Reference, References
from roundgate.core.values.texts import Choice, Condition, Secret, Texts, TrueFalse
from roundgate.core.values.units import UNITS, Duration, Size

__all__ = [
    "KINDS",
    "UNITS",
    "Special",
    "Value",
    "ValueProblem",
    "as_stored",
    "default_of",
    "describe",
    "document_kind",
    "example",
    "is_hidden",
    "number_behind",
    "parse",
    "plain_text",
    "read",
    "show",
    "store",
    "sure_meaning",
]

KINDS: dict[str, ValueKind] = {}
"""All kinds by their names."""
_ALL: tuple[ValueKind, ...] = (
    TrueFalse(),
    WholeNumber(),
    DecimalNumber(),
    Percent(),
    PortNumber(),
    Duration(),
    Size(),
    Texts(),
    Choice(),
    Condition(),
    Secret(),
    NetAddress(),
    WebAddress(),
    Endpoint(),
    Choices(),
    EntryList(KINDS),
    Identifier(),
    Reference(),
    References(KINDS),
    Colour(),
    Vector(),
    Date(),
    TimeOfDay(),
    Cores(),
    FlagBits(),
    FilePath(),
)
KINDS.update((kind.name, kind) for kind in _ALL)


class Special(str):
    """A value that stands outside the kind's own range, such as 0 for off; the text is what the file holds."""

    __slots__ = ()


def plain_text(value: TomlValue, spec: Setting) -> str:
    """Write a rulebook's TOML value as the file would hold it; without what the file writes before and after it."""
    if isinstance(value, bool):
        return spec.spelling[0] if value else spec.spelling[1]
    return str(value)


def as_stored(value: TomlValue, spec: Setting) -> str:
    """Write a rulebook's TOML value as the file holds it, all of it."""
    text = plain_text(value, spec)
    is_special = any(text == plain_text(special, spec) for special in spec.special.values())
    return text if is_special else _with_affixes(text, spec)


def _has_affixes(spec: Setting) -> bool:
    return bool(spec.prefix or (spec.suffix and spec.type != "size"))


def _with_affixes(text: str, spec: Setting) -> str:
    return f"{spec.prefix}{text}{spec.suffix}" if _has_affixes(spec) else text


def _without_affixes(stored: str, spec: Setting) -> str:
    """Return the value between what the file writes before and after it. Raises ValueProblem."""
    if not _has_affixes(spec):
        return stored
    inner = stored.removeprefix(spec.prefix)
    if not stored.startswith(spec.prefix):
        raise ValueProblem("value-affix", f"The file holds it with '{spec.prefix}' before it.", stored)
    if spec.suffix and not inner.endswith(spec.suffix):
        raise ValueProblem("value-affix", f"The file holds it with '{spec.suffix}' after it.", inner)
    return inner[: len(inner) - len(spec.suffix)] if spec.suffix else inner


def parse(typed: str, spec: Setting) -> Value:
    """Make a value of what a person types: a special word first, then the kind. Raises ValueProblem."""
    word = typed.strip().lower()
    for name, stored in spec.special.items():
        if word in (name.lower(), plain_text(stored, spec).lower()):
            return Special(plain_text(stored, spec))
    typed = typed if KINDS[spec.type].verbatim else typed.strip()
    typed = _bare(typed, spec)
    return _as_special(typed, spec) or KINDS[spec.type].parse(typed, spec)


def _bare(typed: str, spec: Setting) -> str:
    """Take off what a file writes around the value, in any of its places: it may be typed, and need not be."""
    for prefix, suffix in ((place.prefix or "", place.suffix or "") for place in spec.also):
        if (prefix or suffix) and typed.startswith(prefix) and typed.endswith(suffix):
            return typed.removeprefix(prefix).removesuffix(suffix)
    return typed.removeprefix(spec.prefix).removesuffix(spec.suffix) if _has_affixes(spec) else typed


def spec_at(place: OtherPlace, spec: Setting) -> Setting:
    """Return how a setting's value is written in another of its places."""
    if place.prefix is None and place.suffix is None:
        return spec
    prefix = spec.prefix if place.prefix is None else place.prefix
    return replace(spec, prefix=prefix, suffix=spec.suffix if place.suffix is None else place.suffix)


def stored_at(place: OtherPlace, stored: str, spec: Setting) -> str:
    """Return what another place of a setting holds where its own holds ``stored``; as it is where that is no value."""
    there = spec_at(place, spec)
    try:
        return stored if there is spec else store(read(stored, spec), there)
    except ValueProblem:
        return stored


def sure_meaning(meant: str, spec: Setting) -> str:
    """Return what was probably meant, where the setting takes it as it is; else an empty text: no advice to follow."""
    try:
        parse(meant, spec)
    except ValueProblem:
        return ""
    return meant


def _as_special(typed: str, spec: Setting) -> Special | None:
    """Return the special value that is meant by another word for it, such as ``0m`` for off; it may be out of range."""
    if not spec.special:
        return None
    free = replace(spec, range=None, step=None, special={})
    try:
        stored = KINDS[spec.type].store(KINDS[spec.type].parse(typed, free), free)
    except ValueProblem:
        return None
    return Special(stored) if stored in (plain_text(special, spec) for special in spec.special.values()) else None


def read(stored: str, spec: Setting) -> Value:
    """Make a value of what the file holds. Raises ValueProblem where the server would not take it."""
    if any(stored == plain_text(special, spec) for special in spec.special.values()):
        return Special(stored)
    return KINDS[spec.type].read(_without_affixes(stored, spec), spec)


def number_behind(value: Value, spec: Setting) -> Value:
    """Return what a special value stands for in the rules: 0 for off, say; other values as they are."""
    if not isinstance(value, Special):
        return value
    try:
        return KINDS[spec.type].read(value, replace(spec, range=None, step=None, special={}))
    except ValueProblem:
        return str(value)


def store(value: Value, spec: Setting) -> str:
    """Write a value as the file holds it. Raises ValueProblem where the file's unit cannot hold it."""
    return str(value) if isinstance(value, Special) else _with_affixes(KINDS[spec.type].store(value, spec), spec)


def show(value: Value, spec: Setting) -> str:
    """Format a value as people say it."""
    if isinstance(value, Special):
        return next(name for name, stored in spec.special.items() if plain_text(stored, spec) == value)
    return KINDS[spec.type].show(value, spec)


def describe(spec: Setting) -> str:
    """Describe what may be typed, special names included."""
    text = KINDS[spec.type].describe(spec)
    specials = ", ".join(f"'{name}' ({plain_text(stored, spec)})" for name, stored in spec.special.items())
    text = f"{text}, or {specials}" if specials else text
    return f"{text}; the scale is inverted: {spec.inverted}" if spec.inverted else text


def example(spec: Setting) -> str:
    """Return something that may be typed for a setting."""
    return KINDS[spec.type].example(spec)


def is_hidden(spec: Setting) -> bool:
    """Return whether a setting's value is never shown."""
    return KINDS[spec.type].hidden


def document_kind(spec: Setting) -> DocumentKind:
    """Return what a setting's value is in a file that knows kinds of its own."""
    return KINDS[spec.type].document


def default_of(spec: Setting) -> Value | None:
    """Return the default as a value, or None where the rulebook knows none.

    Raises ValueProblem if it is not a value.
    """
    return None if spec.default is None else read(as_stored(spec.default, spec), spec)
