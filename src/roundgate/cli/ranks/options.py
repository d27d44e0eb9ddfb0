"""What the verbs of ``ranks`` share: their options, and the servers and worlds that a word means."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Annotated

import typer

from roundgate.cli.complete import after_server, complete_server_first

if TYPE_CHECKING:
    from roundgate.api.server import OpenServer
    from roundgate.cli.call import CallContext
    from roundgate.core.ranks.deciding import Answer
    from roundgate.core.ranks.model import RankEntry, Scheme

WithSlate = Annotated[bool, typer.Option("--slate", help="Answer with the slate applied.")]
Json = Annotated[bool, typer.Option("--json", help="Print JSON.")]
OnlyServer = Annotated[list[str] | None, typer.Argument(metavar="[SERVER]", autocompletion=complete_server_first)]
OneWho = Annotated[
    list[str],
    after_server("WHO", "Such as: regatta Wren"),
]
WhoAndPermission = Annotated[
    list[str],
    after_server("WHO PERMISSION", "Such as: regatta Wren race.abort"),
]


def asked(context: CallContext, word: str | None, *, with_slate: bool = False) -> Iterator[tuple[OpenServer, Scheme]]:
    """Yield the servers that a word means, each with the ranks that count there: SERVER@WORLD, those of a world."""
    from roundgate.api.ranks import ranks_of, server_and_world

    name, world = server_and_world(word) if word else (None, "")
    for server in context.readable(name):
        found = ranks_of(context.site, server, with_slate=with_slate, world=world)
        yield from ((server, scheme) for scheme in found)


def label(server: OpenServer, scheme: Scheme) -> str:
    """Return what the ranks of a server are called: with the world where each has its own."""
    world = scheme.name.partition("@")[2]
    return f"{server.name}@{world}" if world else server.name


def format_place(entry: RankEntry) -> str:
    """Describe where an entry is: file and line."""
    return f"{entry.place.file}:{entry.place.line}"


def reason(answer: Answer, scheme: Scheme) -> str:
    """Describe which entry decides, and through which ranks."""
    if answer.entry is None:
        return "no entry is about it" + (", and then everybody may" if scheme.unknown else "")
    verb = "grants" if answer.may else "denies"
    way = f", by way of {' > '.join(answer.way)}" if len(answer.way) > 1 else ""
    but = f" but {', '.join(answer.entry.but)}" if answer.entry.but else ""
    return f"{answer.entry.holder} {verb} {answer.entry.permission}{but} ({format_place(answer.entry)}){way}"
