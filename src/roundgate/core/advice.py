"""When a setting's advice is worth saying: always, or where its condition holds."""

from __future__ import annotations

from collections.abc import Mapping
from decimal import Decimal, InvalidOperation
from typing import Any

from roundgate.core.rulebook.expressions import ExpressionProblem, read_expression, work_out
from roundgate.core.rulebook.model import Setting


def advice_for(name: str, spec: Setting, names: Mapping[str, Any], given: str | None = None) -> str:
    """Give a setting's advice, or an empty text where its condition does not hold.

    ``given`` is a value that is not in the files, as a person typed it, such as one out of range.
    """
    if not spec.advice or not spec.advice_when:
        return spec.advice
    seen = dict(names)
    if given is not None:
        try:
            seen[name] = Decimal(given)
        except InvalidOperation:
            return ""
    try:
        return spec.advice if work_out(read_expression(spec.advice_when), seen) else ""
    except ExpressionProblem:
        return ""
