"""The program's group of commands: a command's module is imported when the command is called, and not before."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import cache
from importlib import import_module
from itertools import pairwise
from typing import Any

import typer
from typer.core import TyperCommand, TyperGroup, TyperOption

from roundgate.cli import named_site
from roundgate.cli.grammar.commands import COMMANDS
from roundgate.cli.grammar.verbs import ELSEWHERE, FORMER, FORMER_OPTIONS, CommandLine, Verbs

_ANY_BYTES = ("check", "edit")
"""Commands whose arguments are names of files, which may hold any bytes."""
_HELP = ("-h", "--help")


class LazyGroup(TyperGroup):
    """Lists commands from their table; the one that is called is loaded."""

    def __init__(self, *, lines: Sequence[CommandLine] = COMMANDS, **settings: Any) -> None:
        """Take the help line of each command from the table."""
        super().__init__(**settings)
        self.lines = {line.name: line for line in lines}
        for line in lines:
            self.add_command(TyperCommand(line.name, help=line.help, short_help=line.help, rich_help_panel=line.group))

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        """Load the command that is called. Raises WrongUsage for arguments that are no text."""
        name, _, rest = super().resolve_command(ctx, args)
        return name, loaded(self.lines[str(name)]), rest


class Program(LazyGroup):
    """The program's own commands."""

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        """Load the command that is called. Raises WrongUsage for arguments that are no text, or no command's name."""
        if args and args[0] not in _ANY_BYTES:
            _refuse_odd_bytes(args)
        _refuse_placeholders(args)
        name = args[0] if args else ""
        if name in FORMER and not ctx.resilient_parsing:
            _note(" ".join(FORMER[name]))
            args = [*FORMER[name], *args[1:]]
        elif name in ELSEWHERE and not ctx.resilient_parsing:
            from roundgate.core.next_step import typed_command
            from roundgate.host.errors import WrongUsage

            where, command = ELSEWHERE[name]
            raise WrongUsage(f"There is no command '{name}'. {where}", typed_command(command) if command else "")
        for at, word in enumerate(args):
            if word in FORMER_OPTIONS and "--" not in args[:at]:
                _note(f"{args[0]} {FORMER_OPTIONS[word]}")
                args = [*args[:at], FORMER_OPTIONS[word], *args[at + 1 :]]
        return super().resolve_command(ctx, args)


class VerbGroup(LazyGroup):
    """A command with several verbs. Without a verb, it is the one that such a call most often means."""

    def __init__(self, name: str, verbs: Verbs) -> None:
        """Take the verbs from their table."""
        page = f"{verbs.page}\n\nWithout a verb it is '{name} {verbs.default}'."
        super().__init__(
            lines=verbs.verbs, name=name, help=page, rich_markup_mode="rich", subcommand_metavar="VERB [ARGUMENT]..."
        )
        self.params.append(_site_option())
        self.meant = verbs

    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        """Put the verb in that is meant where there is none. Raises WrongUsage for a word that is neither."""
        first = args[0] if args else ""
        at = 2 if first == "--site" else 1 if first.startswith("--site=") else 0
        word = args[at] if at < len(args) else ""
        if word not in self.lines and word not in _HELP and not (ctx.resilient_parsing and not word):
            args = [*args[:at], self._verb_of(word, is_silent=ctx.resilient_parsing), *args[at:]]
        return super().parse_args(ctx, args)

    def _verb_of(self, word: str, *, is_silent: bool) -> str:
        """Return the verb of a call that begins with a word that is none."""
        if not word or word.startswith("-"):
            return self.meant.default
        if not self.meant.former and _means_server(word):
            return self.meant.default
        from roundgate.core.nearest import nearest
        from roundgate.core.next_step import Meant, typed_command
        from roundgate.host.errors import WrongUsage

        near = nearest(word, self.lines, least=75)
        if (near or not self.meant.former) and not is_silent:
            hint = f"Did you mean '{self.name} {near}'?" if near else f"One of: {', '.join(self.lines)}."
            help_call = typed_command(str(self.name), options=("--help",))
            do = Meant(help_call, word, near) if near else help_call
            raise WrongUsage(f"'{self.name} {word}' is not a command. {hint}", do)
        if not is_silent:
            _note(f"{self.name} {self.meant.former}")
        return self.meant.former or self.meant.default


def _means_server(word: str) -> bool:
    """Return whether a word means servers; where there is no site, the verb that is called says so."""
    from pathlib import Path

    from roundgate.host.errors import Trouble
    from roundgate.host.site import find_site, is_server_word

    try:
        return is_server_word(find_site(named_site.SITE_NAMED, Path.cwd()), word)
    except Trouble:
        return True


def _note(command: str) -> None:
    from roundgate.cli.screen.output import warn

    warn(f"note: this is 'roundgate {command}' now.")


def _refuse_placeholders(arguments: Sequence[str]) -> None:
    """Refuse advice that was typed as it stands, where it left something open."""
    from roundgate.core.quoting import placeholder_in

    found = next(((word, left) for word in arguments if (left := placeholder_in(word))), None)
    if found is not None:
        from roundgate.host.errors import WrongUsage

        raise WrongUsage(f"'{found[0]}': {found[1]} stands for what you mean.", "Put that in its place.")


def _refuse_odd_bytes(arguments: Sequence[str]) -> None:
    odd = next((word for word in arguments if any("\ud800" <= char <= "\udfff" for char in word)), None)
    if odd is not None:
        from roundgate.host.errors import WrongUsage

        raise WrongUsage(f"The call holds bytes that are not UTF-8: {ascii(odd)[1:-1]}", "Write it in UTF-8.")


@cache
def loaded(line: CommandLine) -> Any:
    """Return a command with its own options, and ``--site``, which may stand anywhere in a call."""
    if line.verbs is not None:
        return VerbGroup(line.name, line.verbs)
    app = typer.Typer(add_completion=False, context_settings={"help_option_names": ["-h", "--help"]})
    function = getattr(import_module(f"roundgate.cli.{line.module}"), line.function)
    app.command(line.name, short_help=line.help)(function)
    command: Any = typer.main.get_command(app)
    help_text = _rejoined(command.help or "")
    command.help = re.sub(r"\[(?=[a-z#/@])", r"\\[", help_text)  # a path such as a[name=b] is not markup
    command.params.append(_site_option())
    return command


def _site_option() -> TyperOption:
    return TyperOption(param_decls=["--site"], expose_value=False, hidden=True, callback=_take_site)


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
