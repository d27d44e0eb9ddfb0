"""Records that are group lines: a name, and words each after a sign that says which field it is of.

``marshal: +race.start -race.delete *coxswain``
"""

from __future__ import annotations

from collections.abc import Mapping

from roundgate.core.formats.protocol import Document, EditRefused
from roundgate.core.patterns import lazy
from roundgate.core.records.model import HeldField, Record, separator_of
from roundgate.core.records.shapes.places import entries_by_record, place_of_set
from roundgate.core.records.shapes.protocol import Editor
from roundgate.core.rulebook.model import RecordSet

_WORD = lazy(r"\S+")


class Signs:
    """Records whose fields are lists of words with a sign before each."""

    def read(self, document: Document, spec: RecordSet) -> list[Record]:
        """See Shape. A word without any of the signs is in no field."""
        found = []
        for path, entries in entries_by_record(document, spec).items():
            entry = entries[0]
            is_plain = entry.end - entry.start == len(entry.value)
            fields: dict[str, HeldField] = {}
            for name, sign in spec.signs.items():
                hits = [hit for hit in _WORD.finditer(entry.value) if hit[0].startswith(sign)]
                if hits:
                    places = tuple(
                        entry._replace(
                            value=hit[0][len(sign) :],
                            start=entry.start + hit.start() if is_plain else entry.start,
                            end=entry.start + hit.end() if is_plain else entry.end,
                        )
                        for hit in hits
                    )
                    fields[name] = HeldField(tuple(place.value for place in places), is_list=True, entries=places)
            found.append(Record(str(path[-1]), path, fields))
        return found

    def set_field(self, editor: Editor, spec: RecordSet, record: Record, field: str, value: str | None) -> None:
        """See Shape. Words that stay keep their places; new ones go after the last of their sign.

        Raises EditRefused.
        """
        sign = _sign(spec, field)
        wanted = [word for word in (value or "").split(separator_of(field, spec)) if word]
        odd = [word for word in wanted if _WORD.fullmatch(word) is None or not word]
        if odd:
            raise EditRefused(f"'{odd[0]}' cannot be a word of a line")
        entry = editor.document.find(record.path)
        text = entry.value if entry is not None else ""
        kept = [hit for hit in _WORD.finditer(text) if not hit[0].startswith(sign) or hit[0][len(sign) :] in wanted]
        there = {hit[0][len(sign) :] for hit in kept if hit[0].startswith(sign)}
        items = [hit[0] for hit in kept]
        last = max((at for at, word in enumerate(items) if word.startswith(sign)), default=len(items) - 1)
        new = [sign + word for word in dict.fromkeys(wanted) if word not in there]
        if len(kept) == len(_WORD.findall(text)):  # nothing goes: what is there keeps its spaces
            end = kept[last].end() if kept else 0
            changed = text[:end] + "".join(f" {word}" if end else word for word in new) + text[end:]
        else:
            changed = " ".join([*items[: last + 1], *new, *items[last + 1 :]])
        if changed != text:
            editor.make(editor.document.set(record.path, changed))

    def replace(self, editor: Editor, spec: RecordSet, record: Record, field: str, old: str, new: str) -> None:
        """See Shape."""
        entry, sign = editor.document.find(record.path), _sign(spec, field)
        if entry is not None:
            changed = _WORD.sub(lambda hit: sign + new if hit[0] == sign + old else hit[0], entry.value)
            editor.make(editor.document.set(record.path, changed))

    def add(self, editor: Editor, spec: RecordSet, key: str, values: Mapping[str, str], at: int | None) -> None:
        """See Shape."""
        items = [
            sign + word
            for name, sign in spec.signs.items()
            for word in values.get(name, "").split(separator_of(name, spec))
            if word
        ]
        editor.make(editor.document.set((*place_of_set(spec).home, key), " ".join(items)))

    def remove(self, editor: Editor, spec: RecordSet, record: Record) -> None:
        """See Shape."""
        editor.make(editor.document.remove(record.path))

    def rename(self, editor: Editor, spec: RecordSet, record: Record, new: str) -> None:
        """See Shape."""
        editor.make(editor.document.rename(record.path, new))

    def move(self, editor: Editor, spec: RecordSet, record: Record, to: int) -> None:
        """See Shape. Raises EditRefused. They are the entries of a map."""
        raise EditRefused("they are the entries of a map, whose order means nothing")


def _sign(spec: RecordSet, field: str) -> str:
    if field not in spec.signs:
        raise EditRefused(f"no sign is defined for {field}")
    return spec.signs[field]
