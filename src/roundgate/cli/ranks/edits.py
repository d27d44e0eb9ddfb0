"""Changes of ranks, onto the slate: ``ranks add``, ``grant``, ``join`` and their like."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from roundgate.cli.edit import put
from roundgate.cli.ranks.options import RankOptions
from roundgate.cli.screen.output import echo, plain
from roundgate.core.operations import Operation
from roundgate.host.errors import WrongWords

if TYPE_CHECKING:
    from roundgate.api.rank_changes import RankChanges
    from roundgate.cli.call import CallContext

Make = Callable[["RankChanges", Sequence[str], RankOptions], "list[Operation]"]


def _verb(make: Make) -> Callable[[CallContext, str | None, list[str], RankOptions], None]:
    """Make a verb out of what gives its operations."""

    def act(context: CallContext, word: str | None, words: list[str], options: RankOptions) -> None:
        from roundgate.api.rank_changes import RankChanges
        from roundgate.api.ranks import slate_impact
        from roundgate.core.ranks.impact import shift_words

        name, at, world = (word or "").partition("@")
        servers = [context.server(name)] if name and at else context.servers(word)
        for server in servers:
            made = make(RankChanges(context.site, server, world if name and at else ""), words, options)
            if not made:
                echo(f"{server.name}: that is so already.")
                continue
            put(server, made)
            shifts = slate_impact(context.site, server)
            for shift in shifts[:_SHOWN]:
                echo(f"  ! {plain(shift_words(shift))}")
            if len(shifts) > _SHOWN:
                echo(f"  ! {len(shifts) - _SHOWN} more: roundgate ranks impact {server.name}")

    return act


_SHOWN = 8


def _only(options: RankOptions, verb: str) -> None:
    """Refuse an option that another verb knows. Raises WrongWords."""
    if options.above and verb != "add":
        raise WrongWords("--above belongs to 'ranks add'.")
    if options.to and verb != "remove":
        raise WrongWords("--to belongs to 'ranks remove'.")


def _with(verb: str, make: Make) -> Callable[[CallContext, str | None, list[str], RankOptions], None]:
    def checked(changes: RankChanges, words: Sequence[str], options: RankOptions) -> list[Operation]:
        _only(options, verb)
        return make(changes, words, options)

    return _verb(checked)


VERBS = {
    verb: _with(verb, make)
    for verb, make in {
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
    }.items()
}
