"""What a change of ranks means: who gains and who loses which permission."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from msgspec import Struct

from roundgate.core.ranks.deciding import covers, decide, permissions_of
from roundgate.core.ranks.model import Member, Scheme

NEWCOMERS = "newcomers"
"""What those are called who are in no group but the default one."""


class Shift(Struct, frozen=True):
    """A permission that people gain or lose."""

    permission: str
    gains: bool
    people: tuple[str, ...]
    """Their names; ``newcomers`` for all who are in no group."""


def rights_of(member: Member, scheme: Scheme, permissions: Iterable[str]) -> frozenset[str]:
    """Give those of the permissions that somebody has."""
    return frozenset(one for one in permissions if decide(member, one, scheme).may)


def impact(before: Scheme, after: Scheme, permissions: Iterable[str] = ()) -> list[Shift]:
    """Compare two schemes; what a wildcard says of the same people is not said again of what it covers."""
    universe = permissions_of(after, tuple(permissions_of(before, tuple(permissions))))
    old, new = _rights(before, universe), _rights(after, universe)
    shifts: dict[tuple[str, bool], list[str]] = {}
    for one in dict.fromkeys((*old, *new)):
        had = old.get(one, old[""])[1]
        has = new.get(one, new[""])[1]
        name = (new.get(one) or old[one])[0]
        for permission in sorted((has - had) | (had - has)):
            shifts.setdefault((permission, permission in has - had), []).append(name)
    found = [Shift(permission, gains, tuple(sorted(names))) for (permission, gains), names in shifts.items()]
    return folded(one for one in found if not _is_said(one, found, after))


def _rights(scheme: Scheme, universe: list[str]) -> Mapping[str, tuple[str, frozenset[str]]]:
    """Give by id what everybody is called and may do; those in the same groups are looked at once."""
    known: dict[tuple[str, ...], frozenset[str]] = {}
    found = {"": (NEWCOMERS, rights_of(scheme.newcomer(), scheme, universe))}
    for one, member in scheme.members.items():
        if member.entries:
            found[one] = (member.name, rights_of(member, scheme, universe))
            continue
        if member.groups not in known:
            known[member.groups] = rights_of(member, scheme, universe)
        found[one] = (member.name, known[member.groups])
    return found


def _is_said(one: Shift, found: list[Shift], scheme: Scheme) -> bool:
    """Tell whether a wildcard that covers it is gained, or lost, by the same people."""
    return any(
        other is not one
        and (other.gains, other.people) == (one.gains, one.people)
        and other.permission != one.permission
        and covers(other.permission, one.permission, scheme)
        for other in found
    )


_NAMED = 6
"""So many people are named; more are counted."""


def shift_words(shift: Shift, *, names: bool = False) -> str:
    """Say who gains or loses a permission; with ``names`` all are named, however many they are."""
    people = [name for name in shift.people if name != NEWCOMERS]
    shown = ", ".join(people) if names or len(people) <= _NAMED else f"{len(people)} people"
    everybody = " and all newcomers" if people else "All newcomers"
    who = f"{shown}{everybody if NEWCOMERS in shift.people else ''}"
    verb = "gain" if shift.gains else "lose"
    return f"{who} {verb if len(shift.people) > 1 or NEWCOMERS in shift.people else f'{verb}s'} {shift.permission}."


def folded(shifts: Iterable[Shift]) -> list[Shift]:
    """Put permissions that the same people gain, or lose, into one."""
    found: dict[tuple[bool, tuple[str, ...]], list[str]] = {}
    for one in shifts:
        found.setdefault((one.gains, one.people), []).append(one.permission)
    return [Shift(", ".join(permissions), gains, people) for (gains, people), permissions in found.items()]
