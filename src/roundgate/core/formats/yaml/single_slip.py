"""One slip of the hand in YAML: the one small change that makes it a text that libyaml takes."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from itertools import islice

from roundgate.core.findings import Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.shared.common_problems import CURLY
from roundgate.core.formats.shared.slips import SLOW, Slip, lines_around, tries_for
from roundgate.core.text import LINE_END, Splice, Text

_KEY = r"[\w./$-]*\w|\"[^\"\r\n]*\"|'[^'\r\n]*'"
_LEAD = r"[ \t]*(?:- +)*"


def single_slip(body: str, at: int, takes: Callable[[str], bool]) -> Problem | None:
    """Return the one slip that explains a broken text, with its repair, or None."""
    for slip in islice(_slips(body, at), tries_for(body, SLOW)):
        if takes(Text(body).spliced([slip.cut]).body):
            span = (slip.start, max(slip.end, slip.start + 1))
            return problem(slip.code, span, slip.cause, slip.do, [slip.cut])
    return None


def _slips(body: str, at: int) -> Iterator[Slip]:
    lines = lines_around(body, at)
    near = lines[:3]
    for start, end in near:
        yield from _quotes(body[start:end], start)
        yield from _flow(body[start:end], start)
    for start, end in near:
        yield from _stray(body, start, end)
    for start, end in near:
        yield from _signs(body[start:end], start)
    for start, end in near:
        yield from _indent(body, start, end)
    for start, end in lines[3:8]:
        yield from _quotes(body[start:end], start)
        yield from _flow(body[start:end], start)
        yield from _signs(body[start:end], start)


def _signs(line: str, start: int) -> Iterator[Slip]:
    """Slips in the signs of a line: dashes and colons."""
    dash = re.match(r"[ \t]*-(?=[\w\"'{\[])", line)
    if dash:
        place = start + dash.end()
        cause = "A space is missing after this dash, so it is part of the text."
        cut = Splice(place, place, " ")
        yield Slip("dash-space", place - 1, place, cause, "Write a space after the dash.", cut)
    glued = re.match(rf"{_LEAD}(?:{_KEY}):(?=[^\s/:])", line)
    if glued:
        place = start + glued.end()
        cause = "A space is missing after this colon, so there is no key and no value."
        cut = Splice(place, place, " ")
        yield Slip("colon-space", place - 1, place, cause, "Write a space after the colon.", cut)
    apart = re.match(rf"{_LEAD}({_KEY})(?P<gap>[ \t]*=[ \t]*|[ \t]+)(?=\S)", line)
    if apart and apart["gap"].strip() == "=":
        cut = Splice(start + apart.start("gap"), start + apart.end("gap"), ": ")
        cause = "YAML has a colon between a name and its value, not an equals sign."
        yield Slip("equals-sign", cut.start, cut.end, cause, "Write a colon.", cut)
    elif apart:
        cut = Splice(start + apart.end(1), start + apart.end("gap"), ": ")
        cause = f"There is no colon between {apart[1]} and its value."
        yield Slip("colon-absent", cut.start, cut.end, cause, "Write a colon after the name.", cut)
    alone = re.match(rf"{_LEAD}({_KEY})(?=[ \t]*(?:#.*)?$)", line)
    if alone:
        place = start + alone.end()
        cause = f"There is no colon after {alone[1]}."
        yield Slip("colon-absent", place, place + 1, cause, "Write a colon.", Splice(place, place, ":"))
    lost = re.match(rf"[ \t]+(?=(?:{_KEY}):(?:\s|$))", line)
    if lost:
        place = start + lost.end()
        cause = "The dash before this item of a list is missing."
        yield Slip("dash-lost", place, place + 1, cause, "Write a dash and a space.", Splice(place, place, "- "))


def _stray(body: str, start: int, end: int) -> Iterator[Slip]:
    """A line with one word that has no colon and no dash."""
    word = re.compile(r"[ \t]*([A-Za-z]\w*)[ \t]*").fullmatch(body, start, end)
    below = next((splitline for splitline in body[end:].splitlines() if splitline.strip()), "")
    if word and _blanks(below) <= _blanks(word[0]):  # with something deeper below it, it is a name without its colon
        ending = LINE_END.match(body, end)
        cut = Splice(start, ending.end() if ending else end, "")
        cause = f"The word '{word[1]}' is by itself on this line and belongs to nothing."
        yield Slip("word-stray", *word.span(1), cause, "Delete the line, or complete it.", cut)


def _indent(body: str, start: int, end: int) -> Iterator[Slip]:
    """A line that begins in the wrong column: the columns of its neighbours are tried."""
    blanks = re.compile(r"[ \t]*").match(body, start, end)
    if blanks is None or not body[start:end].strip():
        return
    before = [
        splitline
        for splitline in body[:start].splitlines()
        if splitline.strip() and not splitline.lstrip().startswith("#")
    ]
    after = [
        splitline
        for splitline in body[end:].splitlines()
        if splitline.strip() and not splitline.lstrip().startswith("#")
    ]
    is_item = re.match(r"[ \t]*-[ \t]", body[start:end]) is not None
    dashes = re.match(r" *(?:- +)+", before[-1]) if before and not is_item else None
    columns = [_blanks(line) for line in (*after[:1], *before[-1:])]
    columns = columns if len(columns) < 2 or columns[0] >= columns[1] else columns[::-1]
    is_parent = bool(before) and re.search(r":[ \t]*(?:#.*)?$", before[-1]) is not None
    columns = ([_blanks(before[-1]) + 2] if is_parent else []) + columns
    columns = ([dashes.end()] if dashes and not (is_parent and after) else []) + columns
    columns += sorted({_blanks(line) for line in before[-8:]}, reverse=True)
    if after and re.search(r":[ \t]*(?:#.*)?$", body[start:end]):  # what is below it is inside it
        most = _blanks(after[0]) + after[0].lstrip().startswith("- ")
        columns = [column for column in columns if column < most]
    for column in dict.fromkeys(columns):
        cut = Splice(start, blanks.end(), " " * column)
        if cut.new != blanks.group():
            code = "tab-indent" if "\t" in blanks.group() else "indent-uneven"
            cause = f"This line begins in column {blanks.end() - start + 1}, and its neighbours in column {column + 1}."
            if code == "tab-indent":
                cause = f"A tab is before this line, and YAML allows spaces only; it belongs in column {column + 1}."
            yield Slip(code, start, blanks.end(), cause, f"Begin it in column {column + 1}, with spaces.", cut)


def _blanks(line: str) -> int:
    return len(line) - len(line.lstrip(" "))


def _quotes(line: str, start: int) -> Iterator[Slip]:
    """A quote that was lost, or typed as a curly one."""
    for found in re.finditer(rf"[{CURLY}\"]([^{CURLY}\"\r\n]*)[{CURLY}\"]", line):
        cut = Splice(start + found.start(), start + found.end(), f'"{found[1]}"')
        if line[found.start() : found.end()] != cut.new:
            yield Slip("quote-curly", cut.start, cut.end, "Curly quotes do not count.", "Write straight quotes.", cut)
    for sign in "\"'":
        if line.count(sign) % 2 == 0:
            continue
        opened = re.search(rf"(?:^|[:,\[{{-])[ \t]*({sign})(?=[^{sign}]*$)", line)
        if opened:
            ends = re.compile(r"(?=[ \t]*[,\]}])|(?=[ \t]*:(?:\s|$))|(?=[ \t]*(?: #.*)?$)")
            for found in ends.finditer(line, opened.end(1) + 1):
                place = start + found.start()
                cause = "This quote is opened and not closed."
                cut = Splice(place, place, sign)
                do = "Write a quote where the text ends."
                yield Slip("quote-unclosed", start + opened.start(1), place, cause, do, cut)
        closed = re.search(rf"{sign}(?=[ \t]*(?:[,\]}}:]|#|$))", line)
        if closed:
            begun = list(re.finditer(rf"(?:^|[:,\[{{-])[ \t]+(?=[^\s{sign}])|^(?=[^\s{sign}])", line[: closed.start()]))
            for match in reversed(begun):
                place = start + match.end()
                cause = "This text ends with a quote and does not begin with one."
                cut = Splice(place, place, sign)
                do = "Write a quote where the text begins."
                yield Slip("quote-unopened", place, start + closed.end(), cause, do, cut)


def _flow(line: str, start: int) -> Iterator[Slip]:
    """Brackets of a list or map in one line, and the commas and colons in them."""
    if "{" in line:
        for found in re.finditer(rf"(?<=[{{,])[ \t]*({_KEY})([ \t]+)(?=[\[{{\"'\w-])", line):
            cut = Splice(start + found.start(2), start + found.end(2), ": ")
            cause = f"There is no colon between {found[1]} and its value."
            yield Slip("colon-absent", cut.start, cut.end, cause, "Write a colon after the name.", cut)
    for opening, closing in ("[]", "{}"):
        more = line.count(opening) - line.count(closing)
        if more > 0:
            at = line.index(opening)
            for found in re.finditer(r"(?<=[^\s,])(?=[ \t]*(?:[,\]}]|(?:[ \t]#.*)?$))", line[at + 1 :]):
                place = start + at + 1 + found.start()
                cause = f"This {opening} is never closed."
                cut = Splice(place, place, closing)
                do = f"Write {closing} where it should end."
                yield Slip("bracket-unclosed", start + at, start + at + 1, cause, do, cut)
        elif more < 0:
            for match in re.finditer(r"(?<=[:,\[{-] )(?=\S)", line):
                place = start + match.start()
                cause = f"A {opening} is missing here: the {closing} after it has no partner."
                cut = Splice(place, place, opening)
                yield Slip("bracket-unopened", place, place + 1, cause, f"Write {opening}.", cut)
    for found in re.finditer(r"[\]}]", line):
        other = "}" if found[0] == "]" else "]"
        cut = Splice(start + found.start(), start + found.end(), other)
        cause = f"This {found[0]} closes what was opened with another bracket; it should be {other}."
        yield Slip("bracket-wrong", cut.start, cut.end, cause, f"Write {other} here.", cut)
