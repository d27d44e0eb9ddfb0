"""Who may do what on a server, and what the slate would alter of it."""

from __future__ import annotations

from collections.abc import Iterable
from contextlib import suppress

from roundgate.api.server import OpenServer
from roundgate.api.whom import whoever
from roundgate.core.files import ServerFiles
from roundgate.core.nearest import nearest, nearest_of_people
from roundgate.core.next_step import did_you_mean, typed_command
from roundgate.core.people.rosters import kind_of_roster
from roundgate.core.ranks.deciding import covers, permissions_of
from roundgate.core.ranks.impact import NEWCOMERS, Shift, impact
from roundgate.core.ranks.model import RankMember, Scheme
from roundgate.core.ranks.reading import scheme_of, schemes_of
from roundgate.core.rulebook.model import Ranks
from roundgate.host.errors import Trouble, UnknownName, WrongUsage
from roundgate.host.people.book import load_people
from roundgate.host.servers import Server
from roundgate.host.site import Site
from roundgate.host.workspace import Workspace


def ranks_of(site: Site, server: OpenServer, *, with_slate: bool = False, world: str = "") -> list[Scheme]:
    """Read the ranks of a server, on disk or as the slate would leave them.

    ``world``: those of a world that it has, or of one kind where it has several.

    Raises Trouble where there are none, UnknownName where there is no such world or kind.
    """
    outcome = server.workspace.outcome(server.workspace.operations)
    files, people = outcome.after if with_slate else outcome.before, load_people(site)
    if world:
        return [_of_world(server, files, world)]
    found = schemes_of(files, people)
    if found:
        return found
    if not server.book.ranks:
        raise Trouble(f"The rulebook of {server.name} does not describe ranks.", "It needs a table [ranks.NAME].")
    raise Trouble(f"{server.name} has no ranks that count now.", typed_command("explain", server.name, "ranks"))


def _of_world(server: OpenServer, files: ServerFiles, world: str) -> Scheme:
    names = {name.partition("@")[2] or name: name for name in files.book.ranks}
    if world not in names:
        near = nearest(world, names)
        known = f"Those that it has: {', '.join(f'{server.name}@{name}' for name in names) or 'none'}"
        hint = did_you_mean(f"{server.name}@{world}", f"{server.name}@{near}") if near else known
        raise UnknownName(f"{server.name} has no ranks '{world}', and none for a world of that name.", hint)
    return scheme_of(files, names[world], load_people(server.server.site))


def server_and_world(word: str) -> tuple[str, str]:
    """Part SERVER@WORLD, or SERVER@KIND where a server has several kinds of ranks; what begins with @ is a tag."""
    name, _, world = word.partition("@")
    return (name, world) if name else (word, "")


def spec_of(server: OpenServer, scheme: Scheme) -> Ranks:
    """Return the rulebook's table of a scheme."""
    return server.book.ranks[scheme.name]


def catalogue_of(server: OpenServer, scheme: Scheme) -> list[str]:
    """Return every permission that the rulebook or the files name."""
    return permissions_of(scheme, tuple(spec_of(server, scheme).permissions))


def member_meant(site: Site, server: OpenServer, scheme: Scheme, word: str) -> RankMember:
    """Return whom a word means: a rank's member, somebody of the people book or the logs, a rank itself, or newcomers.

    Raises UnknownName, or WrongUsage where several are meant.
    """
    lowered = word.lower()
    if lowered == NEWCOMERS:
        return scheme.newcomer()
    found = [member for member in scheme.members.values() if lowered in (member.id.lower(), member.name.lower())]
    if len(found) > 1:
        shown = ", ".join(f"{member.name} ({member.id})" for member in found)
        raise WrongUsage(f"'{word}' could be {shown}.", "Give the id of the one that is meant.")
    if found:
        return found[0]
    group = next((name for name in scheme.groups if name.lower() == lowered), "")
    if group:
        return RankMember(group, group, (group,))
    rosters = [server.book.roster[name] for name in spec_of(server, scheme).members]
    for kind in dict.fromkeys(kind_of_roster(server.book, roster) for roster in rosters):
        try:
            who = whoever(site, server.server, word, kind)
        except UnknownName:
            continue
        known = scheme.members.get(who.id)
        return known or RankMember(who.id, who.name or who.id)
    names = [*(member.name for member in scheme.members.values()), *scheme.groups, NEWCOMERS]
    near = nearest_of_people(word, names)
    hint = did_you_mean(word, *near) if near else typed_command("ranks tree", server.name)
    raise UnknownName(f"{server.name} has no person and no rank called '{word}'.", hint)


def permission_meant(site: Site, server: OpenServer, scheme: Scheme, word: str, *, wildcard: bool = False) -> str:
    """Return the permission that a word means: as it is, where the rulebook or a file knows it, or knows of none.

    ``wildcard``: it is to be granted or denied, so it may also stand for several that are known, or be one that the
    ranks of another server of the site name. Raises UnknownName with the nearest one.
    """
    spec, known = spec_of(server, scheme), catalogue_of(server, scheme)
    if word in known or not spec.permissions:
        return word
    if wildcard and any(covers(word, permission, scheme) for permission in known):
        return word
    same = next((permission for permission in known if permission.lower() == word.lower()), "")
    if same:
        return same
    elsewhere = _seen_elsewhere(site, server) if wildcard else []
    if word in elsewhere:
        return word
    known += elsewhere
    near = nearest(word, known)
    hint = did_you_mean(word, near) if near else typed_command("ranks matrix", server.name)
    raise UnknownName(f"{server.name} has no permission '{word}'.", hint)


def _seen_elsewhere(site: Site, server: OpenServer) -> list[str]:
    """Return the permissions that the files of other servers with the same rulebook name; of those that can be read."""
    found: set[str] = set()
    for name in site.file.server:
        other = Server(site, name)
        if name == server.name or other.entry.rulebook != server.server.entry.rulebook:
            continue
        with suppress(Trouble, OSError):
            files = Workspace(other, []).read().files
            found.update(*(permissions_of(scheme) for scheme in schemes_of(files)))
    return sorted(found)


def slate_impact(site: Site, server: OpenServer) -> list[Shift]:
    """Return who gains and who loses which permission by the slate. Raises Trouble where a server has no ranks."""
    return impact_between(server, ranks_of(site, server), ranks_of(site, server, with_slate=True))


def impact_between(server: OpenServer, before: Iterable[Scheme], after: Iterable[Scheme]) -> list[Shift]:
    """Return who gains and who loses what from some schemes to others; one that is new, or gone, counts as empty."""
    old, new = {scheme.name: scheme for scheme in before}, {scheme.name: scheme for scheme in after}
    found: list[Shift] = []
    for name in dict.fromkeys((*old, *new)):
        known = new.get(name) or old[name]
        nobody = Scheme({}, {}, order=known.order, unknown=known.unknown, wildcard=known.wildcard, name=name)
        spec = server.book.ranks.get(name)
        found += impact(old.get(name, nobody), new.get(name, nobody), tuple(spec.permissions) if spec else ())
    return found
