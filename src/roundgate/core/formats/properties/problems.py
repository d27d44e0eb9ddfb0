"""What people get wrong in a properties file, found from its logical lines.

The format itself accepts nearly anything, so nearly every mistake here is one that the server takes without a word.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple, Protocol

from roundgate.core.findings import Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.protocol import Entry
from roundgate.core.formats.shared.common_problems import (
    HIDDEN,
    UNSEEN,
    comment_in_value,
    empty,
    joins_letters,
    may_hold_comments,
    merge_markers,
    plain_keys,
    stand_once,
)
from roundgate.core.patterns import lazy
from roundgate.core.text import Splice, Text

_BROKEN_ESCAPE = lazy(r"(?<!\\)(?:\\\\)*(\\u(?![0-9a-fA-F]{4})[0-9a-fA-F]{0,3})")
_LOST_BACKSLASH = lazy(r"(?<!\\)(?:\\\\)*(\\[A-Za-su-z0-9.](?<!\\[tnrfu]))")
_NEXT_SETTING = lazy(r"\\(?:\r\n?|\n)[ \t\f]*([\w.\-]+)[ \t]*=")
_PLAIN_LINE = lazy(
    rf"\n[ \t]*+(?:([A-Za-z0-9_.\-\[\]/+]++)[ \t]*+[=:][ \t]*+"
    rf"(?:[^\s\\\"'\u201c{UNSEEN}][^\r\n\\{UNSEEN}]*+(?<![ \t\f]))?+|[#!][^\r\n]*+)?+(?=\r?\n)"
)
"""A comment, or a key with a sign and a value in which nothing needs a second look."""

_QUOTES = {'"': '"', "'": "'", "\N{LEFT DOUBLE QUOTATION MARK}": "\N{RIGHT DOUBLE QUOTATION MARK}"}


class Read(Protocol):
    """What is asked of a document that was read."""

    text: Text

    def entries(self) -> Sequence[Entry]:
        """Return the entries in order."""
        ...


class _Seen(NamedTuple):
    """One entry under the eyes of a check, with the raw text of its key and value."""

    body: str
    entry: Entry
    key: str
    value: str


def problems_of(document: Read) -> list[Problem]:
    """Find every problem of a document, in the order of the file."""
    body = document.text.body
    if nothing := empty(body):
        return nothing
    keys = plain_keys(body, _PLAIN_LINE)
    if keys is not None and stand_once(keys) and not may_hold_comments(body):
        return []
    found = list(merge_markers(body))
    found += _doubles(document.entries())
    for entry in document.entries():
        seen = _Seen(body, entry, body[entry.key_start : entry.key_end], body[entry.start : entry.end])
        for check in _ENTRY_CHECKS:
            found += check(seen)
    return sorted(found, key=lambda mistake: mistake.start)


def _doubles(entries: Sequence[Entry]) -> Iterator[Problem]:
    last = {entry.path: entry for entry in entries}
    if len(last) == len(entries):
        return
    for entry in entries:
        if last[entry.path] is not entry:
            cause = f"{entry.path[0]} is set again further down, and only the last one counts."
            yield problem(
                "key-twice", (entry.key_start, entry.key_end), cause, "Delete the line that should not count."
            )


def _broken_escapes(seen: _Seen) -> Iterator[Problem]:
    if "\\" not in seen.key and "\\" not in seen.value:
        return
    for match in _BROKEN_ESCAPE.finditer(seen.body, seen.entry.key_start, seen.entry.end):
        cause = "\\u needs exactly four hexadecimal digits after it."
        yield problem("escape-broken", match.span(1), cause, "Complete the number, or write \\\\ for a backslash.")


def _lost_backslashes(seen: _Seen) -> Iterator[Problem]:
    match = _LOST_BACKSLASH.search(seen.value) if "\\" in seen.value else None
    if match:
        at = seen.entry.start + match.start(1)
        cause = "The server drops this backslash: in this format it starts an escape."
        yield problem("backslash-lost", (at, at + 1), cause, "Write \\\\ for a backslash, or use / in a path.")


def _keys_alone(seen: _Seen) -> Iterator[Problem]:
    if seen.entry.key_end == seen.entry.start and seen.key and seen.key[0] not in "<>":
        span = (seen.entry.key_start, seen.entry.key_end)
        yield problem("key-alone", span, f"{seen.key} has no value.", "Write = and a value after it, or delete it.")


def _keys_with_blank(seen: _Seen) -> Iterator[Problem]:
    gap = seen.body[seen.entry.key_end : seen.entry.start]
    match = re.match(r"[\w.\-]+[ \t]*=", seen.value)
    if gap and not gap.strip(" \t\f") and match:
        cause = f"The key ends at this space, so the server reads the key '{seen.key}', not the whole name."
        yield problem(
            "key-with-space", (seen.entry.key_end, seen.entry.start), cause, "Write the name without a space."
        )


def _runs_on(seen: _Seen) -> Iterator[Problem]:
    if "\\" not in seen.value:
        return
    for match in _NEXT_SETTING.finditer(seen.value):
        at = seen.entry.start + match.start()
        cause = f"This backslash joins the next line to this one, so '{match[1]}' is never read as a setting."
        yield problem("line-runs-on", (at, at + 1), cause, "Delete the backslash.")
    trailing = len(seen.value) - len(seen.value.rstrip("\\"))
    if trailing % 2 and seen.entry.end == len(seen.body):
        at = seen.entry.end - 1
        cause = "The file ends in a backslash that continues nothing."
        yield problem("end-backslash", (at, at + 1), cause, "Delete it.", [Splice(at, at + 1, "")])


def _hidden(seen: _Seen) -> Iterator[Problem]:
    if seen.body.isascii():
        return
    for match in HIDDEN.finditer(seen.body, seen.entry.key_start, seen.entry.end):
        if joins_letters(seen.body, match.start()):
            continue
        cause = f"A character that cannot be seen (U+{ord(match[0]):04X}) is here and counts."
        yield problem("hidden-character", match.span(), cause, "Delete it and type a plain space.")


def _quotes(seen: _Seen) -> Iterator[Problem]:
    closing = _QUOTES.get(seen.value[:1])
    inner = seen.value[1:-1]
    if closing and len(seen.value) > 1 and seen.value.endswith(closing) and seen.value[0] not in inner:
        cause = "The quotes are read as part of the value."
        yield problem(
            "quotes-kept",
            (seen.entry.start, seen.entry.end),
            cause,
            "Delete both quotes.",
            [Splice(seen.entry.start, seen.entry.start + 1, ""), Splice(seen.entry.end - 1, seen.entry.end, "")],
        )


def _comments(seen: _Seen) -> Iterator[Problem]:
    if seen.value[:1] not in "\"'" and ("#" in seen.value or ";" in seen.value or "//" in seen.value):
        yield from comment_in_value(seen.body, seen.entry.start, seen.entry.end)


def _blanks_at_end(seen: _Seen) -> Iterator[Problem]:
    stripped = seen.value.rstrip(" \t\f")
    if stripped and len(stripped) < len(seen.value) and not stripped.endswith("\\"):
        span = (seen.entry.start + len(stripped), seen.entry.end)
        yield problem(
            "space-at-end",
            span,
            "The spaces at the end count as part of the value.",
            "Delete them.",
            [Splice(*span, "")],
        )


_ENTRY_CHECKS: tuple[Callable[[_Seen], Iterator[Problem]], ...] = (
    _broken_escapes,
    _lost_backslashes,
    _keys_alone,
    _keys_with_blank,
    _runs_on,
    _hidden,
    _quotes,
    _comments,
    _blanks_at_end,
)
