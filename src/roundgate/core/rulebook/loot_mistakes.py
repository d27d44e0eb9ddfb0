"""What can be wrong with what a rulebook says of loot and levels, beyond the types."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from roundgate.core.rulebook.expressions import ExpressionProblem, names_in, read_expression
from roundgate.core.rulebook.model import Curve, Loot, LootSource, RecordSet, Rulebook
from roundgate.core.rulebook.setting_mistakes import unknown

Mistakes = Iterator[tuple[tuple[str, ...], str]]
_PARTS = ("what", "chance", "count")
_KEYS = (*_PARTS, "least", "most")


def loot_mistakes(book: Rulebook) -> Mistakes:
    """Find names that lead nowhere and forms that make no sense in ``[loot.NAME]``."""
    for name, spec in book.loot.items():
        opened = book.records.get(spec.records)
        if opened is None:
            yield ("loot", name, "records"), unknown("set of records", spec.records, book.records)
            continue
        yield from ((("loot", name, word), cause) for word, cause in _no_fields(spec, ("at_once", "places"), opened))
        yield from ((("loot", name, word), cause) for word, cause in _source_mistakes(spec, opened))
        prefixes: set[str] = set()
        for set_name, table in spec.table.items():
            at = ("loot", name, "table", set_name)
            if set_name not in book.records:
                yield at, unknown("set of records", set_name, book.records)
                continue
            if table.prefix in prefixes:
                yield (*at, "prefix"), "Two tables have the same prefix: nobody can tell which one an entry names."
            prefixes.add(table.prefix)
            found = _source_mistakes(table, book.records[set_name])
            yield from (((*at, word), cause) for word, cause in found)


def _no_fields(spec: Loot | LootSource | Curve, names: Sequence[str], records: RecordSet) -> Iterator[tuple[str, str]]:
    """Find words of a table that should name fields of a set, and do not."""
    for word in names:
        field = getattr(spec, word)
        if field and field not in records.field:
            yield word, unknown("field", field, records.field)


def _source_mistakes(source: LootSource, spec: RecordSet) -> Iterator[tuple[str, str]]:
    if not source.entries:
        yield "entries", "'entries' is missing here: the fields that hold the entries."
    for field in source.entries:
        if field not in spec.field:
            yield "entries", unknown("field", field, spec.field)
    yield from _no_fields(source, ("draw_by", "sure", "left_out"), spec)
    if not re.fullmatch(r"\d+(-\d+)?", source.draws) and source.draws not in spec.field:
        yield "draws", unknown("field", source.draws, spec.field)
    if source.full <= 0:
        yield "full", "What is sure must be above 0."
    for form in source.entry:
        if "=" in form:
            pairs = [pair.partition("=") for pair in form.replace(" ", "").split(",")]
            wrong = [meaning for meaning, _, key in pairs if meaning not in _KEYS or not key]
            known = "what" in [meaning for meaning, _, _ in pairs]
        else:
            names = re.findall(r"\{(\w*)\}", form)
            wrong = [part for part in names if part not in _PARTS]
            known = "what" in names
        if wrong:
            yield "entry", f"'{wrong[0]}' is not part of an entry: {', '.join(_KEYS if '=' in form else _PARTS)}."
        elif not known:
            yield "entry", "An entry needs a part 'what': the thing."


def curve_mistakes(book: Rulebook) -> Mistakes:
    """Find names that lead nowhere in ``[curve.NAME]``."""
    for name, spec in book.curve.items():
        levels = book.records.get(spec.records)
        if levels is None:
            yield ("curve", name, "records"), unknown("set of records", spec.records, book.records)
            continue
        wrong = _no_fields(spec, ("level", "points", "grants"), levels)
        yield from ((("curve", name, word), cause) for word, cause in wrong)
        if not spec.costs:
            continue
        costs = book.records.get(spec.costs)
        if costs is None:
            yield ("curve", name, "costs"), unknown("set of records", spec.costs, book.records)
            continue
        wrong = _no_fields(spec, ("cost", "needs", "hidden"), costs)
        yield from ((("curve", name, word), cause) for word, cause in wrong)
        if spec.out_of_reach:
            try:
                missing = sorted(names_in(read_expression(spec.out_of_reach)) - set(costs.field))
            except ExpressionProblem as error:
                yield ("curve", name, "out_of_reach"), f"The expression is wrong: {error}."
            else:
                if missing:
                    yield ("curve", name, "out_of_reach"), unknown("field", missing[0], costs.field)
