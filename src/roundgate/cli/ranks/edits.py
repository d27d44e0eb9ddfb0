"""Changes of ranks, onto the slate: ``ranks add``, ``grant``, ``join`` and their like."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Annotated

import typer

from roundgate.cli.complete import after_server
from roundgate.cli.edit import put
from roundgate.cli.opening import open_call
from roundgate.cli.ranks.options import OnlyServer
from roundgate.cli.screen.output import echo, plain
from roundgate.core.operations.base import Operation

if TYPE_CHECKING:
    from roundgate.api.rank_changes import RankChanges

Make = Callable[["RankChanges", list[str]], "list[Operation]"]
_SHOWN = 8
_PERMISSIONS = after_server("RANK PERMISSION...", "Such as: regatta marshal race.abort")
_PEOPLE = after_server("RANK WHO...", "Such as: regatta marshal Wren")
_RANK = after_server("RANK", "Such as: regatta marshal")
_PAIR = after_server("RANK NEW", "Such as: regatta marshal steward")
_FIELDS = after_server("RANK [FIELD=VALUE]...", "Such as: regatta steward")


def _change(verb: str, arguments: list[str] | None, needs: str, make: Make) -> None:
    """Put onto the slates what a verb makes; on several servers all is made before any is put anywhere."""
    from roundgate.api.rank_changes import RankChanges
    from roundgate.api.ranks import server_and_world, slate_impact
    from roundgate.core.ranks.impact import describe_shift

    context = open_call()
    word, given = context.after_server(f"ranks {verb}", arguments, *needs.split())
    name, world = server_and_world(word) if word else (None, "")
    servers = context.servers(name)
    made = [make(RankChanges(context.site, server, world), given) for server in servers]
    for server, operations in zip(servers, made, strict=True):
        if not operations:
            echo(f"{server.name}: that is so already.")
            continue
        put(server, operations)
        shifts = slate_impact(context.site, server)
        for shift in shifts[:_SHOWN]:
            echo(f"  ! {plain(describe_shift(shift))}")
        if len(shifts) > _SHOWN:
            echo(f"  ! {len(shifts) - _SHOWN} more: roundgate ranks impact {server.name}")


def add(
    arguments: Annotated[list[str], _FIELDS],
    above: Annotated[
        str, typer.Option("--above", metavar="RANK", help="Also give it the permissions of this rank.")
    ] = "",
) -> None:
    """Add a rank; its fields are those of the rulebook, such as title=Bosun."""
    _change("add", arguments, "RANK [FIELD=VALUE]...", lambda ranks, given: ranks.added(given[0], given[1:], above))


def copy(arguments: Annotated[list[str], _PAIR]) -> None:
    """Add a rank that has all that another one has."""
    _change("copy", arguments, "RANK NEW", lambda ranks, given: ranks.copied(*given))


def rename(arguments: Annotated[list[str], _PAIR]) -> None:
    """Rename a rank, wherever it is named: in its members, and in the ranks that inherit from it."""
    _change("rename", arguments, "RANK NEW", lambda ranks, given: ranks.renamed(*given))


def remove(
    arguments: Annotated[list[str], _RANK],
    to: Annotated[str, typer.Option("--to", metavar="RANK", help="Where its people go.")] = "",
) -> None:
    """Remove a rank. Its people need another one: --to."""
    _change("remove", arguments, "RANK", lambda ranks, given: ranks.removed(given[0], to))


def grant(arguments: Annotated[list[str], _PERMISSIONS]) -> None:
    """Grant permissions to a rank."""
    _change("grant", arguments, "RANK PERMISSION...", lambda ranks, given: ranks.granted(given[0], given[1:]))


def deny(arguments: Annotated[list[str], _PERMISSIONS]) -> None:
    """Deny permissions to a rank, even where a rank that it inherits from grants them."""
    _change("deny", arguments, "RANK PERMISSION...", lambda ranks, given: ranks.denied(given[0], given[1:]))


def withdraw(arguments: Annotated[list[str], _PERMISSIONS]) -> None:
    """Take entries about permissions out of a rank, grants and denials; what it inherits counts then."""
    _change("withdraw", arguments, "RANK PERMISSION...", lambda ranks, given: ranks.withdrawn(given[0], given[1:]))


def join(arguments: Annotated[list[str], _PEOPLE]) -> None:
    """Put people into a rank."""
    _change("join", arguments, "RANK WHO...", lambda ranks, given: ranks.joined(given[0], given[1:]))


def leave(arguments: Annotated[list[str], _PEOPLE]) -> None:
    """Take people out of a rank."""
    _change("leave", arguments, "RANK WHO...", lambda ranks, given: ranks.left(given[0], given[1:]))


def default(arguments: Annotated[list[str], _RANK]) -> None:
    """Choose the rank of newcomers."""
    _change("default", arguments, "RANK", lambda ranks, given: ranks.default(given[0]))


def starter(arguments: OnlyServer = None) -> None:
    """Make a first set of ranks, where there is none: each inherits from the one below it."""
    _change("starter", arguments, "", lambda ranks, _: ranks.ladder())
