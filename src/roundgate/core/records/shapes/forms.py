"""A text that holds the fields of a record in a form which the rulebook spells out: ``{item}|{chance}``.

The last fields may be missing, with the signs before them; so ``rope`` is a record of that form too.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import lru_cache

from roundgate.core.formats.protocol import EditRefused
from roundgate.core.records.model import IN_BRACES
from roundgate.core.rulebook.model import RecordSet


def form_mistake(spec: RecordSet) -> str:
    """Return what is wrong with the form of a set; an empty text where nothing is."""
    names = IN_BRACES.findall(spec.form)
    if not names:
        return "The form names no field, such as {id}."
    unknown = [name for name in names if name not in spec.field]
    if unknown:
        return f"The form names a field that the set does not have: {unknown[0]}."
    if len(set(names)) < len(names):
        return "The form names a field twice."
    gaps = IN_BRACES.split(spec.form)[2:-1:2]
    return "The form needs something between two fields." if not all(gaps) else ""


@lru_cache(maxsize=64)
def _pattern(form: str, needed: frozenset[str]) -> re.Pattern[str]:
    """Compile a form; the fields after the last needed one may be missing."""
    parts = IN_BRACES.split(form)
    texts, names = parts[::2], parts[1::2]
    last = max((at for at, name in enumerate(names) if name in needed), default=0)
    built, open_groups = "", 0
    for at in range(len(names)):
        gap = r"\s+".join(re.escape(word) for word in re.split(r"\s+", texts[at]))
        is_last = at == len(names) - 1
        if at > last:
            built, open_groups = built + "(?:", open_groups + 1
        built += gap + rf"(?P<f{at}>{'.+' if is_last else '.+?'})"
    return re.compile(built + ")?" * open_groups + re.escape(texts[-1]), re.S)


def _compiled(spec: RecordSet) -> tuple[re.Pattern[str], list[str]]:
    needed = frozenset(name for name, field in spec.field.items() if field.needed)
    return _pattern(spec.form, needed), IN_BRACES.findall(spec.form)


def fields_of(text: str, spec: RecordSet) -> dict[str, tuple[str, int, int]] | None:
    """Return the fields of a text, each with where it begins and ends; None where the text is not of the form."""
    pattern, names = _compiled(spec)
    match = pattern.fullmatch(text)
    if match is None:
        return None
    return {
        name: (match[f"f{at}"], *match.span(f"f{at}")) for at, name in enumerate(names) if match[f"f{at}"] is not None
    }


def text_of(values: Mapping[str, str], spec: RecordSet) -> str:
    """Write fields in the form. Raises EditRefused where one that stands before another is missing, or cannot stand."""
    parts = IN_BRACES.split(spec.form)
    texts, names = parts[::2], parts[1::2]
    given = [name for name in names if values.get(name)]
    needed = [name for name in names if (field := spec.field.get(name)) is not None and field.needed]
    if given != names[: len(given)] or any(name not in given for name in needed):
        missing = next(name for name in names if name not in given)
        raise EditRefused(f"{missing} is missing; the form is {spec.form}")
    text = "".join(before + values[name] for before, name in zip(texts, given, strict=False)) + texts[-1]
    if {name: found for name, (found, _, _) in (fields_of(text, spec) or {}).items()} != {
        name: values[name] for name in given
    }:
        raise EditRefused(f"'{text}' would be read back as something else; the form is {spec.form}")
    others = [name for name in values if name not in names and values[name]]
    if others:
        raise EditRefused(f"there is no place for {others[0]}; the form is {spec.form}")
    return text


def with_field(text: str, spec: RecordSet, field: str, value: str | None) -> str:
    """Return a text with one field changed; all between the fields stays as it is written. Raises EditRefused."""
    found = fields_of(text, spec)
    if found is None:
        raise EditRefused(f"'{text}' is not of the form {spec.form}")
    values = {name: value for name, (value, _, _) in found.items()}
    wanted = {**values, field: value or ""}
    canonical = text_of(wanted, spec)
    if value is None or field not in found:
        kept, tail = [other for other in found if other != field], IN_BRACES.split(spec.form)[-1]
        end = max((found[other][2] for other in kept), default=0)
        if value is None:
            return text[:end] + tail if kept else canonical
        before = text_of({other: values[other] for other in kept}, spec) if kept else tail
        return text[:end] + canonical[len(before) - len(tail) :]
    _, start, stop = found[field]
    changed = text[:start] + value + text[stop:]
    return changed if fields_of(changed, spec) is not None else canonical
