"""Whole numbers, decimal numbers, percentages and ports, and the range check that they share."""

from __future__ import annotations

import re
from decimal import Decimal

from roundgate.core.patterns import lazy
from roundgate.core.rulebook.model import Setting
from roundgate.core.values.protocol import DocumentKind, Traits, Value, ValueProblem

_WHOLE = lazy(r"[+-]?[0-9]{1,30}")
_WITH_WORD = lazy(r"[\s\"']*([+-]?[0-9]{1,30})[\s\"']*(?:\s[^\W\d]+)?")
"""``"24"`` and ``24 boats``. Not ``10m``, ``1e9`` or ``1,500``: there the digits alone mean something else."""
_DECIMAL = lazy(r"[+-]?(?:[0-9]{1,30}(?:\.[0-9]{0,30})?|\.[0-9]{1,30})")


def plain(number: Decimal | int | float) -> str:
    """Write a number without an exponent and without needless zeros."""
    text = format(Decimal(str(number)), "f")
    return text.rstrip("0").rstrip(".") if "." in text else text


def in_range(stored: Decimal, spec: Setting) -> None:
    """Check range and step, both in the file's unit. Raises ValueProblem that names the nearest bound."""
    if spec.range:
        least, most = (Decimal(str(bound)) for bound in spec.range)
        if stored < least:
            raise ValueProblem("value-range", f"{plain(stored)} is below the minimum, {plain(least)}.", plain(least))
        if stored > most:
            raise ValueProblem("value-range", f"{plain(stored)} is above the maximum, {plain(most)}.", plain(most))
    if spec.step:
        step = Decimal(str(spec.step))
        base = Decimal(str(spec.range[0])) if spec.range else Decimal(0)
        if (stored - base) % step:
            nearest = base + (stored - base) // step * step
            raise ValueProblem("value-step", f"It goes in steps of {plain(step)} from {plain(base)}.", plain(nearest))


def describe_range(spec: Setting, unit: str = "") -> str:
    """Format the range and the step, or nothing."""
    tail = f" {unit}" if unit else ""
    text = f", {plain(spec.range[0])} to {plain(spec.range[1])}{tail}" if spec.range else ""
    return text + (f" in steps of {plain(spec.step)}" if spec.step else "")


def without_unit(typed: str, spec: Setting) -> str:
    """Take the unit off what a person typed, whole or as its first letters: ``12 knots``, ``12 knot``, ``12kn``."""
    if not spec.unit:
        return typed
    number = re.match(r"[+-]?[0-9.,]+", typed)
    rest = typed[number.end() :].strip().lower() if number else ""
    return number[0] if number and rest and spec.unit.lower().startswith(rest) else typed


def with_unit(number: str, spec: Setting) -> str:
    """Format a number with the unit that it counts."""
    return f"{number} {spec.unit}" if spec.unit else number


def read_decimal(text: str) -> Decimal:
    """Read a decimal number. Raises ValueProblem, with the point in place of a comma where that was meant."""
    if _DECIMAL.fullmatch(text):
        return Decimal(text)
    with_point = text.replace(",", ".", 1)
    meant = with_point if _DECIMAL.fullmatch(with_point) else ""
    why = "the decimal sign is a point" if meant else "a number belongs here"
    raise ValueProblem("value-kind", f"'{text}' is not a number: {why}.", meant)


def decimal_of(value: Value) -> Decimal:
    """Return the number of a value that is one."""
    assert not isinstance(value, tuple)
    return Decimal(value)


def _number(value: Value) -> int:
    return int(decimal_of(value))


def read_whole(text: str) -> int:
    """Read a whole number. Raises ValueProblem."""
    if _WHOLE.fullmatch(text):
        return int(text)
    if _DECIMAL.fullmatch(text):
        raise ValueProblem("value-kind", f"{text} is not a whole number.", str(int(Decimal(text))))
    number = _WITH_WORD.fullmatch(text)
    raise ValueProblem("value-kind", f"'{text}' is not a whole number.", number[1] if number else "")


class WholeNumber(Traits):
    """``int``: digits, and a sign where it may be negative."""

    name = "int"
    document: DocumentKind = "number"

    def parse(self, typed: str, spec: Setting) -> Value:
        """See ValueKind. The unit may be typed after it."""
        return self.read(without_unit(typed, spec), spec)

    def read(self, stored: str, spec: Setting) -> Value:
        """See ValueKind."""
        number = read_whole(stored)
        in_range(Decimal(number), spec)
        return number

    def store(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(_number(value))

    def show(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return with_unit(str(_number(value)), spec)

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        return "a whole number" + describe_range(spec, spec.unit)


class DecimalNumber(Traits):
    """``decimal``: a number with a point."""

    name = "decimal"
    document: DocumentKind = "number"

    def parse(self, typed: str, spec: Setting) -> Value:
        """See ValueKind. The unit may be typed after it."""
        return self.read(without_unit(typed, spec), spec)

    def read(self, stored: str, spec: Setting) -> Value:
        """See ValueKind. Raises ValueProblem."""
        number = read_decimal(stored)
        in_range(number, spec)
        if spec.places is not None and number != round(number, spec.places):
            raise ValueProblem(
                "value-step", f"It has {spec.places} digits after the point.", plain(round(number, spec.places))
            )
        return number

    def store(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        number = decimal_of(value)
        return format(number, "f") if spec.places is None else format(number, f".{spec.places}f")

    def show(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return with_unit(plain(decimal_of(value)), spec)

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        places = "" if spec.places is None else f" with {spec.places} digits after the point"
        return f"a number{places}" + describe_range(spec, spec.unit)


class Percent(Traits):
    """``percent``: 50%, stored as ``percent`` (50) or as ``fraction`` (0.5). The value is in percent."""

    name = "percent"
    document: DocumentKind = "number"
    typed = "50%"

    def parse(self, typed: str, spec: Setting) -> Value:
        """See ValueKind. Without a percent sign the number is taken as the file would hold it."""
        if typed.endswith("%"):
            percent = read_decimal(typed[:-1].strip())
            in_range(percent / self._factor(spec), spec)
            return percent
        return self.read(typed, spec)

    def read(self, stored: str, spec: Setting) -> Value:
        """See ValueKind. Raises ValueProblem."""
        if stored.endswith("%"):
            cause = "The file holds the bare number, without a percent sign."
            raise ValueProblem("value-kind", cause, stored[:-1].strip())
        number = read_decimal(stored)
        try:
            in_range(number, spec)
        except ValueProblem as error:
            if spec.stored != "fraction" or not 1 < number <= 100:
                raise
            raise ValueProblem(error.code, error.args[0], f"{plain(number)}%") from error  # a percentage was meant
        return number * self._factor(spec)

    def store(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return plain(decimal_of(value) / self._factor(spec))

    def show(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return plain(decimal_of(value)) + "%"

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        factor = self._factor(spec)
        least, most = (Decimal(str(bound)) * factor for bound in spec.range or (0, 100 / factor))
        return f"a share, {plain(least)}% to {plain(most)}%"

    def _factor(self, spec: Setting) -> Decimal:
        return Decimal(100) if spec.stored == "fraction" else Decimal(1)


class PortNumber(Traits):
    """``port``: a whole number from 1 to 65535."""

    name = "port"
    document: DocumentKind = "number"

    def parse(self, typed: str, spec: Setting) -> Value:
        """See ValueKind."""
        return self.read(typed, spec)

    def read(self, stored: str, spec: Setting) -> Value:
        """See ValueKind. Raises ValueProblem."""
        port = read_whole(stored)
        if not 1 <= port <= 65535:
            cause = f"{port} is not a port: ports go from 1 to 65535. Many servers quietly wrap it to another one."
            raise ValueProblem("value-range", cause)
        in_range(Decimal(port), spec)
        return port

    def store(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(_number(value))

    def show(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(_number(value))

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        return "a port" + (describe_range(spec) or ", 1 to 65535")
