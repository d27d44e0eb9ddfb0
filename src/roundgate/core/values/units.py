"""Durations and sizes: typed with units as people say them, stored as a bare number in the file's unit."""

from __future__ import annotations

import re
from decimal import Decimal

from roundgate.core.patterns import lazy
from roundgate.core.rulebook.model import Setting
from roundgate.core.values.machine import CORE_FORMS
from roundgate.core.values.numbers import decimal_of, describe_range, in_range, plain, read_decimal, read_whole
from roundgate.core.values.protocol import DocumentKind, Traits, Value, ValueProblem

_SECONDS = {
    "milliseconds": Decimal("0.001"),
    "seconds": Decimal(1),
    "minutes": Decimal(60),
    "hours": Decimal(3600),
    "days": Decimal(86400),
}
_TIME_WORDS = {"ms": "milliseconds", "s": "seconds", "m": "minutes", "min": "minutes", "h": "hours", "d": "days"}
_BYTES = {"bytes": Decimal(1)} | {
    name: Decimal(1024) ** power
    for power, name in enumerate(("kilobytes", "megabytes", "gigabytes", "terabytes"), start=1)
}
_SIZE_WORDS = {"b": "bytes", "k": "kilobytes", "m": "megabytes", "g": "gigabytes", "t": "terabytes"}
_TIME_PART = lazy(r"\s*([0-9]{1,15}(?:\.[0-9]{1,15})?)\s*(ms|min|[smhd])[a-z]*\s*", re.IGNORECASE)
_TIME = lazy(f"(?:{_TIME_PART.pattern})+", re.IGNORECASE)
_SIZE = lazy(r"(-?[0-9]+(?:\.[0-9]+)?)\s*([bkmgt])(?:i?b|ytes)?", re.IGNORECASE)


def parse_seconds(typed: str) -> Decimal:
    """Read ``90s``, ``10m`` or ``1h30m`` as seconds. Raises ValueProblem for anything else."""
    negative = typed.startswith("-")
    first = at = 1 if negative else 0
    total = Decimal(0)
    while at < len(typed) or at == first:
        part = _TIME_PART.match(typed, at)
        if not part:
            raise ValueProblem("value-kind", f"'{typed}' is not a duration: write it like 90s, 10m or 1h30m.")
        total += Decimal(part[1]) * _SECONDS[_TIME_WORDS[part[2].lower()]]
        at = part.end()
    return Decimal(0) - total if negative else total


def format_seconds(seconds: Decimal | float) -> str:
    """Format a length of time as people do: ``1h30m``, ``45s``, ``250ms``."""
    left = Decimal(str(seconds))
    if left == 0:
        return "0s"
    text = "-" if left < 0 else ""
    left = abs(left)
    for sign, unit in (("d", "days"), ("h", "hours"), ("m", "minutes"), ("s", "seconds")):
        whole = left // _SECONDS[unit]
        if whole:
            text += f"{whole}{sign}"
            left -= whole * _SECONDS[unit]
    return text + (f"{plain(left * 1000)}ms" if left else "")


def format_elapsed(seconds: float) -> str:
    """Format how long something took: ``51ms``, ``2.0s``, ``3m20s``."""
    if seconds < 1:
        return f"{round(seconds * 1000)}ms"
    return f"{seconds:.1f}s" if seconds < 60 else format_seconds(int(seconds))


def format_ahead(seconds: float) -> str:
    """Format how long it is until something, no more exactly than anybody wants to know."""
    if seconds >= 3600:
        return format_seconds(round(seconds / 60) * 60)
    return format_seconds(max(1, round(seconds)))


def _whole_units(amount: Decimal, unit: Decimal, name: str, shown: str) -> Decimal:
    stored = amount / unit
    if stored != stored.to_integral_value():
        near = int(stored) or 1
        cause = f"{shown} is not a whole number of {name}, and the file holds whole {name}."
        raise ValueProblem("value-unit", cause, str(near) if name == "bytes" else f"{near}{name[0]}")
    return stored


def _bare_number(stored: str, unit: str) -> ValueProblem:
    """The file's number has a unit of its own; typed in a command it means the right thing."""
    return ValueProblem("value-kind", f"The file holds the bare number of {unit}, without a unit.", stored)


class Duration(Traits):
    """``duration``: a length of time; the value is in seconds."""

    name = "duration"
    document: DocumentKind = "any"
    typed = "10m"

    def parse(self, typed: str, spec: Setting) -> Value:
        """See ValueKind. A bare number is taken in the file's unit."""
        if re.fullmatch(r"[+-]?[0-9.,]+", typed):
            return self.read(typed, spec)
        seconds = parse_seconds(typed)
        in_range(_whole_units(seconds, self._unit(spec), self._name(spec), typed), spec)
        return seconds

    def read(self, stored: str, spec: Setting) -> Value:
        """See ValueKind."""
        if _TIME.fullmatch(stored):
            raise _bare_number(stored, self._name(spec))
        number = Decimal(read_whole(stored))
        in_range(number, spec)
        return number * self._unit(spec)

    def store(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return plain(
            _whole_units(decimal_of(value), self._unit(spec), self._name(spec), format_seconds(decimal_of(value)))
        )

    def show(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return format_seconds(decimal_of(value))

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        return f"a duration such as 90s, 10m or 1h30m{describe_range(spec, self._name(spec))}"

    def _name(self, spec: Setting) -> str:
        return spec.stored or "seconds"

    def _unit(self, spec: Setting) -> Decimal:
        return _SECONDS[self._name(spec)]


class Size(Traits):
    """``size``: an amount of memory or disk; the value is in bytes, 1K being 1024 of them."""

    name = "size"
    document: DocumentKind = "any"
    typed = "2G"

    def parse(self, typed: str, spec: Setting) -> Value:
        """See ValueKind. A bare number is taken in the file's unit."""
        match = _SIZE.fullmatch(typed)
        if not match:
            return self._bare(typed, spec)
        amount = read_decimal(match[1]) * _BYTES[_SIZE_WORDS[match[2].lower()]]
        in_range(_whole_units(amount, self._unit(spec), self._name(spec), typed), spec)
        return amount

    def read(self, stored: str, spec: Setting) -> Value:
        """See ValueKind. With a ``suffix`` the file's own letter counts, whichever it is. Raises ValueProblem."""
        match = _SIZE.fullmatch(stored) if spec.suffix else None
        if match:
            amount = read_decimal(match[1]) * _BYTES[_SIZE_WORDS[match[2].lower()]]
            in_range(_whole_units(amount, self._unit(spec), self._name(spec), stored), spec)
            return amount
        if _SIZE.fullmatch(stored):
            raise _bare_number(stored, self._name(spec))
        amount = self._bare(stored, spec)
        if spec.suffix:
            cause = f"{stored} has no letter behind it, and most programs take that for bytes."
            raise ValueProblem("value-unit", cause, f"{stored}{spec.suffix}")
        return amount

    def _bare(self, number: str, spec: Setting) -> Decimal:
        """Read a number in the file's unit. Raises ValueProblem."""
        count = Decimal(read_whole(number))
        in_range(count, spec)
        return count * self._unit(spec)

    def store(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        units = _whole_units(decimal_of(value), self._unit(spec), self._name(spec), self.show(value, spec))
        return plain(units) + spec.suffix

    def show(self, value: Value, spec: Setting) -> str:
        """See ValueKind. Exact: a size that no larger unit holds in two decimals is said in the file's own."""
        amount = decimal_of(value)
        for sign, unit in (("T", "terabytes"), ("G", "gigabytes"), ("M", "megabytes"), ("K", "kilobytes")):
            scaled = amount / _BYTES[unit]
            if abs(scaled) >= 1 and scaled == round(scaled, 2):
                return plain(scaled) + sign
        return f"{plain(amount)}B"

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        return f"a size such as 512M or 5G{describe_range(spec, self._name(spec))}"

    def _name(self, spec: Setting) -> str:
        return spec.stored or "bytes"

    def _unit(self, spec: Setting) -> Decimal:
        return _BYTES[self._name(spec)]


UNITS = {
    "duration": frozenset(_SECONDS),
    "size": frozenset(_BYTES),
    "percent": frozenset(("percent", "fraction")),
    "cores": CORE_FORMS,
}
"""The units that ``stored`` may name, for each kind that has units."""
