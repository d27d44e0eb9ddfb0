"""Do the ranks lead anywhere: no circles, a rank for newcomers, permissions that exist, entries that count?"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from math import inf

from roundgate.core.checks.context import CheckContext
from roundgate.core.checks.rank_places import group_place
from roundgate.core.findings import Finding, FindingCode, Place
from roundgate.core.nearest import nearest
from roundgate.core.ranks.model import Scheme
from roundgate.core.ranks.reading import counts, is_loaded, paths_of, records_of, scheme_of, tables_of
from roundgate.core.rulebook.model import Ranks

CODES = (
    FindingCode(
        "rank-circle",
        "error",
        "Ranks that have each other's permissions",
        "Each is above the other. Servers stop at such a file, or give up at some depth.",
        "coxswain: also: [marshal], marshal: also: [coxswain]",
        "marshal: also: [coxswain]",
    ),
    FindingCode(
        "rank-newcomers",
        "warning",
        "No rank for newcomers, or several",
        "Players without a rank can then do nothing, or whatever the game allows by default; of several, "
        "the game takes the first, or the last.",
        "newcomers: deckhnad",
        "newcomers: deckhand",
    ),
    FindingCode(
        "rank-permission",
        "warning",
        "A permission that the game does not have",
        "Often it is misspelt: it grants and denies nothing.",
        "may: [race.abrot]",
        "may: [race.abort]",
    ),
    FindingCode(
        "rank-idle",
        "note",
        "An entry that decides nothing",
        "A grant that another one gives already, or a denial of what nobody was granted.",
        "also: [deckhand], may: [sail.start], and deckhand may sail.start",
        "also: [deckhand]",
    ),
    FindingCode(
        "rank-empty",
        "note",
        "A rank that nobody is in",
        "Nobody has it, it is not that of newcomers, and no other rank has its permissions too: it does nothing.",
        "bosun: may: [race.start], and no officer has the rank bosun",
        "an officer with rank: bosun, or another rank with also: [bosun]",
    ),
    FindingCode(
        "rank-base",
        "warning",
        "A permission that is of no use without another",
        "The game asks for both. Somebody who may silence others, and may not speak, can do neither in practice.",
        "may: [chat.mute]",
        "may: [chat.mute, chat.say]",
    ),
    FindingCode(
        "rank-dangerous",
        "warning",
        "A dangerous permission where it does not belong",
        "A rank below the lowest that the rulebook trusts may do something that cannot be undone, or may do all.",
        "deckhand: may: ['*']",
        "deckhand: may: [sail.start, sail.stop]",
    ),
    FindingCode(
        "rank-left-out",
        "note",
        "A rank with everything that lacks something",
        "The switch that grants everything leaves some permissions out. They have to be granted by name.",
        "everything = 1",
        "everything = 1, and below it: rank.take = 1",
    ),
    FindingCode(
        "rank-flag",
        "error",
        "A switch that is neither on nor off",
        "The game takes it for off, or reads no further.",
        "race.abort = yes",
        "race.abort = 1",
    ),
    FindingCode(
        "rank-power",
        "warning",
        "Two ranks of one power",
        "Where somebody has both, which of them decides is up to the order of the file, or to chance.",
        "power = 10, in both",
        "power = 10, and power = 20",
    ),
    FindingCode(
        "rank-undeclared",
        "error",
        "A rank that is not declared",
        "One place of the file names a rank that the list of ranks does not have: the game ignores it there.",
        "roles: [deckhand], race.start: [deckhand, marshall]",
        "roles: [deckhand, marshal], race.start: [deckhand, marshal]",
    ),
    FindingCode(
        "rank-incomplete",
        "warning",
        "A rank that lacks one of its parts",
        "The game wants each rank in several places: declared in one, its colour and power in another.",
        "roles: [deckhand, pilot], looks: deckhand: { colour: '#7f8c8d', power: 1 }",
        "looks: also with pilot: { colour: '#8e44ad', power: 40 }",
    ),
    FindingCode(
        "rank-not-list",
        "error",
        "A name where a list of permissions is meant",
        "Without the dash before it, a permission is the name of a value, and the game finds no list.",
        "may:\n  race.abort:",
        "may:\n  - race.abort",
    ),
    FindingCode(
        "rank-world",
        "warning",
        "Ranks of a world that does not exist, or a world without ranks",
        "The game reads the ranks of the world that it loads, and none where there is no such file.",
        "world.save=fjord, and waters/bay/ranks.yml alone",
        "waters/fjord/ranks.yml",
    ),
    FindingCode(
        "rank-expected",
        "error",
        "Ranks that are not as expected",
        "The site's file of expectations says who should and should not be allowed what, and it is not so.",
        "who = 'newcomers', may-not = 'chat.mute', and deckhand: may: [chat.mute]",
        "deckhand: may: [chat.say]",
    ),
    FindingCode(
        "rank-stranger",
        "note",
        "A rank for an unknown person",
        "Not in the people book, on no other roster, and never seen in the logs that were read: an id that was "
        "mistyped, or somebody who left long ago.",
        "GW-7K3M-Q2XE, which nobody has",
        "GW-7K3M-Q2XD, whom the people book calls Wren",
    ),
    FindingCode(
        "rank-several",
        "note",
        "A rank that is given in several places",
        "Which of them counts is up to the game. Change one, and the other stays.",
        "rank: marshal in one list, and rank: coxswain in another",
        "rank: marshal, in one of them",
    ),
)


def check_ranks(context: CheckContext) -> Iterator[Finding]:
    """Check the ranks of a server, where its rulebook describes them and they count."""
    for name in context.book.ranks:
        if counts(context.files, name):
            yield from _check(context, name)


def _check(context: CheckContext, name: str) -> Iterator[Finding]:
    spec = context.book.ranks[name]
    if not (spec.groups or spec.levels):
        yield from _world_without(context, name, spec)
        return
    if spec.world:
        yield from _of_no_world(context, name)
        if not is_loaded(context.files, name):
            return
    paths = paths_of(context.files, name)
    if paths[0] not in context.files.texts:
        return
    scheme = scheme_of(context.files, name)
    yield from _not_lists(context, name, spec)
    yield from _parts(context, scheme, spec)
    if scheme.groups:
        yield from _circles(context, scheme, paths[0], spec.groups)
        yield from _newcomers(context, scheme, paths[0])
        yield from _powers(context, scheme, spec)
        yield from _members(context, scheme, spec)
        from roundgate.core.checks.rank_entries import check_entries  # only where there are ranks

        yield from check_entries(context, scheme, spec)


# --- worlds ---


def _world_without(context: CheckContext, name: str, spec: Ranks) -> Iterator[Finding]:
    """Find a world that is loaded and has no ranks of its own."""
    world = context.files.counting_text(spec.world)
    if f"{name}@{world}" not in context.book.ranks:
        cause = f"The server loads the world {world}, and that has no ranks: no ranks count there."
        others = [table.partition("@")[2] for table in tables_of(context.book) if table.startswith(f"{name}@")]
        hint = f" There are ranks of: {', '.join(others)}." if others else ""
        yield context.finding("rank-world", "warning", Place(""), f"{cause}{hint}", "", name)


def _of_no_world(context: CheckContext, name: str) -> Iterator[Finding]:
    """Find ranks of a world that is not there."""
    spec = context.book.ranks[name]
    file = context.book.file[context.book.records[spec.groups or spec.levels].file]
    if file.belongs_to and not is_loaded(context.files, name) and context.files.facts.has(file.belongs_to) is False:
        world = name.partition("@")[2]
        cause = f"These are ranks of the world {world}, and there is no such world ({file.belongs_to})."
        yield context.finding("rank-world", "warning", Place(file.path), cause, "", name)


# --- the file ---


def _not_lists(context: CheckContext, name: str, spec: Ranks) -> Iterator[Finding]:
    """Find names of values where a list is meant: a dash was forgotten."""
    fields = tuple(field for field in (spec.may, spec.never, spec.also) if field)
    for set_name in filter(None, (spec.groups, *spec.more)):
        described = context.book.records[set_name]
        if described.turned or described.signs or described.form:
            continue
        path = context.book.file[described.file].path
        for record in records_of(context.files, set_name):
            for field, held in record.fields.items():
                wanted = next((other for other in fields if field.startswith(f"{other}.")), "")
                if wanted and held.entries:
                    word = field[len(wanted) + 1 :].strip('"')
                    cause = f"{record.key}: '{word}' is the name of a value here; {wanted} is a list."
                    do = f"Write a dash before it: - {word}"
                    place = context.entry_place(path, held.entries[0], key=True)
                    yield context.finding("rank-not-list", "error", place, cause, do, name)


def _parts(context: CheckContext, scheme: Scheme, spec: Ranks) -> Iterator[Finding]:
    """Find ranks that a further place names and the list of ranks does not have, and those that a place lacks."""
    for set_name in spec.more:
        described = context.book.records[set_name]
        path = context.book.file[described.file].path
        held = {record.key: record for record in records_of(context.files, set_name)}
        for key, record in held.items():
            if key in scheme.groups:
                continue
            near = nearest(key, scheme.groups)
            hint = f" Did you mean {near}?" if near else ""
            entry = next((entry for one_held in record.fields.values() for entry in one_held.entries), None)
            place = context.entry_place(path, entry) if entry is not None else Place(path)
            cause = f"{set_name} names the rank '{key}', and {spec.groups} does not have it.{hint}"
            add = context.command("add", spec.groups, key)
            do = f"Write {near} there." if near else f"Correct the name; or, where it is a new rank: {add}"
            yield context.finding("rank-undeclared", "error", place, cause, do, set_name)
        if any(field.needed for name, field in described.field.items() if name != described.key):
            for key in (group for group in scheme.groups if group not in held):
                fields = ", ".join(name for name, field in described.field.items() if field.needed)
                place = group_place(context, spec, key)
                near = nearest(key, [name for name in held if name not in scheme.groups])
                step = f"Write {near} in {spec.groups}." if near else context.command("add", set_name, key)
                meant = f" Did you mean {near}?" if near else ""
                cause = f"{key} has no {fields}: {set_name} does not have it.{meant}"
                yield context.finding("rank-incomplete", "warning", place, cause, step, set_name)


# --- the ranks among each other ---


def _circles(context: CheckContext, scheme: Scheme, path: str, set_name: str) -> Iterator[Finding]:
    told: set[frozenset[str]] = set()
    for name in scheme.groups:
        circle = _circle_from(name, scheme)
        if circle and frozenset(circle) not in told:
            told.add(frozenset(circle))
            cause = f"These ranks have each other's permissions: {' > '.join((*circle, circle[0]))}."
            do = context.command("show", f"{set_name}/{circle[-1]}")
            yield context.finding("rank-circle", "error", Place(path), cause, do)


def _circle_from(name: str, scheme: Scheme) -> tuple[str, ...]:
    """Return the way from a rank back to itself; empty where there is none."""
    ways: list[tuple[str, ...]] = [(name,)]
    seen: set[str] = set()
    while ways:
        way = ways.pop()
        for parent in scheme.groups[way[-1]].parents if way[-1] in scheme.groups else ():
            if parent == name:
                return way
            if parent not in seen:
                seen.add(parent)
                ways.append((*way, parent))
    return ()


def _newcomers(context: CheckContext, scheme: Scheme, path: str) -> Iterator[Finding]:
    if len(scheme.defaults) > 1:
        cause = f"{', '.join(scheme.defaults)} are all the rank of newcomers; {scheme.default} is the first."
        do = context.command("ranks default", scheme.default)
        yield context.finding("rank-newcomers", "warning", Place(path), cause, do)
        return
    if scheme.default in scheme.groups:
        return
    near = nearest(scheme.default, scheme.groups) if scheme.default else ""
    cause = "No rank is that of newcomers."
    if scheme.default:
        cause = f"The rank of newcomers is '{scheme.default}', and no rank has that name."
    hint = f" Did you mean {near}?" if near else ""
    do = context.command("ranks default", near or "<rank>")
    yield context.finding("rank-newcomers", "warning", Place(path), f"{cause}{hint}", do)


def _powers(context: CheckContext, scheme: Scheme, spec: Ranks) -> Iterator[Finding]:
    if not spec.power or spec.levels:
        return
    by_power: dict[float, str] = {}
    for name, group in scheme.groups.items():
        other = by_power.setdefault(group.power, name)
        if other != name and group.power not in (inf, 0.0):
            cause = f"{name} and {other} have the same {spec.power}, {group.power:g}."
            do = context.command("show", spec.groups)
            place = group_place(context, spec, name)
            yield context.finding("rank-power", "warning", place, cause, do, spec.groups)


def _members(context: CheckContext, scheme: Scheme, spec: Ranks) -> Iterator[Finding]:
    """Find ranks that nobody is in, and people whose rank is said in several places."""
    held = {group for member in scheme.members.values() for group in member.groups}
    above = {parent for group in scheme.groups.values() for parent in group.parents}
    for name in scheme.groups if not spec.levels else ():
        if scheme.members and name not in held | above and name not in scheme.defaults:
            cause = f"Nobody is in {name}, and no other rank has its permissions too."
            do = context.command("ranks join", name, "<who>")
            place = group_place(context, spec, name)
            yield context.finding("rank-empty", "note", place, cause, do, spec.groups)
    rosters = [member for member in spec.members if context.book.roster[member].rank]
    places: dict[str, list[str]] = {}
    for roster in rosters if len(rosters) > 1 else ():
        for record in records_of(context.files, context.book.roster[roster].records):
            places.setdefault(record.key, []).append(roster)
    yield from _in_several(context, places.items())


def _in_several(context: CheckContext, places: Iterable[tuple[str, list[str]]]) -> Iterator[Finding]:
    for key, rosters in places:
        if len(rosters) > 1:
            path = context.book.file[context.book.records[context.book.roster[rosters[0]].records].file].path
            cause = f"The rank of {key} is given in {' and in '.join(rosters)}."
            do = context.command("remove", f"{context.book.roster[rosters[-1]].records}/{key}")
            yield context.finding("rank-several", "note", Place(path), cause, do, rosters[0])
