"""Printing: tables and styles on a terminal, plain text when piped, JSON where asked.

Rich is only loaded for a terminal: a piped call starts faster without it, and needs none of it.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence
from typing import Any

_CODES = {"bold": "1", "dim": "2", "red": "31", "green": "32", "yellow": "33", "cyan": "36"}


def is_terminal() -> bool:
    """Tell whether a person looks at standard output."""
    return sys.stdout.isatty()


def has_colour(stream: Any = None) -> bool:
    """Tell whether colour may be used."""
    stream = stream or sys.stdout
    return bool(stream.isatty()) and "NO_COLOR" not in os.environ and os.environ.get("TERM") != "dumb"


def styled(text: str, style: str, stream: Any = None) -> str:
    """Colour a word, where colour may be used; the words alone say everything already."""
    return f"\033[{_CODES[style]}m{text}\033[0m" if has_colour(stream) else text


def say(text: str = "") -> None:
    """Print a line, free of control characters that a file may have smuggled in."""
    print(clean(text))


def clean(text: str) -> str:
    """Show control characters as what they are instead of letting them act on the terminal."""
    allowed = "\n\t\033" if has_colour() else "\n\t"
    if text.isprintable():
        return text
    return "".join(char if char.isprintable() or char in allowed else f"\\x{ord(char):02x}" for char in text)


def plain(text: str) -> str:
    """Show every control character of a value as what it is, the escape that begins a colour included."""
    return (
        text if text.isprintable() else "".join(char if char.isprintable() else f"\\x{ord(char):02x}" for char in text)
    )


def say_json(value: Any) -> None:
    """Print a value as JSON."""
    import json  # msgspec does not indent as people read it

    print(json.dumps(value, indent=2, ensure_ascii=False))


def say_table(headers: Sequence[str], rows: Sequence[Sequence[str]]) -> None:
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


_WORDS = {
    **dict.fromkeys(("up", "proven", "done", "written"), "green"),
    **dict.fromkeys(("crashed", "lost", "open"), "red"),
    **dict.fromkeys(("starting", "restarting", "rewound", "refused", "failed", "called-off"), "yellow"),
}
_COLUMNS = {"on the slate": "cyan", "waiting": "cyan", "running": "yellow", "differs": "yellow", "default": "dim"}


def _style_of(header: str, cell: str) -> str:
    """Give the style of a cell: what waits and what differs catches the eye."""
    return _WORDS.get(cell, "") if header in ("state", "outcome") else _COLUMNS.get(header, "")


def _say_plain(headers: Sequence[str], rows: Sequence[Sequence[str]]) -> None:
    widths = [max(len(line[at]) for line in (headers, *rows)) for at in range(len(headers))]
    for line in (headers, *rows):
        print("  ".join(cell.ljust(width) for cell, width in zip(line, widths, strict=True)).rstrip())
