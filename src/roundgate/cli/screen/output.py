"""Printing: tables and styles on a terminal, plain text when piped, JSON where asked.

Rich is only loaded for a terminal: a piped call starts faster without it, and needs none of it.
"""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from roundgate.core.next_step import Command

_STYLES: dict[str, dict[str, Any]] = {
    "bold": {"bold": True},
    **{colour: {"fg": colour} for colour in ("red", "green", "yellow", "cyan")},
}


def is_terminal() -> bool:
    """Return whether a person looks at standard output."""
    return sys.stdout.isatty()


def has_colour(stream: Any = None) -> bool:
    """Return whether colour may be used."""
    stream = stream or sys.stdout
    return bool(stream.isatty()) and "NO_COLOR" not in os.environ and os.environ.get("TERM") != "dumb"


def styled(text: str, style: str, stream: Any = None) -> str:
    """Colour a word, where colour may be used; the text alone says everything already.

    The colour is a mark that only this process knows, and becomes an escape when it is printed: an escape that came in
    with a name, a value or a file never does.
    """
    return f"\ue0f0{_NONCE}{style}\ue0f1{text}\ue0f2{_NONCE}\ue0f1" if has_colour(stream) else text


_NONCE = os.urandom(6).hex()
_MARKED = re.compile(f"\ue0f0{_NONCE}([a-z]+)\ue0f1(.*?)\ue0f2{_NONCE}\ue0f1", re.DOTALL)


def echo(text: str = "", stream: Any = None) -> None:
    """Print a line, free of what would act on the terminal instead of being shown. All that is printed goes here."""
    print(clean(text), file=stream or sys.stdout)


def echo_next(step: Command) -> None:
    """Print the command that comes next."""
    echo(f"  next: {step.typed}{f'    ({step.hint})' if step.hint else ''}")


def echo_do(step: Command) -> None:
    """Print the command that puts right what was just said."""
    echo(f"  do: {step.typed}")


def warn(text: str) -> None:
    """Print a line on standard error."""
    echo(text, sys.stderr)


def clean(text: str) -> str:
    """Show control characters as what they are instead of letting them act on the terminal; colours are made real."""
    text = _without_logins(text)
    if text.isprintable():
        return text
    from typer import style

    pieces = _MARKED.split(text)  # plain text, then a style and what it is for, and so on
    for at in range(1, len(pieces), 3):
        pieces[at : at + 2] = ["", style(_shown(pieces[at + 1], "\n\t"), **_STYLES[pieces[at]])]
    return "".join(piece if at % 3 == 2 else _shown(piece, "\n\t") for at, piece in enumerate(pieces))


def plain(text: str) -> str:
    """Show every control character of a value as what it is, line breaks and tabs included."""
    return _shown(_without_logins(text), "")


def _without_logins(text: str) -> str:
    """Blank out the password in a web address: a refusal repeats what was typed, and a log what it was given."""
    if "://" not in text or "@" not in text:
        return text
    from roundgate.core.secrets import without_logins  # few lines have an address

    return without_logins(text)


def _shown(text: str, allowed: str) -> str:
    if text.isprintable():
        return text
    return "".join(char if char.isprintable() or char in allowed else _escape(char) for char in text)


def _escape(char: str) -> str:
    number = ord(char)
    return f"\\x{number:02x}" if number < 0x100 else f"\\u{number:04x}" if number < 0x10000 else f"\\U{number:08x}"


def echo_json(value: Any) -> None:
    """Print one of the ``outputs`` as JSON; what would act on a terminal is escaped as JSON does it."""
    import json  # msgspec does not indent as people read it

    from msgspec import to_builtins

    text = _without_logins(json.dumps(to_builtins(value), indent=2, ensure_ascii=False))
    if not text.replace("\n", "").isprintable():
        text = "".join(char if char.isprintable() or char == "\n" else json.dumps(char)[1:-1] for char in text)
    print(text)


def echo_table(headers: Sequence[str], rows: Sequence[Sequence[str]]) -> None:
    """Print a table. A column that is empty everywhere is left out."""
    used = [at for at in range(len(headers)) if any(row[at] for row in rows)]
    headers = [headers[at] for at in used]
    rows = [[plain(row[at]) for at in used] for row in rows]
    if not is_terminal():
        _say_plain(headers, rows)
        return
    from rich.console import Console
    from rich.table import Table
    from rich.text import Text

    table = Table(box=None, pad_edge=False, header_style="bold", padding=(0, 2, 0, 0))
    for header in headers:
        table.add_column(header, overflow="fold")
    for row in rows:
        table.add_row(*(Text(cell, _style_of(header, cell)) for header, cell in zip(headers, row, strict=True)))
    Console(highlight=False).print(table)


_TEXTS = {
    **dict.fromkeys(("up", "proven", "done", "written"), "green"),
    **dict.fromkeys(("crashed", "lost", "open"), "red"),
    **dict.fromkeys(("starting", "restarting", "up, not held", "rewound", "refused", "failed", "called-off"), "yellow"),
}
_COLUMNS = {"on the slate": "cyan", "waiting": "cyan", "running": "yellow", "differs": "yellow", "default": "dim"}


def _style_of(header: str, cell: str) -> str:
    """Return the style of a cell: what waits and what differs catches the eye."""
    return _TEXTS.get(cell, "") if header in ("state", "outcome") else _COLUMNS.get(header, "")


_WIDEST = 40
"""Characters: a longer cell moves what is behind it in its own row, and not in all the others."""


def _say_plain(headers: Sequence[str], rows: Sequence[Sequence[str]]) -> None:
    widths = [min(_WIDEST, max(len(line[at]) for line in (headers, *rows))) for at in range(len(headers))]
    for line in (headers, *rows):
        print("  ".join(cell.ljust(width) for cell, width in zip(line, widths, strict=True)).rstrip())


def echo_csv(rows: Iterable[Sequence[str]]) -> None:
    """Print rows as CSV, each value shown as ``plain`` does, and none that a spreadsheet would calculate."""
    import csv
    import io

    into = io.StringIO()
    csv.writer(into, lineterminator="\n").writerows([_for_spreadsheet(cell) for cell in row] for row in rows)
    echo(into.getvalue().rstrip("\n"))


_CALCULATED = ("=", "+", "-", "@", "\t", "\r")
_HARMLESS = re.compile(r"-|[+-]?\d+(?:\.\d+)?(?:e[+-]?\d+)?%?", re.IGNORECASE)


def _for_spreadsheet(cell: str) -> str:
    """Mark a value that a spreadsheet would take for a formula as a text; numbers and a lone dash stay as they are."""
    if cell.lstrip(" ").startswith(_CALCULATED) and not _HARMLESS.fullmatch(cell):
        cell = f"'{cell}"
    return plain(cell)
