"""Who may do what, and which entry decides it.

A question is decided along the chain of a member: the member's own entries, those of the groups that the member is in,
then those of their parents. Which of several entries counts is said by the scheme's ``order``:

- ``deny-wins``: a denial anywhere in the chain, else a grant anywhere;
- ``nearest-wins``: the entries fewest steps away; among those, a denial;
- ``last-wins``: parents are read before their children, each in the order of the file, and the last entry counts;
- ``highest-power``: the entries of the group with the most power; among those, a denial.
"""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from roundgate.core.ranks.model import RankEntry, RankMember, Scheme

ORDER_TEXTS = {
    "deny-wins": "a denial anywhere counts before every grant",
    "nearest-wins": "the entries of the nearest rank count, and among those a denial before a grant",
    "last-wins": "the last entry counts, where a rank is read after those whose permissions it has too",
    "highest-power": "the entries of the rank with the most power count, and among those a denial before a grant",
}
"""How a question is decided, as text."""


class Link(Struct, frozen=True):
    """One holder of entries in somebody's chain: the member, a group, or a parent, and how one gets there."""

    holder: str
    steps: int
    way: tuple[str, ...]
    """The groups from the member to here, this one last; empty for the member itself."""
    entries: tuple[RankEntry, ...]
    power: float = 0.0


class Answer(Struct, frozen=True):
    """Whether somebody may, the entry that decides, and the way to it; no entry where none is about the question."""

    may: bool
    entry: RankEntry | None = None
    way: tuple[str, ...] = ()


def is_about(entry: RankEntry, permission: str, scheme: Scheme) -> bool:
    """Whether an entry is about a permission: its own, or one that its wildcard covers and does not leave out."""
    if not covers(entry.permission, permission, scheme):
        return False
    return not any(covers(exception, permission, scheme) for exception in entry.but)


def covers(pattern: str, permission: str, scheme: Scheme) -> bool:
    """Return whether a permission is the one asked for, or a wildcard for it."""
    if scheme.any_case:
        pattern, permission = pattern.lower(), permission.lower()
    if pattern == permission:
        return True
    mark = scheme.wildcard
    if not mark or not pattern.endswith(mark):
        return False
    return permission.startswith(pattern[: -len(mark)])


def chain_of(member: RankMember, scheme: Scheme) -> list[Link]:
    """Return all holders of entries for somebody, the nearest first; a group that is reached twice counts once."""
    groups = tuple(rank for rank in member.groups if rank in scheme.groups)  # a rank that is not there is none
    groups = groups or ((scheme.default,) if scheme.default else ())
    found = [Link(member.name, 0, (), member.entries, float("inf"))] if member.entries else []
    seen: set[str] = set()
    level: list[tuple[str, tuple[str, ...]]] = [(name, (name,)) for name in groups]
    steps = 1
    while level:
        following = []
        for name, way in level:
            group = scheme.groups.get(name)
            if group is None or name in seen:
                continue
            seen.add(name)
            found.append(Link(name, steps, way, group.entries, group.power))
            following += [(parent, (*way, parent)) for parent in group.parents]
        level, steps = following, steps + 1
    return found


def _about(links: list[Link], permission: str, scheme: Scheme) -> Iterator[tuple[Link, RankEntry]]:
    for link in links:
        for entry in link.entries:
            if is_about(entry, permission, scheme):
                yield link, entry


def decide(member: RankMember, permission: str, scheme: Scheme) -> Answer:
    """Decide whether somebody may do something."""
    return next(decisions(member, permission, scheme))


def decisions(member: RankMember, permission: str, scheme: Scheme) -> Iterator[Answer]:
    """Yield the answer, then what would decide if its entry were not there, and so on to the last."""
    about = list(_about(chain_of(member, scheme), permission, scheme))
    while about:
        link, entry = _deciding(about, scheme)
        yield Answer(entry.allows, entry, link.way)
        about = [pair for pair in about if pair[1] is not entry]
    yield Answer(scheme.unknown)


def _deciding(about: list[tuple[Link, RankEntry]], scheme: Scheme) -> tuple[Link, RankEntry]:
    if scheme.order == "last-wins":
        return _last(about)
    if scheme.order == "nearest-wins":
        nearest = min(link.steps for link, _ in about)
        about = [pair for pair in about if pair[0].steps == nearest]
    elif scheme.order == "highest-power":
        most = max(link.power for link, _ in about)
        about = [pair for pair in about if pair[0].power == most]
    return next((pair for pair in about if not pair[1].allows), about[0])


def _last(about: list[tuple[Link, RankEntry]]) -> tuple[Link, RankEntry]:
    """Return the last entry of the nearest holder: parents are read first, and what is nearer comes after them."""
    nearest = min(link.steps for link, _ in about)
    last_link = [link for link, _ in about if link.steps == nearest][-1]
    return [pair for pair in about if pair[0] is last_link][-1]


def permissions_of(scheme: Scheme, more: tuple[str, ...] = ()) -> list[str]:
    """Return every permission that the scheme names, and ``more``; a wildcard stands for what it covers, and itself."""
    held = [group.entries for group in scheme.groups.values()] + [member.entries for member in scheme.members.values()]
    return sorted({*more, *(entry.permission for entries in held for entry in entries)})
