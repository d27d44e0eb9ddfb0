"""Changes of ranks, onto the slate: ``ranks add``, ``grant``, ``join`` and their like."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from roundgate.cli.edit import put
from roundgate.cli.ranks.options import RankOptions
from roundgate.cli.screen.output import echo, plain
from roundgate.core.operations.base import Operation
from roundgate.host.errors import WrongWords

if TYPE_CHECKING:
    from roundgate.api.rank_changes import RankChanges
    from roundgate.cli.call import CallContext

Make = Callable[["RankChanges", Sequence[str], RankOptions], "list[Operation]"]
_SHOWN = 8


def _verb(verb: str, make: Make) -> Callable[[CallContext, str | None, list[str], RankOptions], None]:
    """Make a verb out of what gives its operations; on several servers all are made before any is put anywhere."""

    def act(context: CallContext, word: str | None, words: list[str], options: RankOptions) -> None:
        from roundgate.api.rank_changes import RankChanges
        from roundgate.api.ranks import server_and_world, slate_impact
        from roundgate.core.ranks.impact import shift_words

        for option, is_given, home in (("--above", options.above, "add"), ("--to", options.to, "remove")):
            if is_given and verb != home:
                raise WrongWords(f"{option} belongs to 'ranks {home}'.")
        name, world = server_and_world(word) if word else (None, "")
        servers = context.servers(name)
        made = [make(RankChanges(context.site, server, world), words, options) for server in servers]
        for server, operations in zip(servers, made, strict=True):
            if not operations:
                echo(f"{server.name}: that is so already.")
                continue
            put(server, operations)
            shifts = slate_impact(context.site, server)
            for shift in shifts[:_SHOWN]:
                echo(f"  ! {plain(shift_words(shift))}")
            if len(shifts) > _SHOWN:
                echo(f"  ! {len(shifts) - _SHOWN} more: roundgate ranks impact {server.name}")

    return act


_MAKERS: dict[str, Make] = {
    "add": lambda changes, words, options: changes.added(words[0], words[1:], options.above),
    "copy": lambda changes, words, _: changes.copied(words[0], words[1]),
    "rename": lambda changes, words, _: changes.renamed(words[0], words[1]),
    "remove": lambda changes, words, options: changes.removed(words[0], options.to),
    "grant": lambda changes, words, _: changes.granted(words[0], words[1:]),
    "deny": lambda changes, words, _: changes.denied(words[0], words[1:]),
    "withdraw": lambda changes, words, _: changes.withdrawn(words[0], words[1:]),
    "join": lambda changes, words, _: changes.joined(words[0], words[1:]),
    "leave": lambda changes, words, _: changes.left(words[0], words[1:]),
    "default": lambda changes, words, _: changes.default(words[0]),
    "ladder": lambda changes, _words, _options: changes.ladder(),
}
VERBS = {verb: _verb(verb, make) for verb, make in _MAKERS.items()}
