"""Whole sections of an ini file: taken out, or given another name."""

from __future__ import annotations

import re

from roundgate.core.formats.ini.reader import IniReading, Row
from roundgate.core.formats.protocol import Edit, EditRefused
from roundgate.core.formats.shared.key_value import line_span
from roundgate.core.text import LINE_END, Splice


def has_section(document: IniReading, name: str) -> bool:
    """Return whether a section has a heading in the file."""
    return any(row.is_heading and row.section == name for row in document.rows)


def remove_section(document: IniReading, name: str) -> Edit:
    """Take a section out: its headings, its entries, and the comments between them.

    What follows the last entry stays, but for values of it that are commented out: it may be about the next section.
    """
    cuts = []
    for run in _runs(document, name):
        start = line_span(document.text, run[0].start)[0]
        end = line_span(document.text, max(run[-1].value_end, run[-1].start))[1]
        following = next((row.start for row in document.rows if row.start > run[-1].start), len(document.text.body))
        off = [
            entry.end for entry in document.switched_off() if entry.path[0] == name and end <= entry.start < following
        ]
        end = line_span(document.text, max(off))[1] if off else end
        blank = LINE_END.match(document.text.body, end)
        cuts.append(Splice(start, blank.end() if blank else end, ""))
    return Edit(tuple(cuts), [row for row in document.plain() if row[0] != name])


def _runs(document: IniReading, name: str) -> list[list[Row]]:
    """Return the rows of a section, in parts: its heading may be there several times."""
    runs: list[list[Row]] = []
    before = ""
    for row in document.rows:
        if row.section == name:
            if before != name or row.is_heading:
                runs.append([])
            runs[-1].append(row)
        before = row.section
    return runs


def rename_section(document: IniReading, name: str, new: str) -> Edit:
    """Give a section another name. Raises EditRefused."""
    if has_section(document, new):
        raise EditRefused(f"{new} already exists")
    if not new or new != new.strip() or re.search(r"[\]\r\n]", new):
        raise EditRefused(f"'{new}' cannot be a section's name")
    cuts = []
    for row in document.rows:
        if row.is_heading and row.section == name:
            raw = document.text.body[row.key_start : row.key_end]
            start = row.key_start + len(raw) - len(raw.lstrip())
            cuts.append(Splice(start, start + len(raw.strip()), new))
    return Edit(tuple(cuts), [(new, *row[1:]) if row[0] == name else row for row in document.plain()])
