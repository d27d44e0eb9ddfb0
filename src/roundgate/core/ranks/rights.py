"""What many people may do, of many permissions, at once: a permission is a bit of a number, a right is that bit set.

It gives what ``deciding`` gives, question by question; it is for thousands of permissions and members.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Sequence

from msgspec import Struct

from roundgate.core.ranks.deciding import Link, chain_of
from roundgate.core.ranks.model import RankEntry, RankMember, Scheme


class HeldRights(Struct, frozen=True):
    """What somebody may and may not do, each a set of bits; what is in neither, no entry is about."""

    may: int
    may_not: int
    own: int
    """Decided by an entry of the first group, or of the member, and not by one of a group above."""
    wild: int
    """Decided by a wildcard."""


class Rights:
    """The rights of a scheme's members, of permissions that are given once."""

    def __init__(self, scheme: Scheme, permissions: Iterable[str]) -> None:
        """Number the permissions; ``permissions`` may hold wildcards, which stand for what nobody has named."""
        self.scheme = scheme
        self.permissions: list[str] = sorted(set(permissions))
        self.all_bits = (1 << len(self.permissions)) - 1
        plain = [permission.lower() for permission in self.permissions] if scheme.any_case else self.permissions
        ordered = sorted(range(len(plain)), key=plain.__getitem__)
        self._keys = [plain[at] for at in ordered]
        self._bits = [1 << at for at in ordered]
        self._is_sorted = ordered == list(range(len(plain)))
        self._masks: dict[tuple[str, tuple[str, ...]], int] = {}
        self._known: dict[tuple[str, ...], HeldRights] = {}
        self._links: dict[str, tuple[int, int, int]] = {}

    def bit(self, permission: str) -> int:
        """Return the bit of a permission; 0 where it is none of those."""
        at = bisect_left(self.permissions, permission)
        return 1 << at if at < len(self.permissions) and self.permissions[at] == permission else 0

    def names(self, bits: int) -> list[str]:
        """Return the permissions of a set of bits, in order."""
        found = []
        while bits:
            low = bits & -bits
            found.append(self.permissions[low.bit_length() - 1])
            bits ^= low
        return found

    def of(self, member: RankMember) -> HeldRights:
        """Return what somebody may do. Those in the same groups are worked out once."""
        if member.entries:
            return self._worked_out(member)
        known = self._known.get(member.groups)
        if known is None:
            known = self._known[member.groups] = self._worked_out(member)
        return known

    def _worked_out(self, member: RankMember) -> HeldRights:
        may = may_not = own = wild = 0
        open_bits = self.all_bits
        for tier in _tiers(chain_of(member, self.scheme), self.scheme):
            allowed, denied, by_wildcard = self._of_tier(tier)
            new_not = denied & open_bits
            new_may = allowed & open_bits & ~denied
            decided = new_not | new_may
            may, may_not, open_bits = may | new_may, may_not | new_not, open_bits & ~decided
            wild |= by_wildcard & decided
            own |= self._own(tier, new_may, new_not) & decided
        return HeldRights(may, may_not, own, wild)

    def _of_tier(self, tier: Sequence[Link]) -> tuple[int, int, int]:
        """Return what the links of a tier grant, what they deny, and what of it only wildcards are about."""
        allowed = denied = 0
        exact_may = exact_not = 0
        for link in tier:
            one_may, one_not, exact = self._of_link(link)
            if self.scheme.order == "last-wins":  # of the same distance the later counts
                about = one_may | one_not
                allowed, denied = (allowed & ~about) | one_may, (denied & ~about) | one_not
                exact_may, exact_not = (exact_may & ~about) | exact & one_may, (exact_not & ~about) | exact & one_not
            else:
                allowed, denied = allowed | one_may, denied | one_not
                exact_may, exact_not = exact_may | exact & one_may, exact_not | exact & one_not
        return allowed, denied, (denied & ~exact_not) | (allowed & ~denied & ~exact_may)

    def _own(self, tier: Sequence[Link], may: int, may_not: int) -> int:
        own = 0
        for link in tier:
            if len(link.way) <= 1:
                one_may, one_not, _ = self._of_link(link)
                own |= one_may & may | one_not & may_not
        return own

    def _of_link(self, link: Link) -> tuple[int, int, int]:
        """Return what a holder's own entries grant, deny, and name without a wildcard."""
        known = self._links.get(link.holder) if link.way else None  # a member's own entries are asked for once
        if known is not None:
            return known
        allowed = denied = exact = 0
        for entry in link.entries:
            mask = self.mask(entry)
            one_exact = mask if not self._is_wild(entry.permission) else 0
            if self.scheme.order == "last-wins":
                allowed, denied, exact = allowed & ~mask, denied & ~mask, exact & ~mask
            allowed, denied = (allowed | mask, denied) if entry.allows else (allowed, denied | mask)
            exact |= one_exact
        if self.scheme.order != "last-wins":
            exact = self._exact_of(link.entries, denied)
        if link.way:
            self._links[link.holder] = (allowed, denied, exact)
        return allowed, denied, exact

    def _exact_of(self, entries: Iterable[RankEntry], denied: int) -> int:
        """Return the bits that an entry without a wildcard decides, a denial before a grant."""
        exact_may = exact_not = 0
        for entry in entries:
            if not self._is_wild(entry.permission):
                mask = self.mask(entry)
                exact_may, exact_not = (exact_may | mask, exact_not) if entry.allows else (exact_may, exact_not | mask)
        return exact_not | exact_may & ~denied

    def _is_wild(self, permission: str) -> bool:
        return bool(self.scheme.wildcard) and permission.endswith(self.scheme.wildcard)

    def mask(self, entry: RankEntry) -> int:
        """Return the bits of the permissions that an entry is about."""
        key = (entry.permission, entry.but)
        known = self._masks.get(key)
        if known is None:
            known = self._range(entry.permission)
            for exception in entry.but:
                known &= ~self._range(exception)
            self._masks[key] = known
        return known

    def _range(self, pattern: str) -> int:
        """Return the bits of what a pattern covers: all that begin as it does are neighbours in order."""
        if self.scheme.any_case:
            pattern = pattern.lower()
        if self._is_wild(pattern):
            prefix = pattern.removesuffix(self.scheme.wildcard)
            first = bisect_left(self._keys, prefix)
            last = bisect_left(self._keys, prefix + "\U0010ffff") if prefix else len(self._keys)
            if self._is_sorted:
                return (1 << last) - (1 << first)
            return sum(self._bits[first:last])
        first = bisect_left(self._keys, pattern)
        found = 0
        while first < len(self._keys) and self._keys[first] == pattern:
            found |= self._bits[first]
            first += 1
        return found


def _tiers(chain: Sequence[Link], scheme: Scheme) -> list[list[Link]]:
    """Return a chain in parts, the first of which counts before the next; in a part a denial counts before a grant."""
    if scheme.order == "deny-wins":
        return [list(chain)]
    by_power = scheme.order == "highest-power"
    tiers: dict[float, list[Link]] = {}
    for link in chain:
        tiers.setdefault(-link.power if by_power else link.steps, []).append(link)
    return [tiers[key] for key in sorted(tiers)]
