"""Questions at a terminal: a field of a new record that nobody has given, and which of several people is meant."""

from __future__ import annotations

import sys
from collections.abc import Callable
from typing import TYPE_CHECKING, TypeVar

from roundgate.cli.screen.output import echo, plain
from roundgate.core import values
from roundgate.host.errors import SeveralMeant

if TYPE_CHECKING:
    from roundgate.core.rulebook.model import RecordField

T = TypeVar("T")


def ask_field(name: str, described: RecordField | None) -> str:
    """Ask for a field of a new record; an empty text where nobody is there to ask, or nothing is typed."""
    if not sys.stdin.isatty():
        return ""
    what = values.describe(described) if described is not None else ""
    return input(f"{name}{f' ({what})' if what else ''}: ").strip()


def choosing(arguments: list[str], make: Callable[[list[str]], T]) -> T:
    """Make something of arguments; where one of them could mean several people, ask at a terminal which it is.

    Raises SeveralMeant where nobody is there to ask, or none is chosen.
    """
    while True:
        try:
            return make(arguments)
        except SeveralMeant as error:
            chosen = _chosen(error)
            if not chosen or error.word not in arguments:
                raise
            arguments = [chosen if word == error.word else word for word in arguments]


def _chosen(error: SeveralMeant) -> str:
    if not sys.stdin.isatty():
        return ""
    echo(f"'{plain(error.word)}' could be:")
    for number, (identifier, about) in enumerate(error.choices, start=1):
        echo(f"  {number}  {identifier}  {plain(about)}")
    typed = input("Which? ").strip()
    if typed.isdecimal() and 1 <= int(typed) <= len(error.choices):
        return error.choices[int(typed) - 1][0]
    return ""
