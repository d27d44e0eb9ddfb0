"""What ranks are, whatever the shape of their files: groups with permissions, their parents, and members."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from msgspec import Struct

from roundgate.core.findings import Place

Order = Literal["deny-wins", "nearest-wins", "last-wins", "highest-power"]


class RankEntry(Struct, frozen=True):
    """One permission that a group or a member is granted or denied, and where that stands."""

    permission: str
    """A permission, or many by a wildcard: ``race.*``, ``*``."""
    allows: bool
    holder: str
    """The group or member that has it."""
    place: Place
    but: tuple[str, ...] = ()
    """The permissions that a wildcard leaves out."""


class RankGroup(Struct, frozen=True):
    """A rank: its own permissions in the order of the file, and the groups whose permissions it has too."""

    name: str
    entries: tuple[RankEntry, ...] = ()
    parents: tuple[str, ...] = ()
    power: float = 0.0


class RankMember(Struct, frozen=True):
    """Somebody who is in groups; ``name`` is for people, ``id`` for the server."""

    id: str
    name: str
    groups: tuple[str, ...] = ()
    entries: tuple[RankEntry, ...] = ()


class Scheme(Struct, frozen=True):
    """All ranks of a server, and how a question about them is decided."""

    groups: Mapping[str, RankGroup]
    members: Mapping[str, RankMember]
    """By id."""
    default: str = ""
    """The group of whoever is in none."""
    order: Order = "deny-wins"
    any_case: bool = False
    """Whether the case of a permission does not count."""
    unknown: bool = False
    """What counts where no entry decides."""
    wildcard: str = "*"
    name: str = ""
    """The name of its table in the rulebook, with the world after ``@`` where there is a file for each."""
    defaults: tuple[str, ...] = ()
    """All groups that are said to be that of newcomers: several are a mistake."""

    def newcomer(self) -> RankMember:
        """Return somebody who is in no group but the default one."""
        return RankMember("", "newcomers", (self.default,) if self.default else ())
