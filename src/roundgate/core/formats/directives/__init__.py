"""The registry's entry for command files."""

from __future__ import annotations

import re
from collections.abc import Sequence

from msgspec.structs import replace

from roundgate.core.findings import Problem
from roundgate.core.formats.directives.document import DirectivesDocument
from roundgate.core.formats.protocol import USUAL, Dialect, Document, Pairs
from roundgate.core.formats.shared.window import Within, confirmed
from roundgate.core.text import Text


class DirectivesFormat:
    """The registry's entry for command files."""

    name = "directives"

    def read(self, text: Text, dialect: Dialect = USUAL) -> DirectivesDocument:
        """Read a text. Never raises."""
        return DirectivesDocument(text, dialect)

    def problems(self, document: Document) -> Sequence[Problem]:
        """Report what is wrong or doubtful with the text itself."""
        from roundgate.core.formats.directives.problems import problems_of

        assert isinstance(document, DirectivesDocument)
        return problems_of(document)

    def confirms(self, document: Document, expected: object) -> bool:
        """Let both readers agree."""
        if isinstance(expected, Within):
            return confirmed(self, document, expected)
        return bool(document.plain() == expected == read_plainly(document.text.body, document.dialect))


def read_plainly(body: str, dialect: Dialect = USUAL) -> Pairs:
    """Read character by character: words, quotes, ends of commands; sharing nothing with the reader above."""
    marks = dialect.marks.split() or ["//", "#"]
    if dialect.quotes in ("none", "escaped"):
        return _plainly_by_dialect(body, dialect)
    pairs = {word if dialect.case else word.lower() for word in dialect.pairs}
    found: Pairs = []
    for line in body.replace("\r\n", "\n").replace("\r", "\n").split("\n"):
        if '"' not in line and not any(mark in line for mark in marks):
            for part in line.split(";"):
                found += _plain_commands(part, [match.span() for match in re.finditer(r"\S+", part)], pairs, dialect)
            continue
        tokens: list[tuple[int, int]] = []
        begun, quoted, at = -1, False, 0
        while at <= len(line):
            char = line[at] if at < len(line) else ";"
            at_end = at == len(line)
            if quoted and not at_end:
                if char == '"':
                    quoted = False
                    tokens.append((begun, at + 1))
                    begun = -1
                at += 1
                continue
            comment = not at_end and (at == 0 or line[at - 1] in " \t;") and any(line.startswith(m, at) for m in marks)
            if begun >= 0 and (char in ' \t;"\f\v' or char.isspace() or comment or at_end):
                if not quoted:
                    tokens.append((begun, at))
                begun = -1
            if comment or char == ";":
                found += _plain_commands(line, tokens, pairs, dialect)
                tokens = []
                if comment or at_end:
                    break
            elif char == '"':
                if '"' in line[at + 1 :]:
                    begun, quoted = at, True
            elif not char.isspace() and begun < 0:
                begun = at
            at += 1
    return found


_LETTER, _SIGN = "\ufdd0", "\ufdd1"


def _plainly_by_dialect(body: str, dialect: Dialect) -> Pairs:
    """Read a text in which some quotes are letters: those are put aside, and put back into what was read."""
    usual = replace(dialect, quotes="")
    if dialect.quotes == "none":
        pairs = read_plainly(body.replace('"', _LETTER), usual)
        return [(key.replace(_LETTER, '"'), value.replace(_LETTER, '"')) for key, value in pairs]
    aside = body.replace("\\\\", _SIGN * 2).replace('\\"', _LETTER * 2)
    found: Pairs = []
    for key, value in read_plainly(aside, usual):
        found.append((_put_back(key, key in aside.split()), _put_back(value, f'"{value}"' not in aside)))
    return found


def _put_back(parts: str, is_bare: bool) -> str:
    sign, letter = ("\\\\", '\\"') if is_bare else ("\\", '"')
    return parts.replace(_SIGN * 2, sign).replace(_LETTER * 2, letter)


def _plain_commands(line: str, tokens: list[tuple[int, int]], pairs: set[str], dialect: Dialect) -> Pairs:
    parts = [line[start:end] for start, end in tokens]
    if not parts:
        return []

    def is_option(word: str) -> bool:
        rest = word[1:]
        return (
            word[0] in "+-"
            and rest[:1].isascii()
            and (rest[:1].isalpha() or rest[:1] == "_")
            and all(char.isalnum() or char in "_.-" for char in rest)
        )

    def option(first: int, stop: int) -> tuple[str, str]:
        value = line[tokens[first + 1][0] : tokens[stop - 1][1]] if stop > first + 1 else ""
        return _unquoted(parts[first]), _unquoted(value)

    if is_option(parts[0]):
        begun = [at for at, word in enumerate(parts) if is_option(word)]
        found: Pairs = []
        for number, at in enumerate(begun):
            stop = (begun[number + 1 : number + 2] or [len(parts)])[0]
            if stop > at + 1 and (parts[at] if dialect.case else parts[at].lower()) in pairs:
                found.append((f"{parts[at]} {_unquoted(parts[at + 1])}", option(at + 1, stop)[1]))
            else:
                found.append((parts[at], option(at, stop)[1]))
        return found
    first = _unquoted(parts[0])
    if len(parts) > 1 and (first if dialect.case else first.lower()) in pairs:
        value = line[tokens[2][0] : tokens[-1][1]] if len(parts) > 2 else ""
        return [(f"{first} {_unquoted(parts[1])}", _unquoted(value))]
    skip = len(parts) > 1 and parts[0].lower() in ("set", "seta", "sets", "setu", "setp")
    return [option(int(skip), len(parts))]


def _unquoted(raw: str) -> str:
    return raw[1:-1] if len(raw) > 1 and raw.startswith('"') and raw.endswith('"') and raw.count('"') == 2 else raw


FORMAT = DirectivesFormat()
