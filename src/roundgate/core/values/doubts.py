"""Numbers that are valid as they stand, and that another unit would make more plausible."""

from __future__ import annotations

from decimal import Decimal, InvalidOperation

from roundgate.core import values
from roundgate.core.rulebook.model import Setting


def doubt_about(given: str, spec: Setting) -> str:
    """Return how a number is read and what else may have been meant, or an empty text where there is no doubt.

    A share below one percent that was typed without the sign is most often a share of one: 0.5 for 50%.
    """
    if spec.type != "percent" or "%" in given:
        return ""
    try:
        number = Decimal(given.strip())
        shown = values.show(values.parse(given, spec), spec)
    except (InvalidOperation, values.ValueProblem):
        return ""
    if not 0 < number < 1 or shown != f"{number.normalize():f}%":
        return ""
    return f"{given} is read as {shown}; for {(number * 100).normalize():f}%, write the sign"
