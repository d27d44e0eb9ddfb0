"""What can be wrong with one setting of a rulebook, or with an expression or a pattern, beyond their types."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any

import regex

from roundgate.core import values
from roundgate.core.facts import FACTS, version_parts
from roundgate.core.nearest import nearest
from roundgate.core.patterns import may_run_away
from roundgate.core.rulebook.expansion import family, fields_of_sets
from roundgate.core.rulebook.expressions import ExpressionProblem, names_in, read_expression
from roundgate.core.rulebook.model import RecordField, Rulebook, Setting
from roundgate.core.values import ValueProblem
from roundgate.core.values.moments import sample_of
from roundgate.core.values.parts import COLOUR_FORMS, colour_parts, part_names


def unknown(what: str, name: str, known: Mapping[str, Any]) -> str:
    """Report that a name leads nowhere, with the nearest one."""
    near = nearest(name, known)
    return f"No {what} is called '{name}'." + (f" Did you mean {near}?" if near else "")


def index_mistakes(spec: Setting) -> Iterator[tuple[str, str]]:
    """Find what is wrong with the index of a setting that has a value for each of several."""
    if spec.defaults and len(spec.defaults) != len(spec.index):
        yield "defaults", f"There are {len(spec.index)} indexes and {len(spec.defaults)} defaults."
    if spec.index and "{index}" not in spec.key:
        yield "key", "The key needs {index}, where the index goes."
    if len(set(spec.index)) < len(spec.index):
        yield "index", "An index is there more than once."


def field_mistakes(book: Rulebook, spec: RecordField) -> Iterator[tuple[str, str]]:
    """Find what is wrong with a field of records: the field of its description, and the cause."""
    yield from _value_mistakes(book, spec)
    if spec.to and spec.to not in book.records:
        yield "to", unknown("set of records", spec.to, book.records)


def setting_mistakes(book: Rulebook, spec: Setting) -> Iterator[tuple[str, str]]:
    """Find what is wrong with a setting: the field, and the cause."""
    if spec.file not in book.file:
        yield "file", unknown("file", spec.file, book.file)
    if spec.file and not spec.key:
        yield "key", "'key' is missing here."
    if not spec.file and not (spec.live and (spec.live.set or (spec.kept_in and spec.live.can_be_read))):
        yield "file", "'file' is missing here; a setting of the console alone needs 'live' with 'set'."
    if spec.file and spec.kept_in:
        yield "kept_in", "A file holds this setting, so it is kept there."
    if spec.live and spec.live.query:
        if spec.live.query not in book.query:
            yield "live", unknown("query", spec.live.query, book.query)
        if spec.live.read:
            yield "live", "It is read by 'read' or by a 'query', not by both."
        if not spec.live.match and spec.live.bytes is None:
            yield "live", "A value in a query's answer needs a 'match', or 'bytes'."
    yield from _value_mistakes(book, spec)


def _value_mistakes(book: Rulebook, spec: Setting) -> Iterator[tuple[str, str]]:
    """Find what is wrong with the values that a setting or a field may have."""
    if spec.type not in values.KINDS:
        yield "type", unknown("kind of value", spec.type, values.KINDS)
        return
    if spec.of and spec.of not in values.KINDS:
        yield "of", unknown("kind of value", spec.of, values.KINDS)
        return
    if spec.of and spec.type != "list":
        yield "of", "Only the entries of a list have a type of their own."
        return
    units = values.UNITS.get(spec.type)
    if units and spec.stored and spec.stored not in units:
        yield "stored", f"'{spec.stored}' is none of {', '.join(sorted(units))}."
        return
    wrong_form = list(_form_mistakes(spec))
    yield from wrong_form
    if wrong_form:
        return
    yield from _reference_mistakes(book, spec)
    for field in ("advice_when", "limit", "overridden_by"):
        source = getattr(spec, field)
        yield from ((field, cause) for cause in (expression_mistakes(book, source) if source else ()))
    for field, pattern in (
        ("pattern", spec.pattern),
        ("shown", spec.shown),
        ("pasted", spec.pasted),
        ("live", spec.live.match if spec.live else ""),
    ):
        found = list(pattern_mistakes(pattern, "value" if field not in ("pattern", "pasted") else ""))
        yield from ((field, cause) for cause in found)
        if found and field == "pattern":
            return
    if spec.live and ("\\n" in spec.live.match or "\n" in spec.live.match):
        yield "live", "The pattern is searched in each line of an answer, so it cannot hold a line break."
    yield from _default_mistakes(spec)


def _default_mistakes(spec: Setting) -> Iterator[tuple[str, str]]:
    try:
        values.default_of(spec)
    except ValueProblem as error:
        yield "default", f"The default is not a value of its own setting: {error.cause}"


def _reference_mistakes(book: Rulebook, spec: Setting) -> Iterator[tuple[str, str]]:
    if spec.fixed_by and spec.fixed_by not in book.setting:
        yield "fixed_by", unknown("setting", spec.fixed_by, book.setting)
    if spec.kind and spec.kind not in book.kind:
        yield "kind", unknown("kind", spec.kind, book.kind)
    for place in spec.also:
        if place.file and place.file not in book.file:
            yield "also", unknown("file", place.file, book.file)
        if (place.file or spec.file, place.key) == (spec.file, spec.key):
            yield "also", "A second place must be another one than the first."
    editions = dict.fromkeys(book.rulebook.editions)
    for field, named in (("only", spec.only), ("only_choices", sum(spec.only_choices.values(), ()))):
        yield from ((field, unknown("edition", name, editions)) for name in named if name not in editions)
    yield from (
        ("only_choices", unknown("choice", choice, spec.choices))
        for choice in spec.only_choices
        if choice not in spec.choices
    )
    for field, version in (("since", spec.since), ("until", spec.until)):
        if version and not any(char.isdigit() for char in version):
            yield field, f"'{version}' is not a version: it has no number."
    if spec.since and spec.until and version_parts(spec.since) >= version_parts(spec.until):
        yield "until", f"{spec.until} does not come after {spec.since}."


def _form_mistakes(spec: Setting) -> Iterator[tuple[str, str]]:
    sign = spec.separator if isinstance(spec, RecordField) else spec.separator.strip(" ") or spec.separator
    if spec.type in ("list", "choices") and len(sign) != 1:
        yield "separator", "A separator is one character; of a setting it may have spaces beside it."
    if not spec.form:
        return
    if spec.type == "colour":
        parts = colour_parts(spec.form)
        if spec.form not in COLOUR_FORMS and parts not in ("rgb", "rgba"):
            yield "form", f"'{spec.form}' is none of {', '.join(COLOUR_FORMS)}, nor made of r, g, b and a."
        if spec.scale not in (1, 255):
            yield "scale", "The scale of a colour is 1 or 255."
    elif spec.type == "vector":
        names = part_names(spec.form)
        if len(names) < 2 or len(set(names)) < len(names) or any(not name.isidentifier() for name in names):
            yield "form", "The form needs two or more different names in braces, such as {x} {y} {z}."
        yield from (
            ("bounds", unknown("part", name, dict.fromkeys(names))) for name in spec.bounds if name not in names
        )
    elif spec.type in ("date", "time") and not sample_of(spec.form, spec.type):
        yield "form", f"'{spec.form}' does not hold all of a {spec.type}, such as %Y-%m-%d or %H:%M."


def pattern_mistakes(pattern: str, group: str = "") -> Iterator[str]:
    """Find what is wrong with a pattern; ``group`` is a group that it must have."""
    try:
        groups = re.compile(pattern).groupindex
        regex.compile(pattern)  # both read it: this one where a search needs a limit of time
    except (re.error, regex.error) as error:
        yield f"The pattern is wrong: {error}."
        return
    if pattern and group and group not in groups:
        yield f"The pattern needs a group (?P<{group}>...)."
    if may_run_away(pattern):
        yield (
            "The pattern can take forever on a long text: something repeated is repeated again, as in (a+)+. "
            "Write it so that each character can be matched in one way only."
        )


def known_names(book: Rulebook) -> dict[str, Any]:
    """Return the names that a rule may use: settings, all indexes of one at once, lists, sets, and facts."""
    return dict.fromkeys((*book.setting, *map(family, book.setting), *book.list, *book.records, *FACTS))


def expression_mistakes(book: Rulebook, source: str) -> Iterator[str]:
    """Find what is wrong with an expression: what cannot be read, and names that lead nowhere."""
    try:
        unknown_names = names_in(read_expression(source), fields_of_sets(book)) - set(known_names(book))
    except ExpressionProblem as error:
        yield f"The expression cannot be read: {error}."
        return
    yield from (unknown("setting, list or set", name, known_names(book)) for name in sorted(unknown_names))
