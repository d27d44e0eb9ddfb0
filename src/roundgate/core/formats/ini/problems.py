"""What people get wrong in an ini file. The format takes nearly anything, so most of it is taken without a word."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING

from roundgate.core.findings import Level, Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.shared.common_problems import (
    UNSEEN,
    blank_before,
    comment_in_value,
    flood,
    handful,
    hidden_characters,
    may_hold_comments,
    plain_keys,
    pointless,
)
from roundgate.core.patterns import lazy
from roundgate.core.text import LINE_END, Splice, line_start

if TYPE_CHECKING:
    from roundgate.core.formats.ini.document import IniDocument
from roundgate.core.formats.ini.reader import Row

_OPEN_HEADING = lazy(r"[ \t]*\[[\w./ \-]+[ \t]*$")
_MANY_WORDS = lazy(r"([^\W\d][\w.]*)([ \t]+)([^\s=:].*)$")
_KEY_WITH_MORE = lazy(r"(?P<name>[^\W\d][\w.\[\]]*)(?P<sign>[ \t]*:[ \t]+|[ \t]+)(?=\S)")
_OPENED_LATE = lazy(r"[\w./ \-]+\][ \t]*$")
_COLON_LINE = lazy(r"[+A-Za-z_][\w.+\[\]]*(?P<sign>:[ \t]*)\S.*")
_WORD_LINE = lazy(r"[^\W\d][\w.]*")
_TWO_WORDS = lazy(r"((?:\+|[^\W\d])[\w.\[\]]*)([ \t]+)(\S+|\"[^\"]*\"|\(.*\))$")
_STRINGS = lazy(r'"(?:[^"\\]|\\.)*"')
_PLAIN_LINE = lazy(
    rf"\n[ \t]*+(?:[;#][^\r\n]*+|(\[[^\]\s{UNSEEN}][^\]\r\n{UNSEEN}]*+|[^\[;#=<>\s{UNSEEN}][^=\s{UNSEEN}]*+)"
    rf"(?:\][ \t]*+|[ \t]*+=[ \t]*+"
    rf"(?:\"[^\"\\\r\n{UNSEEN}]*+\"[ \t]*+"
    rf"|[^\s(\"\u201c\u201e\u2018{UNSEEN}][^\r\n{UNSEEN}]*+(?<!\")(?<!\"[ \t]))?))?+(?=\r?\n)"
)
"""A comment, a heading (its group without the closing bracket), or a key with a value in which nothing needs a second
look."""


def _repeats(names: list[str]) -> bool:
    """Return whether a heading, or a key within its section, stands twice; comments have empty names."""
    sections: set[str] = set()
    keys: set[str] = set()
    headings = 0
    for name in filter(None, names):
        if name[0] == "[":
            sections.add(name.rstrip())
            headings += 1
            keys.clear()
        elif name in keys:
            return True
        else:
            keys.add(name)
    return len(sections) < headings


_LIST_SIGNS = ("+", "-", ".", "!")


def problems_of(document: IniDocument) -> list[Problem]:
    """Find every problem of an ini text, in the order of the file."""
    body = document.text.body
    if first := pointless(body):
        return first
    dialect = document.dialect
    is_usual = dialect.quotes != "needed" and not dialect.marks and document.is_by_line and dialect.indent
    if is_usual and not may_hold_comments(body):
        names = plain_keys(body, _PLAIN_LINE)
        if names is not None and not _repeats(names):
            return []
    found: list[Problem] = []
    signs = sum(1 for row in document.rows if row.key and not row.is_heading and "=" in _sign(document, row))
    for row in document.rows:
        found += _in_heading(row) if row.is_heading else _in_line(document, row, signs)
        if not body.isascii():
            found += hidden_characters(body, row.key_start, row.value_end)
    found += [*_doubles(document), *_sections(document)]
    return flood(handful(found))


def _sign(document: IniDocument, row: Row) -> str:
    return document.text.body[row.key_end : row.value_start]


def _in_heading(row: Row) -> Iterator[Problem]:
    if not row.section:
        span = (row.key_start - 1, row.key_end + 1)
        yield problem(
            "name-missing", span, "This section has no name.", "Write a name between the brackets.", level="warning"
        )


def _in_line(document: IniDocument, row: Row, signs: int) -> Iterator[Problem]:
    raw = document.text.body[row.value_start : row.value_end]
    if LINE_END.search(raw):
        return
    start = row.key_start if row.key else row.value_start
    if not document.dialect.indent and row.start < start:
        yield blank_before(row.start, start)
    if not row.key:
        yield from _bare(document, row, raw, signs)
        return
    key = document.text.body[row.key_start : row.key_end]
    apart = _KEY_WITH_MORE.match(key)
    if apart and signs > 1 and not document.has_blank_keys:
        span = (row.key_start + apart.end("name"), row.key_start + apart.end())
        is_colon = apart["sign"].strip() == ":"
        code = "separator-colon" if is_colon else "separator-missing"
        cause = f"The equals sign after {apart['name']} is missing, so a part of the value is taken for the key."
        yield problem(code, (span[0], span[0] + 1), cause, "Write = after the name.", [Splice(*span, "=")])
        return
    if "=" not in _sign(document, row) and ":" in _sign(document, row) and signs > 0:
        at = row.key_end + _sign(document, row).index(":")
        repair = [Splice(at, at + 1, "=")]
        cause = "The other lines have an equals sign here, and many servers read no other."
        yield problem("separator-colon", (at, at + 1), cause, "Write an equals sign.", repair)
    yield from _value(document, row, raw)


def _bare(document: IniDocument, row: Row, raw: str, signs: int) -> Iterator[Problem]:
    if raw.startswith(("=", ":")):
        cause = "There is no key before the equals sign."
        span = (row.value_start, row.value_start + 1)
        yield problem("name-missing", span, cause, "Write the key's name before it.", level="warning")
        return
    if _OPEN_HEADING.fullmatch(raw):
        repair = [Splice(row.value_end, row.value_end, "]")]
        cause = "A section's closing bracket is missing, so this is not a section."
        yield problem(
            "section-unclosed", (row.value_start, row.value_end), cause, "Write ] after the name.", repair, safe=True
        )
        return
    if _OPENED_LATE.fullmatch(raw):
        repair = [Splice(row.value_start, row.value_start, "[")]
        cause = "A section's opening bracket is missing, so this is not a section."
        yield problem("section-unclosed", (row.value_start, row.value_end), cause, "Write [ before the name.", repair)
        return
    mates = [other for other in document.rows if other.section == row.section and not other.is_heading]
    named = [mate for mate in mates if mate.key]
    match = _TWO_WORDS.fullmatch(raw) or (_MANY_WORDS.fullmatch(raw) if len(named) >= len(mates) - 2 else None)
    if match and signs and len(named) * 2 >= len(mates):
        repair = [Splice(row.value_start + match.start(2), row.value_start + match.end(2), "=")]
        cause = "The equals sign is missing, so this is not a key with a value."
        span = (row.value_start + match.start(2), row.value_start + match.end(2))
        yield problem("separator-missing", span, cause, "Write = between key and value.", repair)
        return
    yield from _odd_line(document.text.body, row, raw, signs, len(named), len(mates))


def _odd_line(body: str, row: Row, raw: str, signs: int, named: int, mates: int) -> Iterator[Problem]:
    """Look at a line that is not a key with a value where nearly all of its section's lines are."""
    colon = _COLON_LINE.fullmatch(raw)
    if colon and signs * 2 >= mates:
        at = row.value_start + colon.start("sign")
        repair = [Splice(at, row.value_start + colon.end("sign"), "=")]
        cause = "The other lines have an equals sign here, and many servers read no other."
        yield problem("separator-colon", (at, at + 1), cause, "Write an equals sign.", repair)
    elif _WORD_LINE.fullmatch(raw) and named >= max(1, mates - 2):
        cause = "The other lines of this section are keys with values, and this word belongs to nothing."
        do = "Delete the line, or write = and a value after it."
        ending = LINE_END.match(body, row.value_end)
        repair = [Splice(line_start(body, row.value_start), ending.end() if ending else row.value_end, "")]
        yield problem("word-stray", (row.value_start, row.value_end), cause, do, repair, level="warning")


def _value(document: IniDocument, row: Row, raw: str) -> Iterator[Problem]:
    if not document.dialect.notes:
        mark = document.marks[0]
        yield from comment_in_value(document.text.body, row.value_start, row.value_end, mark, "note")
    if document.dialect.quotes != "kept" and raw[:1] == '"' and not _STRINGS.match(raw) and raw.count('"') == 1:
        cause = "This quote is opened and not closed on its line."
        repair = [Splice(row.value_end, row.value_end, '"')]
        yield problem("quote-open", (row.value_start, row.value_end), cause, "Write a quote after the value.", repair)
        return
    if document.dialect.quotes != "kept" and raw[-1:] == '"' and raw.count('"') == 1 and raw[:1] != "(":
        cause = "This text ends with a quote and does not begin with one."
        repair = [Splice(row.value_start, row.value_start, '"')]
        do = "Write a quote before the value."
        yield problem("quote-open", (row.value_start, row.value_end), cause, do, repair)
        return
    if raw[:1] in ("\u201c", "\u201e", "\u2018") and len(raw) > 1:
        cause = "Curly quotes are not quotes: the server reads them as part of the value."
        inner = raw.strip("\u201c\u201d\u201e\u2018\u2019\"'")
        repair = [Splice(row.value_start, row.value_end, f'"{inner}"')] if '"' not in inner else []
        yield problem("quotes-curly", (row.value_start, row.value_end), cause, "Write straight quotes.", repair)
    yield from _brackets(row, raw)
    if document.dialect.quotes == "needed" and "," in _STRINGS.sub("", raw) and raw[:1] not in ('"', "("):
        at = row.value_start + raw.index(",")
        repair = [Splice(row.value_start, row.value_end, f'"{raw}"')] if '"' not in raw else []
        cause = "The server ends the value at this comma, because there are no quotes around it."
        yield problem("value-unquoted", (at, at + 1), cause, "Write quotes around the value.", repair)


_PAIRS = {")": "(", "]": "[", "}": "{"}


def _brackets(row: Row, raw: str) -> Iterator[Problem]:
    """Look at a value that begins with a round bracket: every one must be closed on the line."""
    if raw[:1] != "(":
        return
    blanked = _STRINGS.sub(lambda match: " " * len(match[0]), raw)
    if '"' in blanked:
        yield _quote_in_brackets(row, raw, blanked.index('"'))
        return
    open_ones: list[tuple[str, int]] = []
    for at, char in enumerate(blanked):
        if char in "([{":
            open_ones.append((char, at))
        elif char in _PAIRS:
            if not open_ones:
                here = row.value_start + at
                cause = f"This {char} closes nothing."
                yield problem("bracket-extra", (here, here + 1), cause, "Delete it.", [Splice(here, here + 1, "")])
                return
            sign, _ = open_ones.pop()
            if sign != _PAIRS[char]:
                here = row.value_start + at
                cause = f"This {char} closes what was opened with {sign}."
                yield problem("bracket-wrong", (here, here + 1), cause, f"Close {sign} with its own partner.")
                return
    if open_ones:
        here = row.value_start + open_ones[-1][1]
        signs = "".join({"(": ")", "[": "]", "{": "}"}[sign] for sign, _ in reversed(open_ones))
        repair = [Splice(row.value_end, row.value_end, signs)]
        cause = "This bracket is opened and not closed on its line."
        yield problem("brackets-open", (here, here + 1), cause, f"Write {signs} where the value ends.", repair)


def _quote_in_brackets(row: Row, raw: str, at: int) -> Problem:
    """A quote without a partner between brackets: where does the text begin or end?"""
    here = row.value_start + at
    if re.match(r"\"[ \t]*[,)\]]", raw[at:]):  # it closes a text that was not opened
        begun = max(raw.rfind(sign, 0, at) for sign in "=(,") + 1
        repair = [Splice(row.value_start + begun, row.value_start + begun, '"')]
        cause = "This text ends with a quote and does not begin with one."
        return problem("quote-open", (here, here + 1), cause, "Write a quote where the text begins.", repair)
    ends = re.compile(r"(?=,[ \t]*[A-Za-z_]\w*=)|(?=\)+[ \t]*$)|(?=\),)").search(raw, at + 1)
    place = row.value_start + (ends.start() if ends else len(raw))
    cause = "This quote is opened and not closed."
    repair = [Splice(place, place, '"')]
    return problem("quote-open", (here, here + 1), cause, "Write a quote where the text ends.", repair)


def _doubles(document: IniDocument) -> Iterator[Problem]:
    """Find keys that stand twice in one section. Lines right below each other may be a list; that is only noted."""
    last: dict[tuple[str, str], int] = {}
    counts = document.dialect.counts
    heading = 0
    for number, row in enumerate(document.rows):
        heading = number if row.is_heading else heading
        raw = document.text.body[row.value_start : row.value_end] if not row.key else ""
        if _OPEN_HEADING.fullmatch(raw):
            last.clear()  # what follows was meant for a section of its own; that is said already
        if row.is_heading or not row.key or row.key.startswith(_LIST_SIGNS):
            continue
        before = last.get((row.section, row.key))
        last[row.section, row.key] = number
        key = f"{row.section}.{row.key}" if row.section else row.key
        # A section that is there again with the same keys may be one item of several; ``_sections`` tells of it.
        if before is None or key in document.dialect.repeated or before < heading:
            continue
        other = document.rows[before]
        lost, kept = (other, row) if counts == "last" else (row, other)
        line = document.text.place(kept.key_start)[0]
        cause = f"{row.key} is set again in line {line}, and only that one counts, unless the server reads a list."
        near = before == number - 1
        do = "Delete the one that should not count."
        yield problem("key-twice", (lost.key_start, lost.key_end), cause, do, level="note" if near else "warning")


def _sections(document: IniDocument) -> Iterator[Problem]:
    """Find sections that are there again, and whether a key is in both."""
    first: dict[str, int] = {}
    keys: dict[str, set[str]] = {}
    again, both = None, ""
    inside: set[str] = set()
    section = ""
    for row in document.rows:
        if not row.is_heading:
            both = both or (row.key if again and row.key in keys[section] else "")
            inside.add(row.key)
            continue
        if again is not None:
            yield _section_twice(document, again, first[section], both)
        keys.setdefault(section, set()).update(inside)
        section, inside, both = row.section, set(), ""
        again = row if section in first else None
        first.setdefault(section, row.key_start)
    if again is not None:
        yield _section_twice(document, again, first[section], both)


def _section_twice(document: IniDocument, row: Row, first: int, both: str) -> Problem:
    line = document.text.place(first)[0]
    more = f", and {both} is in both: most servers use only the last one" if both else ""
    cause = f"The section {row.section} begins in line {line} already{more}."
    do = "Join the two, unless the server wants one section for each item."
    level: Level = "warning" if both else "note"
    return problem("section-twice", (row.key_start, row.key_end), cause, do, level=level)
