"""A change that is said as a difference: ``+10%``, ``-25%``, ``+5``."""

from __future__ import annotations

from decimal import ROUND_HALF_UP, Decimal

from roundgate.core import values
from roundgate.core.patterns import lazy
from roundgate.core.rulebook.model import Setting
from roundgate.core.values.protocol import ValueProblem

_RELATIVE = lazy(r"\s*([+-])(\d+(?:\.\d+)?)\s*(%?)\s*")
KINDS = ("int", "decimal", "percent", "duration", "size")
"""Kinds of value that have a size."""


def is_relative(typed: str, spec: Setting) -> bool:
    """Return whether what a person typed is a difference. ``-5`` is a number of its own; ``-5%`` takes a share off."""
    match = _RELATIVE.fullmatch(typed)
    return match is not None and spec.type in KINDS and (match[1] == "+" or bool(match[3]))


def changed_by(typed: str, stored: str | None, spec: Setting) -> str:
    """Return the stored value that a difference makes of a stored value, or of the default where there is none.

    A special value, such as "no limit", stays as it is. Whole numbers are rounded, halves up. Raises ValueProblem.
    """
    match = _RELATIVE.fullmatch(typed)
    value = values.read(stored, spec) if stored is not None else values.default_of(spec)
    if match is None or value is None:
        raise ValueProblem("value-kind", f"There is no value that '{typed}' could change.")
    if isinstance(value, values.Special):
        return str(value)
    number, amount = Decimal(str(value)), Decimal(match[2])
    amount = number * amount / 100 if match[3] else amount
    number = number + amount if match[1] == "+" else number - amount
    if spec.type in ("int", "size"):
        number = number.to_integral_value(ROUND_HALF_UP)
    elif spec.type == "decimal" and spec.places is not None:
        number = round(number, spec.places)
    made = values.store(int(number) if spec.type == "int" else number.normalize(), spec)
    values.read(made, spec)
    return made
