"""Which comment belongs to which entry of a file: the lines above it, or what stands after it on its line."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from roundgate.core.draft.hints import LABELS
from roundgate.core.formats.protocol import Document, Entry
from roundgate.core.patterns import lazy

MARKS: dict[str, tuple[str, ...]] = {
    "properties": ("#", "!"),
    "ini": (";", "#"),
    "directives": ("//", "#"),
    "lines": ("#",),
    "json": ("//",),
    "yaml": ("#",),
    "toml": ("#",),
    "launch": ("#",),
    "lua": ("--",),
    "statements": ("//",),
}
"""What begins a comment line in each format; XML has none that is about one entry."""
_NOT_BEHIND = ("properties", "lines", "launch")
"""Formats in which a comment cannot stand after a value."""
_RULER = lazy(r"[-=#*~_/\\+|;!\s]*")


class Described(NamedTuple):
    """An entry with the comment that is about it."""

    entry: Entry
    comment: str
    """The comment's lines, without their marks; empty where there is none."""
    is_off: bool
    """True where the entry itself is commented out: its value is the default."""


def described(document: Document) -> Iterator[Described]:
    """Yield every entry with its comment, those that are commented out too, in the order of the file.

    An entry that is there and commented out as well comes once, as it counts.
    """
    marks = MARKS.get(document.format_name, ())
    really_off = [entry for entry in document.switched_off() if _is_entry(document, entry)]
    lines = _Lines(document, marks, really_off)
    present = {entry.path for entry in document.entries()}
    off = [entry for entry in really_off if entry.path not in present]
    several = [(entry.key_start, entry, False) for entry in document.entries() if document.find(entry.path) == entry]
    several += [(entry.key_start, entry, True) for entry in {entry.path: entry for entry in off}.values()]
    for start, entry, is_off in sorted(several, key=lambda item: item[0]):
        behind = "" if document.format_name in _NOT_BEHIND else lines.behind(entry)
        above = lines.above(start)
        comment = "\n".join(part for part in (above, behind) if part)
        yield Described(entry, comment or lines.below(start), is_off)


def _is_entry(document: Document, entry: Entry) -> bool:
    """Return whether a commented-out entry is one, and not a remark such as ``0 = always`` or ``Default: 16``."""
    if not all(re.match(r"[^\W\d]|[+-]\w", str(step)) and len(str(step).split()) < 3 for step in entry.path):
        return False
    has_blank = document.text.body[entry.key_start - 1 : entry.key_start] in (" ", "\t")
    return not has_blank or (document.format_name != "directives" and str(entry.path[-1]).lower() not in LABELS)


class _Lines:
    """The lines of a file, and which of them are comments that describe something."""

    def __init__(self, document: Document, marks: Sequence[str], off: Sequence[Entry]) -> None:
        self.text = document.text
        self.marks = tuple(marks)
        self.off = {self.text.place(entry.key_start)[0] for entry in off}
        self.lines = self.text.body.splitlines()

    def _comment(self, number: int) -> str | None:
        """Return what the comment line of a number (from 1) says; None where it is none, or a commented-out entry."""
        if not 1 <= number <= len(self.lines) or number in self.off or not self.marks:
            return None
        line = self.lines[number - 1].strip()
        mark = next((mark for mark in self.marks if line.startswith(mark)), "")
        if not mark:
            return None
        while line.startswith(mark):
            line = line[len(mark) :]
        return line.rstrip(" \t" + mark)

    def above(self, index: int) -> str:
        """Return the comment right above the line that holds an index."""
        number = self.text.place(index)[0] - 1
        found: list[str] = []
        while (line := self._comment(number)) is not None:
            found.append(line)
            number -= 1
        return _block(reversed(found))

    def below(self, index: int) -> str:
        """Return the comment right below, where a blank line or the file's end shows that it is not the next one's."""
        number = self.text.place(index)[0] + 1
        found: list[str] = []
        while (line := self._comment(number)) is not None:
            found.append(line)
            number += 1
        is_own = number > len(self.lines) or not self.lines[number - 1].strip()
        return _block(found) if is_own else ""

    def behind(self, entry: Entry) -> str:
        """Return the comment after a value on its line."""
        end = self.text.line_around(entry.end)[1]
        rest = self.text.body[entry.end : end].lstrip(" \t,;\"')]}")
        mark = next((mark for mark in self.marks if rest.startswith(mark)), "")
        return rest[len(mark) :].strip(f" \t{mark[:1]}") if mark else ""


def _block(lines: Iterator[str] | Sequence[str]) -> str:
    """Join the lines of a comment; rulers and empty lines part it, and only the last part is about the entry."""
    parts: list[list[str]] = [[]]
    for line in lines:
        if _RULER.fullmatch(line):
            parts.append([])
        else:
            parts[-1].append(line.strip())
    return "\n".join(next((part for part in reversed(parts) if part), []))
