"""Changes of ranks, onto the slate: ``ranks add``, ``grant``, ``join`` and their like."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from roundgate.cli.edit import put
from roundgate.cli.ranks.options import RankOptions
from roundgate.cli.screen.output import echo, plain
from roundgate.core.operations.base import Operation
from roundgate.host.errors import WrongUsage

if TYPE_CHECKING:
    from roundgate.api.rank_changes import RankChanges
    from roundgate.cli.call import CallContext

Make = Callable[["RankChanges", Sequence[str], RankOptions], "list[Operation]"]
_SHOWN = 8


def _verb(verb: str, make: Make) -> Callable[[CallContext, str | None, list[str], RankOptions], None]:
    """Make a verb out of what gives its operations; on several servers all are made before any is put anywhere."""

    def act(context: CallContext, word: str | None, arguments: list[str], options: RankOptions) -> None:
        from roundgate.api.rank_changes import RankChanges
        from roundgate.api.ranks import server_and_world, slate_impact
        from roundgate.core.ranks.impact import describe_shift

        for option, is_given, home in (("--above", options.above, "add"), ("--to", options.to, "remove")):
            if is_given and verb != home:
                raise WrongUsage(f"{option} belongs to 'ranks {home}'.")
        name, world = server_and_world(word) if word else (None, "")
        servers = context.servers(name)
        made = [make(RankChanges(context.site, server, world), arguments, options) for server in servers]
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

    return act


_MAKERS: dict[str, Make] = {
    "add": lambda changes, arguments, options: changes.added(arguments[0], arguments[1:], options.above),
    "copy": lambda changes, arguments, _: changes.copied(arguments[0], arguments[1]),
    "rename": lambda changes, arguments, _: changes.renamed(arguments[0], arguments[1]),
    "remove": lambda changes, arguments, options: changes.removed(arguments[0], options.to),
    "grant": lambda changes, arguments, _: changes.granted(arguments[0], arguments[1:]),
    "deny": lambda changes, arguments, _: changes.denied(arguments[0], arguments[1:]),
    "withdraw": lambda changes, arguments, _: changes.withdrawn(arguments[0], arguments[1:]),
    "join": lambda changes, arguments, _: changes.joined(arguments[0], arguments[1:]),
    "leave": lambda changes, arguments, _: changes.left(arguments[0], arguments[1:]),
    "default": lambda changes, arguments, _: changes.default(arguments[0]),
    "ladder": lambda changes, _words, _options: changes.ladder(),
}
VERBS = {verb: _verb(verb, make) for verb, make in _MAKERS.items()}
