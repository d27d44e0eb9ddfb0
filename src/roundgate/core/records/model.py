"""What a record is, whatever its shape in the file: a name, a place, and fields that hold values."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from roundgate.core.formats.protocol import Entry, Path
from roundgate.core.patterns import lazy
from roundgate.core.rulebook.model import RecordSet

IN_BRACES = lazy(r"\{([\w.-]+)\}")
"""A field in a title or a form: ``{name}``."""


LISTS = ("list", "choices", "refs")
"""Types of fields that hold several values."""


class HeldField(Struct, frozen=True):
    """What a record has in one field: a single value, or the values of a list, and the entries that hold them."""

    values: tuple[str, ...]
    is_list: bool
    entries: tuple[Entry, ...]
    is_nested: bool = False
    """True where it holds records of its own, which are not read further."""

    @property
    def shown(self) -> str:
        """The value as a person reads it."""
        if self.is_nested:
            return f"({len(self.entries)} values)"
        return ", ".join(self.values)


class Record(Struct, frozen=True):
    """One record: its name, its place in the file, and its fields by their names in the rulebook, or by their keys."""

    key: str
    path: Path
    """The path of the record; of several in one value, the value's; of one that is spread over many, empty."""
    fields: dict[str, HeldField]

    def value(self, field: str) -> str | None:
        """Return the single value of a field, None where there is none."""
        held = self.fields.get(field)
        return held.values[0] if held is not None and held.values and not held.is_list else None

    def entry_paths(self) -> Iterator[Path]:
        """Yield the paths of all values that it has."""
        yield from (entry.path for held in self.fields.values() for entry in held.entries)

    def title(self, spec: RecordSet) -> str:
        """Return what a person calls it: by the set's pattern, else its key."""
        if not spec.title:
            return self.key
        return IN_BRACES.sub(lambda match: self.value(match[1]) or self.key, spec.title)


def field_key(name: str, spec: RecordSet) -> str:
    """Return the key that a field has in the file."""
    field = spec.field.get(name)
    return (field.key or name) if field is not None else name


def separator_of(name: str, spec: RecordSet) -> str:
    """Return what separates the values of a field that holds several, as they are stored."""
    field = spec.field.get(name)
    return field.separator if field is not None else ","


def entries_in(held: HeldField, name: str, spec: RecordSet) -> list[Entry]:
    """Return entries of a field that may hold several, each by itself: also where one value of the file has them all.

    A part's place in the file is its own where the file has the value as it is read.
    """
    field = spec.field.get(name)
    if held.is_list:
        return [entry for entry in held.entries if entry.kind not in ("list", "map")]
    if field is None or field.type not in LISTS:
        return list(held.entries)
    found = []
    for entry in held.entries:
        is_plain = entry.end - entry.start == len(entry.value)
        at = 0
        for raw in entry.value.split(field.separator):
            part, lead = raw.strip(), len(raw) - len(raw.lstrip())
            if part and is_plain:
                start = entry.start + at + lead
                found.append(entry._replace(value=part, start=start, end=start + len(part)))
            elif part:
                found.append(entry._replace(value=part))
            at += len(raw) + len(field.separator)
    return found


def parts_in(held: HeldField, name: str, spec: RecordSet) -> list[str]:
    """Return the values of a field that may hold several, each by itself."""
    return [entry.value for entry in entries_in(held, name, spec)]
