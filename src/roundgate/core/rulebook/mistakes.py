"""What can be wrong with a rulebook beyond its types: names that lead nowhere, values out of range, broken patterns."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from roundgate.core import values
from roundgate.core.advice import rows_of
from roundgate.core.facts import FACTS
from roundgate.core.formats import FORMATS
from roundgate.core.records.model import IN_BRACES
from roundgate.core.records.shapes.forms import form_mistake
from roundgate.core.records.shapes.places import place_of_set
from roundgate.core.rulebook.expansion import above, family, placeholder
from roundgate.core.rulebook.loot_mistakes import curve_mistakes, loot_mistakes
from roundgate.core.rulebook.model import RecordSet, RosterLive, Rulebook, TomlValue
from roundgate.core.rulebook.rank_mistakes import rank_mistakes
from roundgate.core.rulebook.server_mistakes import action_mistakes, query_mistakes, server_mistakes
from roundgate.core.rulebook.setting_mistakes import (
    expression_mistakes,
    field_mistakes,
    index_mistakes,
    pattern_mistakes,
    setting_mistakes,
    unknown,
)
from roundgate.core.values import ValueProblem


def mistakes(book: Rulebook, written: Rulebook | None = None) -> Iterator[tuple[tuple[str, ...], str]]:
    """Find what the types alone do not catch: names that lead nowhere, values out of range, broken patterns.

    ``book`` has a setting for each index; ``written`` is the rulebook as its file has it.
    """
    yield from _file_mistakes(book)
    for name, spec in (written or book).setting.items():
        yield from ((("setting", name, field), cause) for field, cause in index_mistakes(spec))
    for name, spec in book.setting.items():
        yield from ((("setting", name, field), cause) for field, cause in setting_mistakes(book, spec))
    yield from _double_mistakes(book)
    for name, described in book.list.items():
        if described.file not in book.file:
            yield ("list", name, "file"), unknown("file", described.file, book.file)
        if described.item not in book.kind:
            yield ("list", name, "item"), unknown("kind", described.item, book.kind)
    for name, kind in book.kind.items():
        yield from ((("kind", name, "pattern"), cause) for cause in pattern_mistakes(kind.pattern))
    yield from _record_mistakes(book)
    yield from _roster_mistakes(book)
    yield from rank_mistakes(book)
    yield from loot_mistakes(book)
    yield from curve_mistakes(book)
    yield from _rule_mistakes(book)
    yield from _table_mistakes(book)
    yield from _preset_mistakes(book)
    yield from _mod_mistakes(book)
    yield from query_mistakes(book)
    yield from action_mistakes(book)
    yield from server_mistakes(book)


def _file_mistakes(book: Rulebook) -> Iterator[tuple[tuple[str, ...], str]]:
    for name, file in book.file.items():
        if file.format not in FORMATS:
            yield ("file", name, "format"), unknown("format", file.format, FORMATS)
        if "{" in file.path and placeholder(file.path) is None:
            yield ("file", name, "path"), "A path has one name in braces, in one of its parts, or none."
        if file.chosen_by and file.chosen_by not in book.setting:
            yield ("file", name, "chosen_by"), unknown("setting", file.chosen_by, book.setting)
        if file.overridden_by and file.overridden_by not in book.file:
            yield ("file", name, "overridden_by"), unknown("file", file.overridden_by, book.file)
        elif name in above(book, name):
            yield ("file", name, "overridden_by"), "The files override each other, in a circle."


def _double_mistakes(book: Rulebook) -> Iterator[tuple[tuple[str, ...], str]]:
    """Find two settings at one place of a file."""
    taken: dict[tuple[str, str], str] = {}
    for name, spec in book.setting.items():
        for place in ((spec.file, spec.key), *((twin.file or spec.file, twin.key) for twin in spec.also)):
            if not place[0]:
                continue  # a setting of the console alone has no place
            other = taken.setdefault(place, name)
            if family(other) != family(name):  # of one setting with an index that is said already
                cause = f"The settings {other} and {name} have the same key, '{place[1]}', in the same file."
                yield ("setting", name, "key"), cause


def _table_mistakes(book: Rulebook) -> Iterator[tuple[tuple[str, ...], str]]:
    for name, table in book.table.items():
        if table.given not in book.setting and table.given not in FACTS:
            yield ("table", name, "given"), unknown("setting", table.given, {**book.setting, **FACTS})
            continue
        if table.most not in book.setting:
            yield ("table", name, "most"), unknown("setting", table.most, book.setting)
            continue
        try:
            rows = rows_of(table, book)
        except ValueProblem as error:
            yield ("table", name, "rows"), error.cause
            continue
        if not rows or sorted(rows) != list(rows) or len({row.given for row in rows}) < len(rows):
            yield ("table", name, "rows"), "The rows must rise, from the least to the most of 'given'."


def _record_mistakes(book: Rulebook) -> Iterator[tuple[tuple[str, ...], str]]:
    for name, record in book.records.items():
        if record.file not in book.file:
            yield ("records", name, "file"), unknown("file", record.file, book.file)
        try:
            place_of_set(record)
        except ValueError as error:
            yield ("records", name, "at"), f"{error}."
        if record.key != "*" and record.key not in record.field:
            yield ("records", name, "key"), unknown("field", record.key, record.field)
        yield from ((("records", name, word), cause) for word, cause in _shape_mistakes(record))
        for field in record.template:
            if field not in record.field and not record.partly:
                yield ("records", name, "template"), unknown("field", field, record.field)
        for field, spec in record.field.items():
            for _, cause in field_mistakes(book, spec):
                yield ("records", name, "field"), f"{field}: {cause}"


def _shape_mistakes(spec: RecordSet) -> Iterator[tuple[str, str]]:
    """Find what is wrong with what a set says of its shape: the word, and the cause."""
    if spec.form and (cause := form_mistake(spec)):
        yield "form", cause
    shapes = [word for word in ("parts", "signs", "turned") if getattr(spec, word)]
    if len(shapes) > 1 or (spec.form and shapes and shapes != ["parts"]):
        yield shapes[-1], f"Records have one shape, and this is another one than {shapes[0] if shapes[1:] else 'form'}."
    for field in (*spec.signs, *filter(None, (spec.turned, spec.ordered))):
        if field not in spec.field:
            yield "signs" if field in spec.signs else "ordered", unknown("field", field, spec.field)
    if len(set(spec.signs.values())) < len(spec.signs) or not all(spec.signs.values()):
        yield "signs", "Each field needs a different sign."
    if (spec.signs or spec.turned) and not spec.at.endswith("*"):
        yield "at", "Records of this shape are the entries of a map: end it with .*"


def _roster_mistakes(book: Rulebook) -> Iterator[tuple[tuple[str, ...], str]]:
    for name, roster in book.roster.items():
        spec = book.records.get(roster.records)
        if spec is None:
            yield ("roster", name, "records"), unknown("set of records", roster.records, book.records)
        for word in ("rank", "may", "never") if spec is not None else ():
            field = getattr(roster, word)
            if spec is not None and field and field not in spec.field:
                yield ("roster", name, word), unknown("field", field, spec.field)
        if (
            spec is not None
            and roster.until
            and (roster.until not in spec.field or spec.field[roster.until].type != "date")
        ):
            yield ("roster", name, "until"), f"'until' needs a field of type date; {roster.until} is none."
        if spec is not None and roster.live is not None:
            yield from ((("roster", name, "live"), cause) for cause in _live_mistakes(roster.live, spec))
        if roster.on:
            yield from ((("roster", name, "on"), cause) for cause in expression_mistakes(book, roster.on))
    for name, record in book.records.items():
        if record.kind and record.kind not in book.kind:
            yield ("records", name, "kind"), unknown("kind", record.kind, book.kind)


def _live_mistakes(live: RosterLive, spec: RecordSet) -> Iterator[str]:
    for text in (live.add, live.remove, live.ask, live.shows):
        for field in IN_BRACES.findall(text):
            if field != "id" and field not in spec.field:
                yield unknown("field", field, spec.field)
    for word, text in (("remove", live.remove), ("ask", live.ask)):
        for field in IN_BRACES.findall(text):
            if field in spec.field and field not in ("id", spec.key):
                yield f"'{word}' may name the id alone, not {field}: the record may be gone from the file by then."
    if bool(live.add) != bool(live.remove):
        yield "'add' and 'remove' belong together: what is not proven is taken back."
    if bool(live.ask) != bool(live.shows):
        yield "'ask' and 'shows' belong together: a question, and a pattern for its answer."
    yield from pattern_mistakes(IN_BRACES.sub("x", live.shows))


def _mod_mistakes(book: Rulebook) -> Iterator[tuple[tuple[str, ...], str]]:
    mods = book.mods
    if mods is None:
        return
    if mods.list not in book.setting:
        yield ("mods", "list"), unknown("setting", mods.list, book.setting)
    elif book.setting[mods.list].type != "list":
        yield ("mods", "list"), f"The setting {mods.list} must be of type list, to name the mods."
    for field, path in (
        ("folder", mods.folder),
        *((("copies"), path) for pair in mods.copies.items() for path in pair),
    ):
        if "{mod}" not in path:
            yield ("mods", field), f"'{path}' needs {{mod}}, where the name of the mod goes."


def _rule_mistakes(book: Rulebook) -> Iterator[tuple[tuple[str, ...], str]]:
    names = [rule.name for rule in book.rule]
    for rule in book.rule:
        if names.count(rule.name) > 1:
            names.remove(rule.name)
            yield ("rule", "name"), f"Two rules have the name {rule.name}."
        yield from (
            (("rule", "needs"), f"Rule {rule.name}: {cause}") for cause in expression_mistakes(book, rule.needs)
        )


def _preset_mistakes(book: Rulebook) -> Iterator[tuple[tuple[str, ...], str]]:
    for name, preset in book.preset.items():
        for field, several in (("set", preset.set), ("mode", preset.mode)):
            yield from ((("preset", name, field), cause) for cause in _value_mistakes(book, several))


def _value_mistakes(book: Rulebook, several: Mapping[str, TomlValue]) -> Iterator[str]:
    for key, value in several.items():
        spec = book.setting.get(key)
        if spec is None:
            yield unknown("setting", key, book.setting)
            continue
        try:
            values.parse(values.plain_text(value, spec), spec)
        except ValueProblem as error:
            yield f"{key}: {error.cause}"
