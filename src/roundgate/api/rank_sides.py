"""Ranks against ranks: of servers, of worlds, of another file, of before a round; and against what is expected."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

from msgspec import Struct

from roundgate.api.comparing import ROUND, sides_of
from roundgate.api.ranks import ranks_of, server_and_world
from roundgate.api.server import OpenServer
from roundgate.api.site import OpenSite
from roundgate.core.files import ServerFiles
from roundgate.core.next_step import typed_command
from roundgate.core.ranks.deciding import permissions_of
from roundgate.core.ranks.model import RankMember, Scheme
from roundgate.core.ranks.reading import paths_of, scheme_of, schemes_of
from roundgate.core.ranks.rights import Rights
from roundgate.core.text import NotText, decode
from roundgate.host.errors import Trouble, UnknownName, WrongUsage
from roundgate.host.files import read_bytes
from roundgate.host.people.book import load_people


class RankSide(Struct, frozen=True):
    """The ranks of one side of a comparison, and what it is called."""

    name: str
    server: OpenServer
    schemes: list[Scheme]


def side_of(site: OpenSite, word: str, first: OpenServer | None = None) -> RankSide:
    """Return the ranks that a word means: SERVER, SERVER@WORLD, ``round:N`` (before it), or a file of ranks.

    A file takes the place of the one that holds the ranks of ``first``. Raises UnknownName, WrongUsage or Trouble.
    """
    if word.startswith(ROUND):
        row = site.store.round(int(word[len(ROUND) :])) if word[len(ROUND) :].isdecimal() else None
        if row is None or row.server not in site.names:
            raise UnknownName(
                f"There is no {word.replace(':', ' ')} of a server of this site.", typed_command("rounds")
            )
        server = site.opened(row.server)
        files = sides_of(site, [row.server, word])[1].files
        assert files is not None
        return RankSide(f"{row.server} before {word.replace(':', ' ')}", server, _schemes(site, server, files))
    name, world = server_and_world(word)
    if name in site.names:
        server = site.opened(name)
        return RankSide(word, server, ranks_of(site.site, server, world=world))
    if first is not None and Path(word).is_file():
        return RankSide(word, first, _with_file(site, first, word))
    near = site.server(word)  # raises, with the nearest name
    return RankSide(near.name, near, ranks_of(site.site, near))


def _schemes(site: OpenSite, server: OpenServer, files: ServerFiles) -> list[Scheme]:
    found = schemes_of(files, load_people(site.site))
    if not found:
        raise Trouble(f"{server.name} has no ranks that count.", typed_command("explain", server.name))
    return found


def _with_file(site: OpenSite, server: OpenServer, path: str) -> list[Scheme]:
    """Read the ranks of a server with another file in the place of the one that holds them."""
    now = server.workspace.read().files
    found = ranks_of(site.site, server)
    raw = read_bytes(path)
    try:
        text = decode(raw or b"")
    except NotText as error:
        raise Trouble(f"{path}: {error}.") from error
    schemes = []
    for scheme in found:
        home = paths_of(now, scheme.name)[0]
        files = ServerFiles(now.book, {**now.texts, home: text}, None, now.facts)
        schemes.append(scheme_of(files, scheme.name, load_people(site.site)))
    return schemes


class RankDifference(Struct, frozen=True):
    """A rank that is not the same on two sides: what only one of them lets it do; empty where it has no such rank."""

    rank: str
    only_first: tuple[str, ...]
    only_second: tuple[str, ...]
    missing: str = ""
    """The side that does not have the rank; empty where both do."""


def rank_differences(one: RankSide, other: RankSide) -> Iterator[RankDifference]:
    """Compare what each rank may do on two sides."""
    universe = sorted(
        {
            permission
            for side in (one, other)
            for scheme in side.schemes
            for permission in permissions_of(scheme, tuple(side.server.book.ranks[scheme.name].permissions))
        }
    )
    first, second = _by_rank(one.schemes, universe), _by_rank(other.schemes, universe)
    for rank in dict.fromkeys((*first, *second)):
        mine, theirs = first.get(rank, frozenset()), second.get(rank, frozenset())
        missing = one.name if rank not in first else other.name if rank not in second else ""
        if mine != theirs or missing:
            yield RankDifference(rank, tuple(sorted(mine - theirs)), tuple(sorted(theirs - mine)), missing)


def _by_rank(schemes: Sequence[Scheme], universe: Sequence[str]) -> dict[str, frozenset[str]]:
    found: dict[str, frozenset[str]] = {}
    for scheme in schemes:
        rights = Rights(scheme, universe)
        for name in scheme.groups:
            held = frozenset(rights.names(rights.of(RankMember(name, name, (name,))).may))
            found[name] = found.get(name, frozenset()) | held
    return found


def two_sides(site: OpenSite, arguments: Sequence[str]) -> tuple[RankSide, RankSide]:
    """Return the two sides that arguments name. Raises WrongUsage where they are not two."""
    if len(arguments) != 2:
        raise WrongUsage(
            "Two sides are needed.",
            typed_command("ranks diff", "<server>", "<server>", hint="a side is also SERVER@WORLD, round:N, or a file"),
        )
    side = side_of(site, arguments[0])
    return side, side_of(site, arguments[1], side.server)
