"""What a change of ranks means: who gains and who loses which permission."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from msgspec import Struct

from roundgate.core.ranks.deciding import covers, permissions_of
from roundgate.core.ranks.model import RankMember, Scheme
from roundgate.core.ranks.rights import Rights

NEWCOMERS = "newcomers"
"""What those are called who are in no group but the default one."""


class Shift(Struct, frozen=True):
    """A permission that people gain or lose."""

    permission: str
    gains: bool
    people: tuple[str, ...]
    """Their names; ``newcomers`` for all who are in no group."""


def impact(before: Scheme, after: Scheme, permissions: Iterable[str] = ()) -> list[Shift]:
    """Compare two schemes; what a wildcard says of the same people is not said again of what it covers."""
    universe = permissions_of(after, tuple(permissions_of(before, tuple(permissions))))
    old, new = Rights(before, universe), Rights(after, universe)
    changed: dict[tuple[int, int], list[str]] = {}
    """Those whose rights change in the same way: what they gain, what they lose, and their names."""
    same_ranks: dict[tuple[tuple[str, ...], tuple[str, ...]], list[str] | None] = {}
    for name, had, has in _both(before, after):
        ranks = (had.groups, has.groups)
        is_plain = not had.entries and not has.entries
        if is_plain and ranks in same_ranks:  # most are in the same ranks as somebody before them
            people = same_ranks[ranks]
        else:
            one, other = _granted(old, had), _granted(new, has)
            people = changed.setdefault((other & ~one, one & ~other), []) if one != other else None
            if is_plain:
                same_ranks[ranks] = people
        if people is not None:
            people.append(name)
    found = []
    for gains in (True, False):
        by_people: dict[tuple[int, ...], int] = {}
        for bit in _single_bits(changed, gains=gains):
            sharing = tuple(at for at, key in enumerate(changed) if key[0 if gains else 1] & bit)
            by_people[sharing] = by_people.get(sharing, 0) | bit
        names = list(changed.values())
        for sharing, bits in by_people.items():
            everybody = tuple(sorted(name for at in sharing for name in names[at]))
            permissions_shown = list(_without_covered(new.names(bits), after))
            found.append(Shift(", ".join(permissions_shown), gains, everybody))
    return sorted(found, key=lambda shift: (shift.people, shift.gains, shift.permission))


def _granted(rights: Rights, member: RankMember) -> int:
    held = rights.of(member)
    return held.may | (~held.may_not & rights.all_bits if rights.scheme.unknown else 0)


def _both(before: Scheme, after: Scheme) -> Iterator[tuple[str, RankMember, RankMember]]:
    """Yield what everybody is called, and who they are before and after; newcomers too."""
    yield NEWCOMERS, before.newcomer(), after.newcomer()
    for identifier in dict.fromkeys((*before.members, *after.members)):
        had, has = before.members.get(identifier), after.members.get(identifier)
        name = (has or had or before.newcomer()).name
        yield name, had or before.newcomer(), has or after.newcomer()


def _single_bits(changed: Iterable[tuple[int, int]], *, gains: bool) -> Iterator[int]:
    every = 0
    for gained, lost in changed:
        every |= gained if gains else lost
    while every:
        low = every & -every
        yield low
        every ^= low


def _without_covered(permissions: list[str], scheme: Scheme) -> Iterator[str]:
    """Yield permissions without those that a wildcard among them covers."""
    wild = [permission for permission in permissions if scheme.wildcard and permission.endswith(scheme.wildcard)]
    for permission in permissions:
        if not any(other != permission and covers(other, permission, scheme) for other in wild):
            yield permission


_NAMED = 6
"""So many people are named; more are counted."""


def describe_shift(shift: Shift, *, names: bool = False) -> str:
    """Describe who gains or loses a permission; with ``names`` all are named, however many they are."""
    people = [name for name in shift.people if name != NEWCOMERS]
    shown = ", ".join(people) if names or len(people) <= _NAMED else f"{len(people)} people"
    everybody = " and all newcomers" if people else "All newcomers"
    who = f"{shown}{everybody if NEWCOMERS in shift.people else ''}"
    verb = "gain" if shift.gains else "lose"
    return f"{who} {verb if len(shift.people) > 1 or NEWCOMERS in shift.people else f'{verb}s'} {shift.permission}."
