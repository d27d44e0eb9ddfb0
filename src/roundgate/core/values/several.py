"""Several entries in one value, separated by a separator: several choices, and lists; and the id of one thing."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress

from msgspec.structs import replace

from roundgate.core.nearest import nearest
from roundgate.core.patterns import fits
from roundgate.core.rulebook.model import ItemKind, Setting
from roundgate.core.values.protocol import Traits, Value, ValueKind, ValueProblem


def entries_of(value: Value) -> tuple[str, ...]:
    """Return the entries of a value that has several."""
    return value if isinstance(value, tuple) else (str(value),)


def entry_problem(entry: str, spec: Setting) -> ValueProblem | None:
    """Return why an entry is none of the built-in ones and has not the right form; None where it has."""
    if entry in spec.catalogue or (spec.pattern and fits(spec.pattern, entry)):
        return None
    if not spec.catalogue and not spec.pattern:
        return None
    near = next((known for known in spec.catalogue if known.lower() == entry.lower()), "")
    near = near or nearest(entry, spec.catalogue, least=70)
    hint = f" Did you mean {near}?" if near else f" It should look like {spec.example}." if spec.example else ""
    return ValueProblem("value-pattern", f"'{entry}' does not have the right form.{hint}", near)


def _split(text: str, separator: str, *, forgiving: bool) -> list[str]:
    """Split a text at its separator; what a person types is split at spaces and commas as well."""
    if not text:
        return []
    sign = _sign(separator)
    is_loose = forgiving or sign != separator
    if forgiving and sign not in text:
        sign = ","
    parts = text.split(sign) if sign else text.split()
    return [part.strip() for part in parts] if is_loose else parts


def _sign(separator: str) -> str:
    """Return what separates the entries; with spaces beside it, as in ``", "``, spaces do not count."""
    return separator.strip() or separator


class Entries(Traits):
    """What several choices and lists have in common."""

    def parse(self, typed: str, spec: Setting) -> Value:
        """See ValueKind. The file's separator may be typed, or commas."""
        return self._checked([self.meant(part, spec) for part in _split(typed, spec.separator, forgiving=True)], spec)

    def read(self, stored: str, spec: Setting) -> Value:
        """See ValueKind."""
        return self._checked(_split(stored, spec.separator, forgiving=False), spec)

    def meant(self, entry: str, spec: Setting) -> str:
        """Return the entry that a person means."""
        return entry

    def wrong(self, entry: str, spec: Setting) -> ValueProblem | None:
        """Return why an entry will not do."""
        raise NotImplementedError

    def _checked(self, entries: Sequence[str], spec: Setting) -> Value:
        for number, entry in enumerate(entries):
            if not entry:
                meant = spec.separator.join(entry for entry in entries if entry)
                raise ValueProblem("value-entry", f"Entry {number + 1} is empty.", meant)
            if any(char < " " or char == "\x7f" for char in entry):
                raise ValueProblem("value-control", "An entry cannot hold a control character.")
            wrong = self.wrong(entry, spec)
            if wrong is not None:
                better = [*entries[:number], wrong.meant, *entries[number + 1 :]] if wrong.meant else []
                raise ValueProblem(wrong.code, wrong.cause, spec.separator.join(better))
            if spec.unique and entry in entries[:number]:
                meant = spec.separator.join(dict.fromkeys(entries))
                raise ValueProblem("value-entry", f"{entry} is there more than once.", meant)
        least, most = spec.length or (0, 1_000_000)
        if len(entries) < least:
            raise ValueProblem("value-length", f"It has {len(entries)} entries; the minimum is {least}.")
        if len(entries) > most:
            meant = spec.separator.join(entries[:most])
            raise ValueProblem("value-length", f"It has {len(entries)} entries; the maximum is {most}.", meant)
        return tuple(entries)

    def store(self, value: Value, spec: Setting) -> str:
        """See ValueKind. Raises ValueProblem."""
        entries = entries_of(value)
        sign = _sign(spec.separator)
        held = next((entry for entry in entries if sign in entry), None)
        if held is not None:
            raise ValueProblem("value-entry", f"'{held}' holds '{sign}', which separates the entries.")
        return spec.separator.join(entries)

    def show(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return spec.separator.join(entries_of(value)) or "(empty)"


class Choices(Entries):
    """``choices``: any of a few words, each once."""

    name = "choices"

    def example(self, spec: Setting) -> str:
        """See ValueKind."""
        return spec.separator.join(list(spec.choices)[:2]) or self.typed

    def meant(self, entry: str, spec: Setting) -> str:
        """See Entries. Case does not matter to the person."""
        return next((choice for choice in spec.choices if choice.lower() == entry.lower()), entry)

    def wrong(self, entry: str, spec: Setting) -> ValueProblem | None:
        """See Entries."""
        if entry in spec.choices:
            return None
        cause = f"'{entry}' is not one of {', '.join(spec.choices)}."
        return ValueProblem("value-choice", cause, nearest(entry, spec.choices))

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        return f"any of {', '.join(spec.choices)}, separated by '{spec.separator}'"


class EntryList(Entries):
    """``list``: entries in their order, in one value."""

    name = "list"

    def __init__(self, kinds: Mapping[str, ValueKind]) -> None:
        """Take all kinds by their names: the entries of a list may have any of them."""
        self.kinds = kinds

    def example(self, spec: Setting) -> str:
        """See ValueKind."""
        return spec.example or spec.separator.join(spec.catalogue[:2]) or self.typed

    def meant(self, entry: str, spec: Setting) -> str:
        """See Entries. An entry of a type of its own is read as that type reads what people type."""
        if not spec.of:
            return entry
        with suppress(ValueProblem):  # it is told by ``wrong``
            kind, inner = self._of_entry(spec)
            return kind.store(kind.parse(entry, inner), inner)
        return entry

    def wrong(self, entry: str, spec: Setting) -> ValueProblem | None:
        """See Entries."""
        if not spec.of:
            return entry_problem(entry, spec)
        kind, inner = self._of_entry(spec)
        try:
            kind.read(entry, inner)
        except ValueProblem as problem:
            return problem
        return None

    def _of_entry(self, spec: Setting) -> tuple[ValueKind, Setting]:
        """Return the kind of the entries, and the description of one of them."""
        return self.kinds[spec.of], replace(spec, type=spec.of, of="", length=None)

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        text = f"entries separated by '{spec.separator}'"
        if spec.of:
            kind, inner = self._of_entry(spec)
            text += f", each {kind.describe(inner)}"
        text += f", {spec.length[0]} to {spec.length[1]} of them" if spec.length else ""
        text += f", such as {', '.join(spec.catalogue[:3])}" if spec.catalogue else ""
        return text + (f", such as {spec.example}" if spec.example and not spec.catalogue else "")


def _kind_of(spec: Setting) -> ItemKind:
    return spec.ids or ItemKind(pattern=spec.pattern, example=spec.example, catalogue=spec.catalogue)


class Identifier(Traits):
    """``id``: the id of one thing or person, of a kind that the rulebook describes."""

    name = "id"

    def example(self, spec: Setting) -> str:
        """See ValueKind."""
        return spec.example or next(iter(spec.catalogue), self.typed)

    def parse(self, typed: str, spec: Setting) -> Value:
        """See ValueKind. What is pasted around an id, its case and look-alike letters do not matter to the person."""
        if typed in spec.catalogue:
            return typed
        from roundgate.core.people.ids import meant_id  # few commands read an id

        return self.read(meant_id(typed, _kind_of(spec)) or typed, spec)

    def read(self, stored: str, spec: Setting) -> Value:
        """See ValueKind. Raises ValueProblem."""
        if not stored or stored in spec.catalogue:
            return stored
        from roundgate.core.people.ids import has_form, id_mistake, meant_id

        kind = _kind_of(spec)
        mistake = id_mistake(stored, kind)
        if mistake:
            meant = meant_id(stored, kind)
            like = f" It should look like {spec.example}." if spec.example and not has_form(stored, kind) else ""
            hint = f" Did you mean {meant}?" if meant else like
            raise ValueProblem("value-pattern", mistake + hint, meant)
        if any(char < " " or char == "\x7f" for char in stored):
            raise ValueProblem("value-control", "An id cannot hold a control character.")
        return stored

    def store(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(value)

    def show(self, value: Value, spec: Setting) -> str:
        """See ValueKind."""
        return str(value) or "(empty)"

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        article = "an" if spec.kind[:1].lower() in tuple("aeiou") else "a"
        what = f"the id of {article} {spec.kind}" if spec.kind else "an id"
        text = f", {', '.join(spec.catalogue)}" if spec.catalogue else ""
        return what + text + (f", such as {spec.example}" if spec.example else "")


class Reference(Identifier):
    """``ref``: the key of a record of another set; whether there is such a record is checked where all sets are."""

    name = "ref"

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        to = getattr(spec, "to", "")
        return f"one of {to}" if to else "the key of a record"


class References(EntryList):
    """``refs``: the keys of several records of another set."""

    name = "refs"

    def describe(self, spec: Setting) -> str:
        """See ValueKind."""
        to = getattr(spec, "to", "")
        return f"some of {to}, separated by '{spec.separator}'" if to else super().describe(spec)
