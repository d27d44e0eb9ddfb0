"""Which of a rulebook's conditions hold."""

from __future__ import annotations

from collections.abc import Mapping

from roundgate.core.facts import FACTS
from roundgate.core.rulebook.expressions import ExpressionProblem, names_in, read_expression, work_out


def broken_rules(names: Mapping[str, object], rules: Mapping[str, str]) -> list[str]:
    """Return the names of the rules (name to expression) that do not hold. A rule that cannot be calculated is broken.

    A rule about a fact that is not known is left out.
    """
    broken = []
    for name, needs in rules.items():
        tree = read_expression(needs)
        if any(names.get(fact) is None for fact in FACTS if fact in names_in(tree)):
            continue  # nobody can tell
        try:
            holds = bool(work_out(tree, names))
        except ExpressionProblem:
            holds = False
        if not holds:
            broken.append(name)
    return broken
