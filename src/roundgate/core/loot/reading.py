"""Loot read out of a server's records, as its rulebook says how a game draws it."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from functools import lru_cache
from typing import Literal, NamedTuple

from roundgate.core import values
from roundgate.core.files import ServerFiles
from roundgate.core.formats.protocol import Entry
from roundgate.core.loot.model import LootItem, LootScheme, Node, NodeName, Slip
from roundgate.core.nearest import nearest
from roundgate.core.patterns import lazy
from roundgate.core.records.model import HeldField, Record, parts_in
from roundgate.core.records.sets import number_in, records_that_count
from roundgate.core.rulebook.model import Draw, Loot, LootSource, RecordField, RecordSet, Rulebook
from roundgate.core.values import ValueProblem

_PART = lazy(r"\{(\w+)\}")
_COUNT = lazy(r"\s*(\d+)\s*(?:-\s*(\d+)\s*)?")
_PATTERNS = {"what": r"(?P<what>.+?)", "chance": r"(?P<chance>[^|*\s]+)", "count": r"(?P<count>\d+(?:\s*-\s*\d+)?)"}
MOST_AT_ONCE = 100_000
"""A count above this is taken as this: no crate holds more, and each count has a place of its own in the sums."""


class _Raw(NamedTuple):
    """An entry as it is in the file: its parts as texts, and where it is."""

    what: str
    chance: str | None
    many: str | None
    text: str
    place: Entry | None
    is_formed: bool = True


def loot_in(files: ServerFiles, name: str) -> LootScheme:
    """Read what one ``[loot.NAME]`` of the rulebook describes."""
    book = files.book
    spec = book.loot[name]
    known = {set_name: records_of(files, set_name) for set_name in (spec.records, *spec.table)}
    keys = {set_name: [record.key for record in records] for set_name, records in known.items()}
    nodes: dict[NodeName, Node] = {}
    for set_name, records in known.items():
        source: LootSource = spec if set_name == spec.records else spec.table[set_name]
        for record in records:
            nodes[set_name, record.key] = _node(book, spec, source, set_name, record, keys)
    opened = tuple((spec.records, record.key) for record in known[spec.records])
    opened_set = book.records[spec.records]
    wanted = {record.key: _whole_number(record, spec.at_once, opened_set) for record in known[spec.records]}
    places = {record.key: _places(record, spec) for record in known[spec.records]}
    at_once = {}
    for key, count in wanted.items():
        most = places[key]
        at_once[key] = count if most is None else min(count, most)
    return LootScheme(name, spec, nodes, opened, at_once, wanted, places)


def records_of(files: ServerFiles, set_name: str) -> list[Record]:
    """Return the records of a set; of several with one key, the last one counts."""
    spec = files.book.records[set_name]
    return records_that_count(files.book, spec, files.document)


def _places(record: Record, spec: Loot) -> int | None:
    if not spec.places:
        return None
    held = record.fields.get(spec.places)
    return len(held.values) if held is not None else 0


def _whole_number(record: Record, field: str, spec: RecordSet) -> int:
    """Return the number in a field, or its default, or 1 where there is no such field."""
    if not field:
        return 1
    number = number_in(record, field, spec)
    return 1 if number is None else min(MOST_AT_ONCE, max(0, int(number)))


def _share(record: Record, field: str, spec: RecordSet) -> float:
    """Return a share as a fraction of 1, whatever the file holds; 0 where there is none."""
    number, described = number_in(record, field, spec), spec.field.get(field)
    share = float(number or 0) / (100 if described is not None and described.type == "percent" else 1)
    return min(1.0, max(0.0, share))


def _is_on(record: Record, field: str, spec: RecordSet) -> bool:
    described, stored = spec.field.get(field), record.value(field)
    with suppress(ValueProblem):
        if described is not None:
            value = values.read(stored, described) if stored is not None else values.default_of(described)
            return value is True
    return stored == "true"


def _node(
    book: Rulebook, loot: Loot, source: LootSource, set_name: str, record: Record, keys: Mapping[str, Sequence[str]]
) -> Node:
    spec = book.records[set_name]
    is_sure = bool(source.sure) and _is_on(record, source.sure, spec)
    draw: Draw = source.draw
    if source.draw_by:
        described = spec.field.get(source.draw_by)
        held = record.value(source.draw_by) or str(described.default if described is not None else "")
        draw = held if held in ("each", "one", "some") else source.draw  # type: ignore[assignment]
    share = _share(record, source.left_out, spec) if source.left_out else 0.0
    missing = 1.0 - share if source.left_out and source.left_out_is == "there" else share
    of: Literal["entry", "record"] = source.left_out_of
    items = tuple(_item(raw, loot, source, keys, is_sure=is_sure, draw=draw) for raw in _raws(record, source, spec))
    return Node(
        set_name, record, items, "each" if is_sure else draw, _draws(record, source, spec), source.again, source.whole,
        source.full, source.without, is_sure, missing, of, source.nothing,
    )  # fmt: skip


def _draws(record: Record, source: LootSource, spec: RecordSet) -> tuple[int, int]:
    described = spec.field.get(source.draws)
    held = record.value(source.draws) or (str(described.default) if described and described.default is not None else "")
    return _count(held or source.draws) or (1, 1)


def _count(text: str | None) -> tuple[int, int] | None:
    match = _COUNT.fullmatch(text) if text is not None else None
    if match is None:
        return None
    least = min(MOST_AT_ONCE, int(match[1][:9]))
    most = min(MOST_AT_ONCE, int(match[2][:9])) if match[2] else least
    return (least, most) if least <= most else None


def _raws(record: Record, source: LootSource, spec: RecordSet) -> Iterator[_Raw]:
    for field in source.entries:
        held = record.fields.get(field)
        if held is not None and held.is_nested:
            yield from _objects(held, record, source)
        elif held is not None:
            yield from _texts(held, field, source, spec)
        for name, chance in record.fields.items() if held is None else ():
            if name.startswith(f"{field}.") and chance.values:  # a map of chances by things
                yield _Raw(
                    name[len(field) + 1 :],
                    chance.values[0],
                    None,
                    f"{name[len(field) + 1 :]}: {chance.values[0]}",
                    chance.entries[0],
                )


def _texts(held: HeldField, field: str, source: LootSource, spec: RecordSet) -> Iterator[_Raw]:
    patterns = [_pattern(form) for form in source.entry if "=" not in form]
    places: Sequence[Entry | None] = [entry for entry in held.entries if entry.kind not in ("list", "map")]
    described: RecordField | None = spec.field.get(field)
    texts = list(held.values)
    if not held.is_list and described is not None and described.type in ("list", "refs", "choices"):
        texts = parts_in(held, field, spec)
        places = [held.entries[0] if held.entries else None] * len(texts)
    if len(places) != len(texts):
        places = [None] * len(texts)
    for text, place in zip(texts, places, strict=True):
        match = next((found for pattern in patterns if (found := pattern.fullmatch(text))), None)
        if match is None:
            yield _Raw(text, None, None, text, place, is_formed=False)
            continue
        parts = match.groupdict()
        yield _Raw(parts["what"].strip(), parts.get("chance"), parts.get("count"), text, place)


@lru_cache(maxsize=64)
def _pattern(form: str) -> re.Pattern[str]:
    pieces = _PART.split(form)
    return re.compile("".join(_PATTERNS[piece] if at % 2 else re.escape(piece) for at, piece in enumerate(pieces)))


def keys_of_objects(source: LootSource) -> dict[str, str]:
    """Return the keys of an entry that is an object: what they mean, by what the rulebook calls them."""
    return dict(pair.split("=", 1) for form in source.entry if "=" in form for pair in form.replace(" ", "").split(","))


def _objects(held: HeldField, record: Record, source: LootSource) -> Iterator[_Raw]:
    keys = keys_of_objects(source)
    depth = len(record.path)
    groups: dict[int, dict[str, Entry]] = {}
    for entry in held.entries:
        number = next((step for step in entry.path[depth:] if isinstance(step, int)), None)
        if number is not None and isinstance(entry.path[-1], str):
            groups.setdefault(number, {})[entry.path[-1]] = entry
    for found in groups.values():
        parts = {meaning: found[key].value for meaning, key in keys.items() if key in found}
        count = parts.get("count")
        if count is None and ("least" in parts or "most" in parts):
            least = parts.get("least", parts.get("most", "1"))
            count = f"{least}-{parts.get('most', least)}"
        text = ", ".join(f"{name}: {entry.value}" for name, entry in found.items())
        place = found.get(keys.get("chance", ""), next(iter(found.values())))
        yield _Raw(parts.get("what", ""), parts.get("chance"), count, text, place, is_formed="what" in parts)


def _item(
    raw: _Raw, loot: Loot, source: LootSource, keys: Mapping[str, Sequence[str]], *, is_sure: bool, draw: Draw
) -> LootItem:
    table, what, slip, meant = "", raw.what, "", ""
    for set_name, entry in loot.table.items():
        if entry.prefix and raw.what.startswith(entry.prefix):
            table, what = set_name, raw.what[len(entry.prefix) :].strip()
        elif not entry.prefix and raw.what in keys[set_name]:
            table = set_name
    if table and what not in keys[table]:
        slip, meant = "table", nearest(what, keys[table])
    chance, wrong, better = read_chance(raw.chance, source.full if draw == "each" else 0.0)
    if wrong and raw.chance is not None:
        slip, meant = wrong, raw.text.replace(raw.chance, better) if better else ""
    elif raw.chance is not None and is_sure and chance != source.full:
        slip, meant = "idle-chance", re.sub(r"[|:\s]*" + re.escape(raw.chance) + r"$", "", raw.text)
    count = _count(raw.many) if raw.many is not None else (1, 1)
    if count is None:
        slip, count = "count-text", (1, 1)
    if not raw.is_formed:
        slip = "form"
    return LootItem(what, table, chance, *count, raw.text, raw.place, slip, meant)  # type: ignore[arg-type]


def read_chance(text: str | None, full: float) -> tuple[float | None, Slip, str]:
    """Read a chance: its number, what is wrong with it, and what was probably meant.

    ``full`` is the chance of what is sure; 0 where the number is a weight, which may be any that is not negative.
    """
    if text is None:
        return None, "", ""
    word = text.strip()
    try:
        number = float(word)
    except ValueError:
        plain = word.replace(",", ".")
        if re.fullmatch(r"\d+\.\d+", plain):
            return float(plain), "chance-comma", plain
        if match := re.fullmatch(r"(\d+(?:[.,]\d+)?)\s*%", word):
            share = float(match[1].replace(",", ".")) / 100 * (full or 100)
            return share, "chance-percent", f"{share:g}"
        return 0.0, "chance-text", ""
    if number != number or number in (float("inf"), float("-inf")):
        return 0.0, "chance-text", ""
    if number < 0:
        return 0.0, "chance-range", ""
    if full and number > full:
        if full == 1 and number <= 100:
            return 1.0, "chance-percent", f"{number / 100:g}"
        return full, "chance-range", f"{full:g}"
    return number, "", ""
