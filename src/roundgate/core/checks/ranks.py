"""Do the ranks lead anywhere: no circles, a rank for newcomers, permissions that exist, entries that count?"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from roundgate.core.checks.context import CheckContext
from roundgate.core.findings import Code, Finding, Place
from roundgate.core.nearest import nearest
from roundgate.core.ranks.deciding import covers, decide, permissions_of
from roundgate.core.ranks.model import Entry, Group, Member, Scheme
from roundgate.core.ranks.reading import scheme_of

CODES = (
    Code(
        "rank-circle",
        "error",
        "Ranks that have each other's permissions",
        "Each is above the other. Servers stop at such a file, or give up at some depth.",
        "coxswain: also: [marshal], marshal: also: [coxswain]",
        "marshal: also: [coxswain]",
    ),
    Code(
        "rank-newcomers",
        "warning",
        "No rank for newcomers",
        "Whoever has no rank of their own may then do nothing, or whatever the game takes for granted.",
        "newcomers: deckhnad",
        "newcomers: deckhand",
    ),
    Code(
        "rank-permission",
        "warning",
        "A permission that the game does not have",
        "Often a misspelt one: nobody gains or loses anything by it.",
        "may: [race.abrot]",
        "may: [race.abort]",
    ),
    Code(
        "rank-idle",
        "note",
        "An entry that decides nothing",
        "A grant that another one gives already, or a denial of what nobody was granted.",
    ),
)
_MOST = 300_000
"""Questions that are asked to find entries that decide nothing; beyond that they are not looked for."""


def check_ranks(context: CheckContext) -> Iterator[Finding]:
    """Check the ranks of a server, where its rulebook describes them and the file is there."""
    spec = context.book.ranks
    if spec is None:
        return
    path = context.book.file[context.book.records[spec.groups].file].path
    scheme = scheme_of(context.files) if path in context.files.texts else None
    if scheme is None or not scheme.groups:
        return
    yield from _circles(context, scheme, path)
    if scheme.default not in scheme.groups:
        near = nearest(scheme.default, scheme.groups) if scheme.default else ""
        what = f"the rank of newcomers is '{scheme.default}', and there is none of that name"
        cause = f"{what if scheme.default else 'no rank is that of newcomers'}."
        hint = f" Did you mean {near}?" if near else ""
        do = context.command("set", f"{spec.newcomers}={near or next(iter(scheme.groups))}") if spec.newcomers else ""
        yield context.finding("rank-newcomers", "warning", Place(path), f"{cause[0].upper()}{cause[1:]}{hint}", do)
    known = list(spec.permissions)
    for entry in _entries(scheme) if known else ():
        if not any(covers(entry.permission, one, scheme) for one in known):
            near = nearest(entry.permission, known)
            hint = f" Did you mean {near}?" if near else ""
            verb = "grants" if entry.allows else "denies"
            cause = f"{entry.holder} {verb} '{entry.permission}', and the game has no such permission.{hint}"
            do = f"roundgate explain {spec.groups}"
            yield context.finding("rank-permission", "warning", _place(context, entry), cause, do, spec.groups)
    yield from _idle(context, scheme, spec.groups, permissions_of(scheme, tuple(known)))


def _entries(scheme: Scheme) -> Iterator[Entry]:
    for group in scheme.groups.values():
        yield from group.entries


def _place(context: CheckContext, entry: Entry) -> Place:
    document = context.files.document(entry.place.file)
    line = document.text.body.split("\n")[entry.place.line - 1] if document is not None and entry.place.line else ""
    return replace(entry.place, source=line.rstrip("\r"))


def _circles(context: CheckContext, scheme: Scheme, path: str) -> Iterator[Finding]:
    told: set[frozenset[str]] = set()
    for name in scheme.groups:
        circle = _circle_from(name, scheme)
        if circle and frozenset(circle) not in told:
            told.add(frozenset(circle))
            cause = f"These ranks have each other's permissions: {' > '.join((*circle, circle[0]))}."
            do = context.command("show", f"ranks/{circle[-1]}") if context.book.ranks else ""
            yield context.finding("rank-circle", "error", Place(path), cause, do)


def _circle_from(name: str, scheme: Scheme) -> tuple[str, ...]:
    """Give the way from a rank back to itself; empty where there is none."""
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


def _idle(context: CheckContext, scheme: Scheme, set_name: str, permissions: Sequence[str]) -> Iterator[Finding]:
    """Find entries without which every rank could do the same."""
    count = sum(len(group.entries) for group in scheme.groups.values())
    if count * len(scheme.groups) * 8 > _MOST:
        return
    below = {name: [one for one in scheme.groups if name in _closure(one, scheme)] for name in scheme.groups}
    for group in scheme.groups.values():
        for number, entry in enumerate(group.entries):
            asked = [one for one in permissions if covers(entry.permission, one, scheme)]
            without = Group(
                group.name, group.entries[:number] + group.entries[number + 1 :], group.parents, group.power
            )
            other = replace(scheme, groups={**scheme.groups, group.name: without})
            if all(
                decide(Member(one, one, (one,)), permission, scheme).may
                == decide(Member(one, one, (one,)), permission, other).may
                for one in below[group.name]
                for permission in asked
            ):
                verb = "grants" if entry.allows else "denies"
                why = "it has that already" if entry.allows else "nothing grants it to them"
                cause = f"{group.name} {verb} {entry.permission}, and {why}: without the entry all would be the same."
                do = context.command("show", f"{set_name}/{group.name}")
                yield context.finding("rank-idle", "note", _place(context, entry), cause, do, set_name)


def _closure(name: str, scheme: Scheme) -> set[str]:
    found: set[str] = set()
    waiting = [name]
    while waiting:
        one = waiting.pop()
        if one not in found and one in scheme.groups:
            found.add(one)
            waiting += scheme.groups[one].parents
    return found
