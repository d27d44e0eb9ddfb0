"""From a rulebook as it is written to the settings that a server has: one for each index, and for each file there is.

The rest of the program knows plain settings only. ``fee`` with ``index = [1, 2]`` becomes ``fee[1]`` and ``fee[2]``.
A file whose path has a name in braces becomes one file for each that exists; its settings get that name after ``@``.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import TypeVar

from msgspec.structs import replace

from roundgate.core.patterns import lazy
from roundgate.core.rulebook.model import (
    File,
    ItemKind,
    Ranks,
    RecordSet,
    Roster,
    Rule,
    Rulebook,
    Setting,
)

_PLACEHOLDER = lazy(r"\{(\w+)\}")
Found = Mapping[str, Sequence[tuple[str, str]]]
"""For each file of the rulebook whose path is a pattern: what its name stands for, and the path, of those there are."""


def expanded(book: Rulebook) -> Rulebook:
    """Return a rulebook with a setting for each index, and what kinds say copied to the settings of that kind."""
    book = _with_repeats(_records_of_kinds(book))
    if not any(spec.index or spec.kind for spec in book.setting.values()):
        return book
    settings: dict[str, Setting] = {}
    for name, spec in book.setting.items():
        for number, copy in enumerate(_indexed(name, spec)):
            settings[copy] = _of_index(spec, number) if spec.index else _of_kind(spec, book.kind)
    return replace(book, setting=settings)


_REPEATED = lazy(r"([^\[\]*]+)\[\*\]")


def _with_repeats(book: Rulebook) -> Rulebook:
    """Tell the files which of their keys are there several times and make a list."""
    repeated: dict[str, list[str]] = {}
    for spec in book.list.values():
        if spec.at:
            repeated.setdefault(spec.file, []).append(spec.at)
    for records in book.records.values():
        if found := _REPEATED.fullmatch(records.at):
            repeated.setdefault(records.file, []).append(found[1])
    files = {
        name: replace(file, dialect=replace(file.dialect, repeated=(*file.dialect.repeated, *repeated[name])))
        for name, file in book.file.items()
        if name in repeated and file.format in _REPEATING
    }
    return replace(book, file={**book.file, **files}) if files else book


_REPEATING = ("directives", "launch", "ini")
"""Formats in which a key may be there several times."""


def _records_of_kinds(book: Rulebook) -> Rulebook:
    """Copy what kinds say to the fields of records and the arguments of actions."""
    sets = {
        name: replace(record, field={field: _of_kind(spec, book.kind) for field, spec in record.field.items()})
        for name, record in book.records.items()
    }
    actions = {
        name: replace(action, argument={word: _of_kind(spec, book.kind) for word, spec in action.argument.items()})
        for name, action in book.action.items()
    }
    return replace(book, records=sets, action=actions) if sets or actions else book


def _indexed(name: str, spec: Setting) -> Iterator[str]:
    if not spec.index:
        yield name
    for index in spec.index:
        yield f"{name}[{index}]"


def _of_index(spec: Setting, number: int) -> Setting:
    index = str(spec.index[number])
    default = spec.defaults[number] if number < len(spec.defaults) else spec.default
    live = spec.live
    if live is not None:
        live = replace(
            live, **{field: getattr(live, field).replace("{index}", index) for field in ("set", "read", "match")}
        )
    return replace(
        spec,
        key=spec.key.replace("{index}", index),
        about=spec.about.replace("{index}", index),
        shown=spec.shown.replace("{index}", index),
        default=default,
        live=live,
        index=(),
        defaults=(),
    )


def _of_kind(spec: AnySetting, kinds: Mapping[str, ItemKind]) -> AnySetting:
    kind = kinds.get(spec.kind)
    if kind is None:
        return spec
    return replace(
        spec,
        pattern=spec.pattern or kind.pattern,
        example=spec.example or kind.example,
        catalogue=spec.catalogue or kind.catalogue,
        ids=spec.ids or (kind if spec.type == "id" else None),
    )


AnySetting = TypeVar("AnySetting", bound=Setting)

CONSOLE = ""
"""The file of settings that only the live console has: no file of the server, and never read or written."""
_NO_FILE = File(path="", format="lines", made="by-hand")


def with_console(book: Rulebook) -> Rulebook:
    """Return a rulebook with a file for the settings that have none, where it has such settings."""
    if CONSOLE in book.file or all(spec.file for spec in book.setting.values()):
        return book
    return replace(book, file={**book.file, CONSOLE: _NO_FILE})


def with_includes(book: Rulebook, found: Mapping[str, Sequence[str]]) -> Rulebook:
    """Return a rulebook with the files that other files include: by the file's name, the paths, in their order."""
    if not any(found.values()):
        return book
    taken = {file.path for file in book.file.values()}
    more = {
        f"{name}+{path}": replace(book.file[name], path=path, includes="", owner="site", overridden_by="")
        for name, paths in found.items()
        for path in paths
        if path not in taken
    }
    return replace(book, file={**book.file, **more})


def included_in(name: str) -> str:
    """Return the file that includes another one, by that one's name; empty where none does."""
    return name.partition("+")[0] if "+" in name else ""


def above(book: Rulebook, name: str) -> list[str]:
    """Return the files that override one, the nearest first."""
    found: list[str] = []
    while (name := book.file[name].overridden_by) and name not in found:
        found.append(name)
    return found


def beneath(book: Rulebook, name: str) -> set[str]:
    """Return files whose settings a file may hold: itself, those that it overrides, and the one that includes it."""
    own = included_in(name) or name
    return {other for other in book.file if other == own or own in above(book, other)}


def family(name: str) -> str:
    """Return the name under which the rulebook has a setting: ``fee`` for ``fee[1]``, ``tide`` for ``tide@bay``."""
    return name.partition("@")[0].partition("[")[0]


# --- files by pattern ---


def patterns(book: Rulebook) -> dict[str, str]:
    """Return the files whose path is a pattern: name to path."""
    return {name: file.path for name, file in book.file.items() if "{" in file.path}


def placeholder(path: str) -> tuple[int, re.Pattern[str]] | None:
    """Return which part of a path has the name in braces, and the pattern of that part; None for none or several.

    The pattern's only group is what the name stands for.
    """
    parts = path.split("/")
    numbers = [number for number, part in enumerate(parts) if "{" in part]
    if len(numbers) != 1 or len(_PLACEHOLDER.findall(parts[numbers[0]])) != 1:
        return None
    before, _, after = _PLACEHOLDER.split(parts[numbers[0]])
    return numbers[0], re.compile(f"{re.escape(before)}([^.@\\s][^@]*?){re.escape(after)}")


def for_files(book: Rulebook, found: Found) -> Rulebook:
    """Return a rulebook for a folder that has these files: each pattern gives way to the files that fit it."""
    if not found:
        return book
    files: dict[str, File] = {}
    for name, file in book.file.items():
        if name not in found:
            files[name] = file
        for suffix, path in found.get(name, ()):
            files[f"{name}@{suffix}"] = replace(file, path=path, belongs_to=_PLACEHOLDER.sub(suffix, file.belongs_to))
    settings: dict[str, Setting] = {}
    copies: dict[str, list[str]] = {}
    for name, spec in book.setting.items():
        if spec.file not in found:
            settings[name] = spec
            continue
        copies[name] = [f"{name}@{suffix}" for suffix, _ in found[spec.file]]
        for suffix, _ in found[spec.file]:
            settings[f"{name}@{suffix}"] = replace(spec, file=f"{spec.file}@{suffix}")
    settings = {name: _with_names(name, spec, copies) for name, spec in settings.items()}
    rules = tuple(copied for rule in book.rule for copied in _rules(rule, copies))
    presets = {
        name: replace(preset, set={copy: value for key, value in preset.set.items() for copy in copies.get(key, [key])})
        for name, preset in book.preset.items()
    }
    return _with_records(replace(book, file=files, setting=settings, rule=rules, preset=presets), found)


def _with_records(book: Rulebook, found: Found) -> Rulebook:
    """Return a rulebook with the sets of records, the rosters and the ranks of files by pattern: one for each file."""
    worlds = {
        name: [suffix for suffix, _ in found[spec.file]] for name, spec in book.records.items() if spec.file in found
    }
    if not worlds:
        return book
    sets: dict[str, RecordSet] = {}
    for name, spec in book.records.items():
        for world, suffix in _copies(name, worlds.get(name)):
            fields = {
                field: replace(held, to=_at(held.to, world, worlds)) if held.to in worlds else held
                for field, held in spec.field.items()
            }
            sets[suffix] = replace(spec, file=f"{spec.file}@{world}" if world else spec.file, field=fields)
    rosters: dict[str, Roster] = {}
    in_worlds: dict[str, list[str]] = {}
    for name, roster in book.roster.items():
        if roster.records in worlds:
            in_worlds[name] = worlds[roster.records]
        for world, suffix in _copies(name, worlds.get(roster.records)):
            rosters[suffix] = replace(roster, records=_at(roster.records, world, worlds))
    ranks: dict[str, Ranks] = {}
    for name, spec_of in book.ranks.items():
        if spec_of.world:
            ranks[name] = replace(spec_of, groups="", levels="", more=(), members=())  # of a world that has no file
        for world, suffix in _copies(name, worlds.get(spec_of.levels or spec_of.groups)):
            ranks[suffix] = replace(
                spec_of,
                groups=_at(spec_of.groups, world, worlds),
                levels=_at(spec_of.levels, world, worlds),
                more=tuple(_at(name, world, worlds) for name in spec_of.more),
                newcomers=_PLACEHOLDER.sub(world, spec_of.newcomers),
                members=tuple(_at(name, world, in_worlds) for name in spec_of.members),
            )
    return replace(book, records=sets, roster=rosters, ranks=ranks)


def _copies(name: str, worlds: Sequence[str] | None) -> list[tuple[str, str]]:
    """Return the name in each world, with the world; the plain name, and none, where it is not of a file by pattern."""
    return [("", name)] if worlds is None else [(world, f"{name}@{world}") for world in worlds]


def _at(name: str, world: str, worlds: Mapping[str, Sequence[str]]) -> str:
    return f"{name}@{world}" if world and world in worlds.get(name, ()) else name


def _with_names(name: str, spec: Setting, copies: Mapping[str, list[str]]) -> Setting:
    """Let a setting's expressions mean the settings of its own file."""
    _, at, world = name.partition("@")
    own = {plain: [f"{plain}@{world}"] if at else names for plain, names in copies.items()}
    changed = {
        field: next(iter(_each(getattr(spec, field), own)), "")
        for field in ("advice_when", "limit", "overridden_by")
        if getattr(spec, field)
    }
    return replace(spec, **changed) if changed else spec


def _rules(rule: Rule, copies: Mapping[str, list[str]]) -> list[Rule]:
    """Return a rule once for each file that it is about, each with a name of its own."""
    made = _each(rule.needs, copies)
    if made == [rule.needs]:
        return [rule]
    return [replace(rule, name=f"{rule.name}@{number}", needs=needs) for number, needs in enumerate(made)]


def _each(source: str, copies: Mapping[str, list[str]]) -> list[str]:
    """Return an expression once for each file, where it is about settings of files by pattern."""
    named = [name for name in copies if name in source and _name_pattern(name).search(source)]
    if not named:
        return [source]
    worlds = [copy.partition("@")[2] for copy in copies[named[0]]]
    made = []
    for world in worlds:
        text = source
        for name in named:
            text = _name_pattern(name).sub(f"{name}@{world}", text)
        made.append(text)
    return made


def _name_pattern(name: str) -> re.Pattern[str]:
    return re.compile(rf"(?<![\w.\-@\"']){re.escape(name)}(?![\w.\-@\[])")


def setting_at(book: Rulebook, path: str, key: str) -> str | None:
    """Return the setting that a key of a file belongs to, as its own place, a second one, or one that overrides it."""
    files = {setting for name, file in book.file.items() if file.path == path for setting in beneath(book, name)}
    for name, spec in book.setting.items():
        if (spec.file in files and spec.key == key) or any(
            place.key == key and (place.file or spec.file) in files for place in spec.also
        ):
            return name
    return None


def keys_in(book: Rulebook, file_name: str) -> set[str]:
    """Return the keys that the rulebook knows in one of its files: of settings, of second places, and of includes."""
    files = beneath(book, file_name)
    known = {spec.key for spec in book.setting.values() if spec.file in files}
    more = {place.key for spec in book.setting.values() for place in spec.also if (place.file or spec.file) in files}
    lists = {spec.at for spec in book.list.values() if spec.file in files}
    lists.update(book.file[file_name].dialect.closing)
    return known | more | ({book.file[file_name].includes, *lists} - {""})


def fields_of_sets(book: Rulebook) -> dict[str, Collection[str]]:
    """Return the fields of the records of each set, which a rule over the set may name.

    Those of a record that a field names are among them: ``category.open`` where ``category`` names a record.
    """
    found: dict[str, Collection[str]] = {}
    for name, spec in book.records.items():
        named = [
            (field, book.records.get(described.to))
            for field, described in spec.field.items()
            if described.type == "ref"
        ]
        found[name] = {*spec.field, *(f"{field}.{inner}" for field, to in named if to for inner in to.field)}
    return found
