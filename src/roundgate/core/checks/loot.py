"""Can players find what the loot tables promise? Entries, chances, tables in tables, crates and their places."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from typing import TYPE_CHECKING

from roundgate.core.checks.context import CheckContext
from roundgate.core.findings import Finding, FindingCode, Level, Place
from roundgate.core.formats.places import key_of
from roundgate.core.records.model import Record
from roundgate.core.rulebook.model import Rulebook

if TYPE_CHECKING:
    from roundgate.core.loot.model import LootItem, LootScheme, Node, Slip

CODES = (
    FindingCode(
        "loot-entry",
        "error",
        "An entry of a loot table that has no form which the game knows",
        "The game skips it, or the whole table. `roundgate explain SET` shows the form.",
        '"rope*|0.5"',
        '"rope*1-3|0.5"',
    ),
    FindingCode(
        "loot-chance",
        "error",
        "An invalid chance",
        "Words, a negative number or a decimal comma: the game takes it as 0, or drops the table.",
        '"rope|0,5"',
        '"rope|0.5"',
    ),
    FindingCode(
        "loot-percent",
        "error",
        "A chance above what is sure",
        "A chance goes from 0 to 1 there. 25 was probably meant as percent, and the game takes it as 1: always.",
        '"rope|25"',
        '"rope|0.25"',
    ),
    FindingCode(
        "loot-table",
        "error",
        "An entry that names a table which is not there",
        "The game silently gives nothing for it.",
        '"table:lihgts|0.5"',
        '"table:lights|0.5"',
    ),
    FindingCode(
        "loot-chance-idle",
        "note",
        "A chance that does not count",
        "An entry with it is always given, whatever the number says.",
        '"sure": true, "entries": ["biscuits|0.5"]',
        '"sure": true, "entries": ["biscuits"]',
    ),
    FindingCode(
        "loot-circle",
        "error",
        "A table that contains itself",
        "Through others, or at once: the game stops at some depth, or hangs.",
        '"lights": {"entries": ["table:lights|0.5"]}',
        '"lights": {"entries": ["lantern|0.5"]}',
    ),
    FindingCode(
        "loot-nothing",
        "warning",
        "A crate or a table in which nothing can ever be",
        "It is empty, all that it has is left out, or every chance in it is 0.",
        '"left-out": 1.0',
        '"left-out": 0.1',
    ),
    FindingCode(
        "loot-unused",
        "note",
        "A table that nothing names",
        "Nobody can ever find its contents. It is a leftover, or its name is misspelt where it should be named.",
    ),
    FindingCode(
        "loot-places",
        "warning",
        "More at once than there are places",
        "The game never puts two in one place, so the number above that of the places does nothing.",
        '"count": 5, "positions": ["120 40 0|90 0 0"]',
        '"count": 1, "positions": ["120 40 0|90 0 0"]',
    ),
)

_SLIPS: dict[Slip, tuple[str, Level, str]] = {
    "form": ("loot-entry", "error", "'{text}' has no form that the game knows."),
    "count-text": ("loot-entry", "error", "'{text}': how many there are is a number, or two with a dash between."),
    "chance-text": ("loot-chance", "error", "'{text}' has no chance that is a number."),
    "chance-comma": ("loot-chance", "error", "'{text}' has a decimal comma in its chance; the game wants a point."),
    "chance-range": ("loot-chance", "error", "'{text}': a chance goes from 0 to {full}."),
    "chance-percent": ("loot-percent", "error", "'{text}': a chance goes from 0 to {full}, and this one is always."),
    "idle-chance": ("loot-chance-idle", "note", "'{text}': all of it is given for sure, so its chance does not count."),
}


def check_loot(context: CheckContext, written: Collection[str] | None = None) -> Iterator[Finding]:
    """Check all loot whose file exists; where ``written`` names files, only what those can have changed."""
    for name, spec in context.book.loot.items():
        sets = [spec.records, *spec.table]
        paths = {context.book.file[context.book.records[set_name].file].path for set_name in sets}
        if not paths & set(context.files.texts) or (written is not None and not paths & set(written)):
            continue
        from roundgate.core.loot.reading import loot_in  # most commands write no such file

        yield from _scheme(context, loot_in(context.files, name))


def _scheme(context: CheckContext, scheme: LootScheme) -> Iterator[Finding]:
    from roundgate.core.loot.shape import circles_in, fruitful, named_in

    for node in scheme.nodes.values():
        for item in node.items:
            yield from _slip(context, node, item)
    for way in circles_in(scheme):
        shown = " > ".join(f"{set_name}/{key}" for set_name, key in way)
        cause = f"{shown}: it contains itself."
        place = _place(context, *_at(scheme, way[0]))
        yield context.finding("loot-circle", "error", place, cause, context.command("show", way[0][0]), way[0][0])
    some, named = fruitful(scheme), named_in(scheme)
    for name, node in scheme.nodes.items():
        place = _place(context, node.set_name, node.record)
        shown = f"{node.set_name}/{node.record.key}"
        if name not in some and not any(item.slip == "table" for item in node.items):
            do = context.command("show", shown)
            yield context.finding("loot-nothing", "warning", place, f"Nothing can ever be in {shown}.", do, name[0])
        table = scheme.spec.table.get(node.set_name)
        if table is not None and table.used and name not in named:
            advice = f"Name it in an entry; where it is no longer wanted: {context.command('remove', shown)}"
            yield context.finding("loot-unused", "note", place, f"No entry names {shown}.", advice, name[0])
    for key, most in scheme.places.items():
        if most is not None and scheme.wanted[key] > most:
            cause = f"{scheme.spec.records}/{key} has {scheme.wanted[key]} at once and {most} places."
            do = context.command("set", f"{scheme.spec.records}/{key}.{scheme.spec.at_once}={most}")
            place = _place(context, *_at(scheme, (scheme.spec.records, key)), field=scheme.spec.at_once)
            yield context.finding("loot-places", "warning", place, cause, do, scheme.spec.records)


def _slip(context: CheckContext, node: Node, item: LootItem) -> Iterator[Finding]:
    if not item.slip:
        return
    path = _path(context.book, node.set_name)
    place = context.entry_place(path, item.place) if item.place else _place(context, node.set_name, node.record)
    shown = f"{node.set_name}/{node.record.key}"
    if item.slip == "table":
        hint = f" Did you mean {item.meant}?" if item.meant else ""
        cause = f"{shown}: there is no {item.table}/{item.what}.{hint}"
        meant = item.text.replace(item.what, item.meant) if item.meant else ""
        code, level = "loot-table", "error"
    else:
        code, level, template = _SLIPS[item.slip]
        cause = f"{shown}: {template.format(text=item.text, full=f'{node.full:g}')}"
        cause += f" Did you mean {item.meant}?" if item.meant else ""
        meant = item.meant
    do = context.command("explain", node.set_name)
    if meant and item.place is not None and item.place.value == item.text:
        do = context.command("set", f"{path}:{key_of(item.place.path)}={meant}")
    yield context.finding(code, level, place, cause, do, node.set_name)  # type: ignore[arg-type]


def _path(book: Rulebook, set_name: str) -> str:
    return book.file[book.records[set_name].file].path


def _at(scheme: LootScheme, name: tuple[str, str]) -> tuple[str, Record]:
    return name[0], scheme.nodes[name].record


def _place(context: CheckContext, set_name: str, record: Record, field: str = "") -> Place:
    path = _path(context.book, set_name)
    held = record.fields.get(field) or next(iter(record.fields.values()), None)
    return context.entry_place(path, held.entries[0]) if held is not None and held.entries else Place(path)
