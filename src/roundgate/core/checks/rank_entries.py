"""What single entries of ranks say: permissions that exist, that count, and that are not in the wrong hands."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping

from msgspec.structs import replace

from roundgate.core.checks.context import CheckContext
from roundgate.core.checks.rank_places import group_place
from roundgate.core.findings import Finding, Place
from roundgate.core.nearest import nearest
from roundgate.core.ranks.deciding import covers, permissions_of
from roundgate.core.ranks.model import RankEntry, RankGroup, RankMember, Scheme
from roundgate.core.ranks.reading import records_of
from roundgate.core.ranks.rights import Rights
from roundgate.core.rulebook.model import Ranks

_MOST = 60_000
"""So many pairs of an entry and a rank are compared to find entries that decide nothing; beyond that, none are."""


def check_entries(context: CheckContext, scheme: Scheme, spec: Ranks) -> Iterator[Finding]:
    """Check the entries of all ranks, and of members who have some of their own."""
    set_name = spec.levels or spec.groups
    known = list(spec.permissions)
    for entry in _entries(scheme) if known else ():
        if not any(covers(entry.permission, permission, scheme) for permission in known):
            near = nearest(entry.permission, known)
            hint = f" Did you mean {near}?" if near else ""
            verb = "grants" if entry.allows else "denies"
            cause = f"{entry.holder} {verb} '{entry.permission}', and the game has no such permission.{hint}"
            do = context.command("explain", set_name)
            yield context.finding("rank-permission", "warning", context.shown(entry.place), cause, do, set_name)
    if spec.flags is not None:
        yield from _flags(context, spec)
    universe = permissions_of(scheme, tuple(known))
    rights = Rights(scheme, universe)
    held = {name: rights.of(RankMember(name, name, (name,))).may for name in scheme.groups}
    trusted = _trusted(scheme, spec)
    for name, group in scheme.groups.items():
        above = [held[parent] for parent in group.parents if parent in held]
        yield from _without_base(context, spec, rights, group, held[name], above)
        yield from _left_out(context, spec, rights, group, held[name], is_trusted=name in trusted)
    if spec.trusted:
        yield from _dangerous(context, scheme, spec, rights, held, trusted)
    yield from _idle(context, scheme, set_name, rights)


def _entries(scheme: Scheme) -> Iterator[RankEntry]:
    for group in scheme.groups.values():
        yield from group.entries
    for member in scheme.members.values():
        yield from member.entries


_MEANT_ON = dict.fromkeys(("yes", "true", "on", "1"), True) | dict.fromkeys(("no", "false", "off", "0"), False)


def _flags(context: CheckContext, spec: Ranks) -> Iterator[Finding]:
    """Find switches that are neither on nor off."""
    flags, described = spec.flags, context.book.records[spec.groups]
    path = context.book.file[described.file].path
    for record in records_of(context.files, spec.groups):
        for name, held in record.fields.items():
            is_other = name in described.field and name not in spec.permissions
            if flags is None or is_other or not held.values or held.values[0] in (flags.on, flags.off):
                continue
            cause = f"{record.key}: {name} is {held.values[0] or 'empty'}; it may be {flags.on} or {flags.off}."
            is_on = _MEANT_ON.get(held.values[0].lower())
            meant = "<value>" if is_on is None else flags.on if is_on else flags.off
            do = context.command("set", f"{spec.groups}/{record.key}.{name}={meant}")
            yield context.finding("rank-flag", "error", context.entry_place(path, held.entries[0]), cause, do, name)


def _without_base(
    context: CheckContext, spec: Ranks, rights: Rights, group: RankGroup, held: int, above: list[int]
) -> Iterator[Finding]:
    """Find permissions whose base is missing; said of the rank where that begins, not of those that have it too."""
    for permission, base in spec.base.items():
        bit, needed = rights.bit(permission), rights.bit(base)
        if held & bit and not held & needed and not any(flags & bit and not flags & needed for flags in above):
            cause = f"{group.name} may {permission}, and may not {base}, without which it is of no use."
            do = context.command("ranks grant", group.name, base)
            yield context.finding(
                "rank-base", "warning", group_place(context, spec, group.name), cause, do, spec.groups
            )


def _left_out(
    context: CheckContext, spec: Ranks, rights: Rights, group: RankGroup, held: int, *, is_trusted: bool
) -> Iterator[Finding]:
    if spec.flags is None or not any(entry.but for entry in group.entries):
        return
    named = {entry.permission for entry in group.entries}
    # What only the trusted ranks should have is left out for a good reason.
    known = held if is_trusted else held | _danger(spec, rights)
    lacking = [
        permission for permission in spec.flags.but if permission not in named and not known & rights.bit(permission)
    ]
    if lacking:
        cause = f"{group.name} has {spec.flags.everything}, and that leaves out {', '.join(lacking)}."
        do = context.command("ranks grant", group.name, lacking[0])
        yield context.finding("rank-left-out", "note", group_place(context, spec, group.name), cause, do, spec.groups)


def _danger(spec: Ranks, rights: Rights) -> int:
    """Return the bits of the dangerous permissions."""
    danger = 0
    for permission in spec.dangerous:
        danger |= rights.mask(RankEntry(permission, allows=True, holder="", place=Place("")))
    return danger


def _trusted(scheme: Scheme, spec: Ranks) -> set[str]:
    """Name the ranks that may have what is dangerous; all of them where the rulebook names none."""
    if not spec.trusted:
        return set(scheme.groups)
    if spec.levels:
        lowest = float(spec.trusted) if spec.trusted.replace(".", "", 1).isdigit() else 0.0
        return {name for name, group in scheme.groups.items() if group.power >= lowest}
    trusted = {spec.trusted}
    while more := {name for name, group in scheme.groups.items() if trusted & set(group.parents)} - trusted:
        trusted |= more
    return trusted


def _dangerous(
    context: CheckContext,
    scheme: Scheme,
    spec: Ranks,
    rights: Rights,
    held: Mapping[str, int],
    trusted: Collection[str],
) -> Iterator[Finding]:
    """Find dangerous permissions, and wildcards for all, that the entries of a rank below the trusted ones give."""
    danger = _danger(spec, rights)
    for group in scheme.groups.values():
        for entry in group.entries if group.name not in trusted else ():
            is_all = entry.permission == scheme.wildcard != ""
            hits = rights.names(rights.mask(entry) & held[group.name] & danger) if entry.allows else []
            if not hits and not (entry.allows and is_all):
                continue
            named = entry.permission in hits
            also = "" if named or not hits else f", and so {hits[0]}"
            what = "all permissions" if is_all else f"{entry.permission}{also}, which is dangerous"
            cause = f"{group.name} grants {what}; {spec.trusted} is the lowest rank that should have that."
            do = context.command("ranks withdraw", group.name, entry.permission)
            place = context.shown(entry.place)
            yield context.finding("rank-dangerous", "warning", place, cause, do, spec.groups or spec.levels)


def _idle(context: CheckContext, scheme: Scheme, set_name: str, rights: Rights) -> Iterator[Finding]:
    """Find entries without which every rank could do the same."""
    count = sum(len(group.entries) for group in scheme.groups.values())
    if context.book.ranks[scheme.name].levels:
        return
    above = {name: _closure(name, scheme) for name in scheme.groups}
    below = {name: {rank for rank, held in above.items() if name in held} for name in scheme.groups}
    if count * max(map(len, below.values()), default=0) > _MOST:
        return
    combined = {member.groups for member in scheme.members.values() if len(member.groups) > 1}
    everybody = [RankMember("", "", groups) for groups in (*((name,) for name in scheme.groups), *combined)]
    before = {member.groups: rights.of(member).may for member in everybody}
    for group in scheme.groups.values():
        for number, entry in enumerate(group.entries):
            without = replace(group, entries=group.entries[:number] + group.entries[number + 1 :])
            other = Rights(replace(scheme, groups={**scheme.groups, group.name: without}), rights.permissions)
            touched = [member for member in everybody if below[group.name].intersection(member.groups)]
            if all(other.of(member).may == before[member.groups] for member in touched):
                verb = "grants" if entry.allows else "denies"
                why = "it has that already" if entry.allows else "nothing grants it to them"
                cause = f"{group.name} {verb} {entry.permission}, and {why}: without the entry all would be the same."
                do = context.command("ranks withdraw", group.name, entry.permission)
                yield context.finding("rank-idle", "note", context.shown(entry.place), cause, do, set_name)


def _closure(name: str, scheme: Scheme) -> set[str]:
    found: set[str] = set()
    waiting = [name]
    while waiting:
        rank = waiting.pop()
        if rank not in found and rank in scheme.groups:
            found.add(rank)
            waiting += scheme.groups[rank].parents
    return found
