"""The order of records: ``arrange``."""

from __future__ import annotations

from typing import Annotated

import typer

from roundgate.cli.opening import open_call
from roundgate.cli.screen.output import echo
from roundgate.core.next_step import typed_command
from roundgate.host.errors import WrongUsage


def arrange(
    arguments: Annotated[list[str], typer.Argument(metavar="[SERVER] SET", help="A set of records.")],
    by: Annotated[str, typer.Option("--by", metavar="FIELD", help="Sort the records by this field.")] = "",
    falling: Annotated[bool, typer.Option("--falling", help="--by: the largest first.")] = False,
    number: Annotated[
        str, typer.Option("--number", metavar="FIELD", help="Renumber this field, in the present order.")
    ] = "",
    start: Annotated[int | None, typer.Option("--from", help="--number: the first number; else the step.")] = None,
    step: Annotated[int, typer.Option("--step", help="--number: the step from one to the next.")] = 1,
) -> None:
    """Put records in the order of a field, or renumber a field in their order."""
    from roundgate.api.arranging import arranged, numbered
    from roundgate.cli.edit import put

    if bool(by) == bool(number):
        raise WrongUsage(
            "Sort by which field, or renumber which field?",
            typed_command("arrange", "<server>", "<set>", options=("--by", "<field>")),
        )
    context = open_call()
    word, rest = context.split(list(arguments))
    if len(rest) != 1:
        raise WrongUsage(
            "One set of records at a time.", typed_command("arrange", "<server>", "<set>", options=("--by", "<field>"))
        )
    planned = []
    for server in context.servers(word):
        if by:
            planned.append((server, arranged(server, rest[0], by, falling=falling)))
        else:
            planned.append((server, numbered(server, rest[0], number, step if start is None else start, step)))
    for server, operations in planned:
        if operations:
            put(server, operations)
        else:
            echo(f"{server.name}: {rest[0]} is in this order already.")
