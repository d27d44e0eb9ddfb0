"""What people get wrong in a command file. The server takes any line for a command, so most of it is taken silently."""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import product
from typing import TYPE_CHECKING

from roundgate.core.findings import Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.shared.common_problems import (
    CURLY,
    DASHES,
    blank_before,
    flood,
    handful,
    hidden_characters,
    plain_keys,
    pointless,
    stand_once,
)
from roundgate.core.patterns import lazy
from roundgate.core.text import LINE_END, Splice, line_start

if TYPE_CHECKING:
    from roundgate.core.formats.directives.document import DirectivesDocument
from roundgate.core.formats.directives.reader import Command

_BEFORE_TEXT = lazy(r"[ \t]*(?:set[a-z]?[ \t]+)?(?:(?:alias|bind)[ \t]+)?[^\s\"]+[ \t]+(?=[^\s\"])")
"""What a line has before its text: its command, and a name of its own where it gives something a name."""
_PLAIN_LINE = lazy(
    r"\n[ \t]*+(?:(?:set[aspu]?[ \t]++)?+([A-Za-z_][A-Za-z0-9_.]*+)(?:[ \t]++(?!=)|(?=[\r\n]))"
    r"(?:\"[^\"\r\n]*+\"(?=[ \t\r\n]))?+[^\r\n\";/#]*+"
    r"(?:(?=[\"/#])(?:(?<=[ \t])(?:\"[^\"\r\n]*+\"(?=[ \t\r\n])|(?://|#)[^\r\n]*+|/)|(?<![ \t])[/#])"
    r"[^\r\n\";/#]*+)*+"
    r"|(?://|#)[^\r\n]*+)?+(?=\r?\n)"
)
"""A comment, or one command in which nothing needs a second look."""
_SET_VERBS = frozenset(
    "".join(letters)
    for verb in ("set", "seta", "sets", "setp", "setu")
    for letters in product(*zip(verb, verb.upper(), strict=True))
)
"""The verbs that the pattern reads in small letters only, in every spelling: as a key, one needs a closer look."""


def problems_of(document: DirectivesDocument) -> list[Problem]:
    """Find every problem of a command file, in the order of the file."""
    body = document.text.body
    if first := pointless(body):
        return first
    is_usual = not document.dialect.marks and not document.dialect.quotes and document.dialect.case and body.isascii()
    is_usual = is_usual and not document.dialect.pairs and document.dialect.indent
    keys = plain_keys(body, _PLAIN_LINE) if is_usual else None
    if keys is not None and stand_once(keys, but=_SET_VERBS):
        return []
    found: list[Problem] = list(_quotes(document))
    equals = [command for command in document.commands if _equals(command)]
    if len(equals) * 2 <= len(document.commands):
        found += [_with_equals(equal) for equal in equals]
    apart = [command for command in document.commands if _value_of(document, command)[:1] == "="]
    if len(apart) * 2 <= len(document.commands):
        found += [_equals_apart(document, command) for command in apart]
    for command in document.commands:
        found += _signs(document, command)
        start = line_start(body, command.start)
        if not document.dialect.indent and start < command.start and not body[start : command.start].strip():
            found.append(blank_before(start, command.start))
    found += hidden_characters(body)
    found += _doubles(document)
    return flood(handful(found))


def _quotes(document: DirectivesDocument) -> Iterator[Problem]:
    """Find lines with an odd number of quotes."""
    body, at = document.read_as, 0
    while at < len(body):
        end = LINE_END.search(body, at)
        stop = document._comment_start(at, end.start() if end else len(body))
        line = body[at:stop]
        if line.count('"') % 2:
            opened, repair = _partner(line, at)
            close = at + len(line.rstrip())
            cause = "This quote has no partner on its line."
            yield problem(
                "quote-open", (opened, max(close, opened + 1)), cause, "Write a quote where the value ends.", repair
            )
        at = end.end() if end else len(body)


def _partner(line: str, start: int) -> tuple[int, list[Splice]]:
    """Return the quote that is alone on a line, and where its partner most likely belongs.

    A quote after a space opens a text and one before a space closes it, so the first that does not fit its turn shows
    which one is lost.
    """
    opened = -1
    for quote in re.finditer('"', line):
        at = quote.start()
        before, after = line[at - 1 : at], line[at + 1 : at + 2]
        closes = bool(before.strip()) and (not after.strip() or after == ";")
        opens = not before.strip() and bool(after.strip())
        if opened < 0 and closes and not opens:
            key = _BEFORE_TEXT.match(line[:at])
            place = start + (key.end() if key else len(line) - len(line.lstrip()))
            return start + at, [Splice(place, place, '"')]
        if opened >= 0 and opens:
            place = start + len(line[:at].rstrip())
            return start + opened, [Splice(place, place, '"')] if place > start + opened + 1 else []
        opened = at if opened < 0 else -1
    note = re.compile(r"[ \t]+(?://|#)[^\"]*$").search(line, opened + 1)
    end = note.start() if note else len(line.rstrip())
    return start + opened, [Splice(start + end, start + end, '"')] if end > opened + 1 else []


def _equals(command: Command) -> bool:
    return re.fullmatch(r"[A-Za-z_][\w.]*=.*", command.key) is not None


def _value_of(document: DirectivesDocument, command: Command) -> str:
    return document.text.body[command.value_start : command.value_end]


def _equals_apart(document: DirectivesDocument, command: Command) -> Problem:
    at, body = command.value_start, document.text.body
    blanks = len(body[at + 1 : command.value_end]) - len(body[at + 1 : command.value_end].lstrip(" \t"))
    cause = (
        "The other lines have a space between command and value; the server takes this sign for a part of the value."
    )
    repair = [Splice(at, at + 1 + blanks, "")]
    return problem("separator-equals", (at, at + 1), cause, "Delete the equals sign.", repair)


def _with_equals(command: Command) -> Problem:
    at = command.key_start + command.key.index("=")
    repair = [Splice(at, at + 1, " ")]
    cause = "The server takes key, sign and value for one command that it does not know."
    return problem("separator-equals", (at, at + 1), cause, "Write a space for the equals sign.", repair)


def _signs(document: DirectivesDocument, command: Command) -> Iterator[Problem]:
    """Find curly quotes and long dashes."""
    body = document.text.body
    raw = body[command.value_start : command.value_end]
    if raw[:1] and raw[0] in CURLY and len(raw) > 1:
        straight = re.sub(rf"[{CURLY}]", '"', raw)
        repair = [Splice(command.value_start, command.value_end, straight)] if straight.count('"') % 2 == 0 else []
        cause = "Curly quotes are not quotes: the server reads them as part of the value."
        yield problem("quotes-curly", (command.value_start, command.value_end), cause, "Write straight quotes.", repair)
    if command.key and command.key[0] in DASHES and len(command.key) > 1:
        cause = "A long dash is not a minus sign: the server does not know this option."
        repair = [Splice(command.key_start, command.key_start + 1, "-")]
        yield problem(
            "flag-dash", (command.key_start, command.key_start + 1), cause, "Write a plain dash.", repair, safe=True
        )


def _doubles(document: DirectivesDocument) -> Iterator[Problem]:
    """Find single values that are set twice with other commands between; lines below each other are a list."""
    last: dict[str, int] = {}
    repeated = set(map(document._named, document.dialect.repeated))
    for number, command in enumerate(document.commands):
        key = document._named(command.key)
        before = last.get(key)
        last[key] = number
        if key in repeated:
            continue
        lists = command.value_end == command.value_start or key in (
            "exec",
            "include",
            "echo",
            "say",
            "wait",
            "bind",
            "alias",
            "unset",
        )
        if before is None or before == number - 1 or lists or len(document._by_key[key]) > 2:
            continue
        other = document.commands[before]
        several = [document.text.body[each.value_start : each.value_end].split() for each in (other, command)]
        if all(len(values) > 1 for values in several) and several[0][0] != several[1][0]:
            continue  # each is about something else, such as the bans of two people
        lost, kept = (other, command) if document.dialect.counts == "last" else (command, other)
        line = document.text.place(kept.key_start)[0]
        cause = f"{command.key} is set again in line {line}, and only that one counts, unless the server keeps a list."
        yield problem("key-twice", (lost.key_start, lost.key_end), cause, "Delete the one that should not count.")
