"""The program's group of commands: a command's module is imported when the command is called, and not before."""

from __future__ import annotations

import re
from collections.abc import Sequence
from importlib import import_module
from itertools import pairwise
from typing import Any

import typer
from typer.core import TyperCommand, TyperGroup, TyperOption

from roundgate.cli import named_site
from roundgate.cli.commands import COMMANDS, CommandLine

_LINES = {line.name: line for line in COMMANDS}
_ANY_BYTES = ("check", "edit")
"""Commands whose arguments are names of files, which may hold any bytes."""


class LazyGroup(TyperGroup):
    """Lists the commands from their table; the one that is called is loaded."""

    def __init__(self, **settings: Any) -> None:
        """Take the help line of each command from the table."""
        super().__init__(**settings)
        for line in COMMANDS:
            self.add_command(TyperCommand(line.name, help=line.help, short_help=line.help, rich_help_panel=line.group))

    def list_commands(self, ctx: Any) -> list[str]:
        """Give the names in the order of work, not of the alphabet."""
        return list(_LINES)

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        """Load the command that is called. Raises WrongUsage for arguments that are no text."""
        if args and args[0] not in _ANY_BYTES:
            _refuse_odd_bytes(args)
        name, _, rest = super().resolve_command(ctx, args)
        line = _LINES[str(name)]
        return name, _loaded(line), rest


def _refuse_odd_bytes(arguments: Sequence[str]) -> None:
    odd = next((word for word in arguments if any("\ud800" <= char <= "\udfff" for char in word)), None)
    if odd is not None:
        from roundgate.host.errors import WrongUsage

        raise WrongUsage(f"The call holds bytes that are not UTF-8: {ascii(odd)[1:-1]}", "Write it in UTF-8.")


def _loaded(line: CommandLine) -> Any:
    """Give a command with its own options, and ``--site``, which may stand anywhere in a call."""
    app = typer.Typer(add_completion=False, context_settings={"help_option_names": ["-h", "--help"]})
    function = getattr(import_module(f"roundgate.cli.{line.module}"), line.function)
    app.command(line.name, short_help=line.help)(function)
    command: Any = typer.main.get_command(app)
    help_text = _rejoined(command.help or "")
    command.help = re.sub(r"\[(?=[a-z#/@])", r"\\[", help_text)  # a path such as a[name=b] is not markup
    command.params.append(TyperOption(param_decls=["--site"], expose_value=False, hidden=True, callback=_take_site))
    return command


_SOURCE_WIDTH = 112
"""Characters of a docstring's line in the source, about: a shorter one ends where it is meant to end."""


def _rejoined(text: str) -> str:
    """Join lines that were broken for the source's width alone: a terminal breaks them at its own."""
    lines = text.split("\n")
    joined = lines[0]
    for line, following in pairwise(lines):
        is_full = line and following and len(line) + 1 + len(following.split(" ", 1)[0]) > _SOURCE_WIDTH
        joined += (" " if is_full else "\n") + following
    return joined


def _take_site(_context: Any, _option: Any, value: str | None) -> str | None:
    """Take the site that a command names, before that of the environment."""
    if value is not None:
        named_site.SITE_NAMED = value
    return value
