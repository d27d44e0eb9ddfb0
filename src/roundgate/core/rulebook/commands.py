"""The commands that a rulebook wants run on the machine, and the rulebook without them."""

from __future__ import annotations

import shlex

from msgspec.structs import replace

from roundgate.core.rulebook.model import Rulebook, Setting


def commands_of(book: Rulebook) -> dict[str, str]:
    """Return each command of a rulebook's queries as a shell would be given it, by the query's name."""
    return {name: shlex.join(query.run) for name, query in book.query.items() if query.run}


def command_for(book: Rulebook, setting: str) -> str:
    """Return the command whose answer holds a setting's value; empty where none is run for it."""
    spec = book.setting.get(setting)
    return commands_of(book).get(spec.live.query, "") if spec is not None and spec.live is not None else ""


def without_commands(book: Rulebook) -> Rulebook:
    """Return a rulebook that runs nothing: what only a command could tell is not read back."""
    commands = commands_of(book)
    settings = {name: _unasked(spec, commands) for name, spec in book.setting.items()}
    queries = {name: query for name, query in book.query.items() if name not in commands}
    return replace(book, setting=settings, query=queries)


def _unasked(spec: Setting, commands: dict[str, str]) -> Setting:
    if spec.live is None or spec.live.query not in commands:
        return spec
    return replace(spec, live=replace(spec.live, query="", match=""))
