"""When a setting's advice is worth saying: always, or where its condition holds; and advice in tables."""

from __future__ import annotations

from collections.abc import Mapping
from decimal import Decimal, InvalidOperation
from typing import Any, NamedTuple

from msgspec.structs import replace

from roundgate.core import values
from roundgate.core.files import ServerFiles
from roundgate.core.rulebook.expressions import ExpressionProblem, names_in, read_expression, work_out
from roundgate.core.rulebook.model import AdviceTable, Rulebook, Setting, TomlValue


def advice_for(name: str, spec: Setting, names: Mapping[str, Any], given: str | None = None) -> str:
    """Return a setting's advice, or an empty text where its condition does not hold.

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


class Row(NamedTuple):
    """One row of an advice table, as numbers: up to ``given`` of one value, ``most`` of the other."""

    given: Decimal
    most: Decimal


_OF_MACHINE = {"machine.memory": Setting(file="", key="", type="size")}
"""How a fact of the machine is said in a table: memory as a size, the others as plain numbers."""
_PLAIN = Setting(file="", key="", type="int")


def _spec_of(name: str, book: Rulebook) -> Setting:
    """Return how a value of a table is read; a layer may have narrowed the setting's own range since."""
    spec = book.setting.get(name)
    return replace(spec, range=None, step=None) if spec else _OF_MACHINE.get(name, _PLAIN)


def _number(value: TomlValue, spec: Setting) -> Decimal:
    """Read a table's value as people say it. Raises ValueProblem."""
    found = values.parse(values.plain_text(value, spec), spec)
    number = values.number_behind(found, spec)
    if isinstance(number, str | tuple):
        raise values.ValueProblem("value-kind", f"'{value}' is not a number.")
    return Decimal(number)


def rows_of(table: AdviceTable, book: Rulebook) -> list[Row]:
    """Return the rows of an advice table as numbers. Raises ValueProblem."""
    given, most = _spec_of(table.given, book), _spec_of(table.most, book)
    return [Row(_number(first, given), _number(second, most)) for first, second in table.rows]


def advised_most(table: AdviceTable, book: Rulebook, names: Mapping[str, Any]) -> Decimal | None:
    """Return the most that a table advises for what it is given now; None where it says nothing of that."""
    given = names.get(table.given)
    if not isinstance(given, Decimal | int | float):
        return None
    carried = [row.most for row in rows_of(table, book) if row.given <= Decimal(given)]
    rows = rows_of(table, book)
    return carried[-1] if carried else rows[0].most if rows else None


def format_table(table: AdviceTable, book: Rulebook) -> str:
    """Format the rows of a table in one line: ``1G: 12; 2G: 24``."""
    given, most = _spec_of(table.given, book), _spec_of(table.most, book)
    return "; ".join(f"{_format_cell(first, given)}: {_format_cell(second, most)}" for first, second in table.rows)


def _format_cell(value: TomlValue, spec: Setting) -> str:
    return values.show(values.parse(values.plain_text(value, spec), spec), spec)


def holds(source: str, names: Mapping[str, Any]) -> bool:
    """Return whether an expression holds; one that cannot be calculated is taken to."""
    try:
        return bool(work_out(read_expression(source), names))
    except ExpressionProblem:
        return True


def overriding(spec: Setting, names: Mapping[str, Any]) -> list[str]:
    """Return what overrides a setting now, by the names of its expression; none where the setting counts."""
    if not spec.overridden_by:
        return []
    tree = read_expression(spec.overridden_by)
    try:
        return sorted(names_in(tree)) if work_out(tree, names) else []
    except ExpressionProblem:
        return []


def limit_of(spec: Setting, names: Mapping[str, Any]) -> Decimal | None:
    """Work out the limit of a setting; None where it has none, or nobody knows what it depends on."""
    if not spec.limit:
        return None
    try:
        limit = work_out(read_expression(spec.limit), names)
    except ExpressionProblem:
        return None
    return Decimal(limit) if isinstance(limit, Decimal | int) else None


def describe_limit(files: ServerFiles, spec: Setting) -> str:
    """Format the limit of a setting: ``machine.memory, which is 24G``; empty where none is known."""
    limit = limit_of(spec, files.names)
    if limit is None:
        return ""
    free = replace(spec, range=None, step=None)
    if spec.type == "size":  # such as the odd bytes of a machine's memory
        limit = Decimal(int(limit) >> 20 << 20)
    return f"{spec.limit}, which is {values.show(limit, free)}"
