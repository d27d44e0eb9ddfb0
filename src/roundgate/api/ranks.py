"""Who may do what on a server, and what the slate would alter of it."""

from __future__ import annotations

from roundgate.api.server import OpenServer
from roundgate.api.whom import whoever
from roundgate.core.nearest import nearest
from roundgate.core.people.rosters import kind_of_roster
from roundgate.core.ranks.deciding import permissions_of
from roundgate.core.ranks.impact import NEWCOMERS, Shift, impact
from roundgate.core.ranks.model import Member, Scheme
from roundgate.core.ranks.reading import scheme_of
from roundgate.host.errors import Trouble, UnknownName, WrongWords
from roundgate.host.people.book import load_people
from roundgate.host.site import Site


def ranks_of(site: Site, server: OpenServer, *, with_slate: bool = False) -> Scheme:
    """Read the ranks of a server, on disk or as the slate would leave them. Raises Trouble where it has none."""
    outcome = server.workspace.outcome(server.workspace.operations)
    found = scheme_of(outcome.after if with_slate else outcome.before, load_people(site))
    if found is None:
        raise Trouble(f"The rulebook of {server.name} says nothing of ranks.", "It needs a table [ranks].")
    return found


def catalogue_of(server: OpenServer, scheme: Scheme) -> list[str]:
    """Give every permission that the rulebook or the files name."""
    spec = server.book.ranks
    return permissions_of(scheme, tuple(spec.permissions) if spec is not None else ())


def member_meant(site: Site, server: OpenServer, scheme: Scheme, word: str) -> Member:
    """Give whom a word means: a rank's member, somebody of the people book or the logs, a rank itself, or newcomers.

    Raises UnknownName, or WrongWords where several are meant.
    """
    lowered = word.lower()
    if lowered == NEWCOMERS:
        return scheme.newcomer()
    found = [one for one in scheme.members.values() if lowered in (one.id.lower(), one.name.lower())]
    if len(found) > 1:
        shown = ", ".join(f"{one.name} ({one.id})" for one in found)
        raise WrongWords(f"'{word}' could be {shown}.", "Give the id of the one that is meant.")
    if found:
        return found[0]
    group = next((name for name in scheme.groups if name.lower() == lowered), "")
    if group:
        return Member(group, group, (group,))
    spec = server.book.ranks
    kinds = {kind_of_roster(server.book, server.book.roster[name]) for name in spec.members} if spec is not None else ()
    for kind in kinds:
        try:
            who = whoever(site, server.server, word, kind)
        except UnknownName:
            continue
        known = scheme.members.get(who.id)
        return known or Member(who.id, who.name or who.id)
    names = [*(one.name for one in scheme.members.values()), *scheme.groups, NEWCOMERS]
    near = nearest(word, names)
    hint = f"Did you mean {near}?" if near else f"roundgate ranks tree {server.name}"
    raise UnknownName(f"Nobody called '{word}', and no rank, is known on {server.name}.", hint)


def permission_meant(server: OpenServer, scheme: Scheme, word: str) -> str:
    """Give the permission that a word means: as it is, where the rulebook or a file knows it or one like it is far off.

    Raises UnknownName with the nearest one where the rulebook lists the permissions and it is none of them.
    """
    spec, known = server.book.ranks, catalogue_of(server, scheme)
    if word in known or spec is None or not spec.permissions:
        return word
    same = next((one for one in known if one.lower() == word.lower()), "")
    if same:
        return same
    near = nearest(word, known)
    hint = f"Did you mean {near}?" if near else f"roundgate ranks matrix {server.name}"
    raise UnknownName(f"{server.name} has no permission '{word}'.", hint)


def slate_impact(site: Site, server: OpenServer) -> list[Shift]:
    """Tell who gains and who loses which permission by the slate. Raises Trouble where a server has no ranks."""
    before, after = ranks_of(site, server), ranks_of(site, server, with_slate=True)
    return impact(before, after, tuple(server.book.ranks.permissions) if server.book.ranks is not None else ())
