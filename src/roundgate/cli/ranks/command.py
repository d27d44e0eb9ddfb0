"""Ranks: who may do what, why, and what a change would alter; and changing them: ``ranks``."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from roundgate.cli.opening import open_call
from roundgate.cli.ranks.options import RankOptions
from roundgate.host.errors import WrongUsage
from roundgate.host.site import is_server_word

if TYPE_CHECKING:
    from roundgate.cli.call import CallContext

Act = Callable[["CallContext", "str | None", list[str], RankOptions], None]


class _Verb(NamedTuple):
    """A subcommand: how many arguments it needs besides the server, whether there may be more, and what it is."""

    least: int
    is_open: bool
    example: str
    module: str
    names_server: bool = True
    """Whether one of its arguments is the server; sides of a comparison are none."""


_VERBS = {
    "who": _Verb(1, False, "who PERMISSION [SERVER]", "answers"),
    "may": _Verb(2, False, "may WHO PERMISSION [SERVER]", "answers"),
    "why": _Verb(2, False, "why WHO PERMISSION [SERVER]", "answers"),
    "of": _Verb(1, False, "of WHO [SERVER]", "answers"),
    "tree": _Verb(0, False, "tree [SERVER]", "answers"),
    "matrix": _Verb(0, False, "matrix [SERVER]", "tables"),
    "impact": _Verb(0, False, "impact [SERVER]", "tables"),
    "diff": _Verb(2, True, "diff SERVER SERVER", "tables", names_server=False),
    "test": _Verb(0, True, "test [FILE] [SERVER]", "tables"),
    "catalogue": _Verb(0, False, "catalogue [SERVER]", "tables"),
    "add": _Verb(1, True, "add RANK [FIELD=VALUE]... [SERVER]", "edits"),
    "copy": _Verb(2, False, "copy RANK NEW [SERVER]", "edits"),
    "rename": _Verb(2, False, "rename RANK NEW [SERVER]", "edits"),
    "remove": _Verb(1, False, "remove RANK [SERVER]", "edits"),
    "grant": _Verb(2, True, "grant RANK PERMISSION... [SERVER]", "edits"),
    "deny": _Verb(2, True, "deny RANK PERMISSION... [SERVER]", "edits"),
    "withdraw": _Verb(2, True, "withdraw RANK PERMISSION... [SERVER]", "edits"),
    "join": _Verb(2, True, "join RANK WHO... [SERVER]", "edits"),
    "leave": _Verb(2, True, "leave RANK WHO... [SERVER]", "edits"),
    "default": _Verb(1, False, "default RANK [SERVER]", "edits"),
    "ladder": _Verb(0, False, "ladder [SERVER]", "edits"),
}


def ranks(
    arguments: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="VERB [ARGUMENT]... [SERVER]",
            help="Questions: who PERMISSION; may WHO PERMISSION (exit code 0 or 1); why WHO PERMISSION; of WHO; tree; "
            "matrix; impact; diff SERVER SERVER; test; catalogue. "
            "Changes: add RANK; copy RANK NEW; rename RANK NEW; remove RANK; grant, deny or withdraw RANK "
            "PERMISSION...; join or leave RANK WHO...; default RANK; ladder",
        ),
    ] = None,
    people: Annotated[bool, typer.Option("--people", help="matrix: show people instead of ranks.")] = False,
    differs: Annotated[bool, typer.Option("--differs", help="matrix: only permissions that not all have.")] = False,
    picture: Annotated[str, typer.Option("--picture", metavar="FILE", help="matrix: draw it (PNG, SVG, PDF).")] = "",
    as_csv: Annotated[bool, typer.Option("--csv", help="matrix: print CSV.")] = False,
    names: Annotated[bool, typer.Option("--names", help="impact: name all people.")] = False,
    against: Annotated[
        str,
        typer.Option(
            "--against",
            metavar="SIDE",
            help="impact: of a file of ranks, in place of the slate; or since round:N.",
        ),
    ] = "",
    above: Annotated[
        str, typer.Option("--above", metavar="RANK", help="add: also give it the permissions of this rank.")
    ] = "",
    to: Annotated[str, typer.Option("--to", metavar="RANK", help="remove: where its people go.")] = "",
    from_file: Annotated[
        str, typer.Option("--from", metavar="FILE", help="catalogue: take permissions out of a text (- for stdin).")
    ] = "",
    with_slate: Annotated[bool, typer.Option("--slate", help="Questions: answer with the slate applied.")] = False,
    as_json: Annotated[bool, typer.Option("--json", help="Questions: print JSON.")] = False,
) -> None:
    """Who may do what, and why: asked of the files, and decided as the server decides. And changing it.

    WHO is a name, an id, a rank, or newcomers. SERVER comes last, and may be left out where there is one, or inside its
    folder; SERVER@WORLD asks about one world, where each has its own ranks. Changes go onto the slate.
    """
    from importlib import import_module

    verb, *rest = arguments or ["tree"]
    if verb not in _VERBS:
        raise WrongUsage(f"What about ranks? One of: {', '.join(_VERBS)}.", "roundgate ranks --help")
    found = _VERBS[verb]
    context = open_call()
    word, rest = _server_of(context, found, rest)
    if len(rest) < found.least or (len(rest) > found.least and not found.is_open):
        raise WrongUsage(f"'ranks {verb}' needs other arguments.", f"roundgate ranks {found.example}")
    options = RankOptions(people, differs, picture, as_csv, names, against, above, to, from_file, with_slate, as_json)
    act: Act = import_module(f"roundgate.cli.ranks.{found.module}").VERBS[verb]
    act(context, word, rest, options)


def _server_of(context: CallContext, verb: _Verb, arguments: list[str]) -> tuple[str | None, list[str]]:
    """Split the server, which comes after the arguments that a verb needs, from them; None where it is left out."""
    if not verb.names_server:
        return None, arguments
    if not verb.is_open:
        is_there = len(arguments) == verb.least + 1
        return (arguments[-1], arguments[:-1]) if is_there else (None, arguments)
    for at in range(len(arguments) - 1, verb.least - 1, -1):  # after it may be fields
        if arguments[at].partition("@")[0] in context.names or is_server_word(context.site, arguments[at]):
            return arguments[at], [*arguments[:at], *arguments[at + 1 :]]
    return None, arguments
