"""What people get wrong in YAML.

What the reader takes is looked at for traps; what it refuses, for the mistake after.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING

from roundgate.core.findings import Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.shared.common_problems import (
    DASHES,
    flood,
    handful,
    hidden_characters,
    not_utf8,
    pointless,
)
from roundgate.core.formats.shared.repair_loop import one_after_another, only_proven
from roundgate.core.formats.shared.single_slip import are_several
from roundgate.core.formats.yaml.events import Stream, YamlError
from roundgate.core.formats.yaml.lost_colons import lost_colons
from roundgate.core.formats.yaml.recovery import diagnose
from roundgate.core.formats.yaml.recovery_signs import unknown_alias
from roundgate.core.formats.yaml.second_opinion import second_opinion
from roundgate.core.formats.yaml.single_slip import single_slip
from roundgate.core.patterns import lazy
from roundgate.core.text import LINE_END, Splice, Text, line_start

if TYPE_CHECKING:
    from roundgate.core.formats.yaml.document import YamlDocument

_OCTAL = lazy(r"0[0-9]+")
_CURLY = "\u201c\u201d\u201e\u2018\u2019"
_TRAPS = frozenset(("yes", "no", "on", "off"))
_GLUED = lazy(r"(?P<said>[-+]?[0-9][0-9.]*[A-Za-z%]{0,2}|true|false|yes|no|on|off)#(?= |\Z)", re.IGNORECASE)
_GLUED_END = lazy(r"[\"'\]}]#")
_DASH_GLUED = lazy(r"(?:\r\n|\r|\n)[ \t]*(-)(?=[A-Za-z\"'])")
_COLON_GLUED = lazy(r"(?:\r\n|\r|\n)[ \t]*[A-Za-z_]\w*(:)(?=[^\s/:])")
_DASHED = lazy(r"(?:\r\n|\r|\n)[ \t]*(-) ")


def problems_of(document: YamlDocument) -> list[Problem]:
    """Find every problem of a YAML text, in the order of the file."""
    body = document.text.body
    if first := pointless(body):
        return first
    if document.error is None:
        found = [
            *_traps(document.stream),
            *_doubles(document),
            *hidden_characters(body),
            *not_utf8(document.text, "error"),
        ]
        found += [*_glued_ends(document.stream), *lost_colons(document.stream)]
        opinion = second_opinion(body)
        if opinion is not None and opinion >= 0 and not found:
            found.append(_differs(opinion))
        return flood(sorted(found, key=lambda mistake: (mistake.start, mistake.end)))
    found = _or_single_slip(body, one_after_another(body, _diagnose, _not_understood), document.error.at)
    found = only_proven(body, found, _first_error)
    if second_opinion(body) == -1 and not _is_certain(found):
        return [_differs(document.error.at)]
    return handful(found)


def _or_single_slip(body: str, found: list[Problem], at: int) -> list[Problem]:
    """Return what the diagnosis found, or the one slip that explains the text where the diagnosis does not."""
    errors = [mistake for mistake in found if mistake.level == "error"]
    clear = len(errors) == 1 and errors[0].repair and errors[0].code not in _OFTEN_ANOTHER
    if clear and _first_error(Text(body).spliced(errors[0].repair).body) is None:
        return found
    if are_several(body, errors, _first_error):
        return found
    slip = single_slip(body, at, lambda text: _first_error(text) is None)
    return found if slip is None else [*(mistake for mistake in found if mistake.level != "error"), slip]


_OFTEN_ANOTHER = frozenset(("colon-absent", "indent-uneven", "tab-indent", "comma-missing", "text-after-quote"))
"""Diagnoses that a slip of another kind brings about as well."""


def _first_error(body: str) -> tuple[int, int] | None:
    """Return where libyaml gives up, or None."""
    try:
        Stream(body)
    except YamlError as error:
        return error.at, error.at
    return None


def _is_certain(found: list[Problem]) -> bool:
    return bool(found) and found[0].code in _CERTAIN


_CERTAIN = frozenset(("hidden-between", "escape-broken", "quote-unclosed"))


def _diagnose(body: str) -> tuple[Problem | None, int] | None:
    try:
        Stream(body)
    except YamlError as error:
        return diagnose(body, error), error.at
    return None


def _not_understood(body: str, at: int) -> Problem:
    at = min(at, max(len(body) - 1, 0))
    cause = "The reader of YAML cannot go on here; look at this line and the one before it."
    return problem(
        "not-understood", (at, at + 1), cause, "Compare indentation, colons and quotes with lines that work."
    )


def _differs(at: int) -> Problem:
    cause = "The language allows this, or many readers do, and others refuse it."
    return problem("reader-differs", (at, at + 1), cause, "Write it more plainly: spaces for tabs, quotes, one line.")


def _doubles(document: YamlDocument) -> Iterator[Problem]:
    """Find names that stand twice in one map, in one pass over the events."""
    stream = document.stream
    open_maps: list[tuple[dict[str, int], bool] | None] = []
    is_key = False
    stack: list[bool] = []
    for at, events in enumerate(stream.events):
        sign = events[0]
        if sign in "]}":
            open_maps.pop()
            is_key = stack.pop()
            continue
        names = open_maps[-1] if open_maps else None
        if sign in "S*" and names is not None:
            if is_key:
                known = names[0]
                if sign == "S" and events[1] in known and events[1] != "<<":
                    yield _double(document, known[events[1]], at)
                known[events[1]] = at
            is_key = not is_key
        elif sign in "[{":
            stack.append(names is not None and not is_key)
            open_maps.append(({}, True) if sign == "{" else None)
            is_key = sign == "{"


def _double(document: YamlDocument, first: int, second: int) -> Problem:
    span = document.stream.spans[first]
    line = document.text.place(document.stream.spans[second][0])[0]
    name = document.stream.events[first][1]
    cause = f"{name} is set again in line {line}; most servers read only the last one, and some refuse the file."
    return problem("key-twice", span, cause, "Delete the one that should not count, or join them.")


def _traps(stream: Stream) -> Iterator[Problem]:
    """Find what is read, and not as its writer is likely to have meant it."""
    documents = 0
    anchors: set[str] = set()
    for at, (sign, value, anchor, tag, is_plain) in enumerate(stream.events):
        if anchor is not None:
            anchors.add(anchor)
        if sign == "*" and value not in anchors:
            yield unknown_alias(stream.body, stream.spans[at][0], anchors)
        if sign == "D":
            anchors = set()
            documents += 1
            if documents == 2:
                span = stream.spans[at]
                cause = "A second document begins here; many servers read only the first."
                yield problem("document-second", span, cause, "Put it into a separate file.")
        if sign != "S" or not is_plain or not value or tag is not None:
            continue
        yield from _plain_traps(stream, at, value)


def _plain_traps(stream: Stream, at: int, value: str) -> Iterator[Problem]:
    span = stream.spans[at]
    if value.lower() in _TRAPS:
        meant = "true" if value.lower() in ("yes", "on") else "false"
        cause = f"Many readers take '{value}' for {meant}, others for a word."
        do = f'Write {meant}, or "{value}" for the word.'
        yield problem("word-as-bool", span, cause, do, [Splice(*span, meant)])
    elif (
        value[0] == "-" and value[1:2].isalpha() and not stream.body[line_start(stream.body, span[0]) : span[0]].strip()
    ):
        cause = "A space is missing after this dash, so this is a text and no item of a list."
        repair = [Splice(span[0] + 1, span[0] + 1, " ")]
        do = "Write a space after the dash."
        yield problem("dash-space", (span[0], span[0] + 1), cause, do, repair, level="warning")
    elif "#" in value and (glued := _GLUED.match(value)):
        yield _glued(span, glued)
    elif _OCTAL.fullmatch(value):
        cause = f"Many readers take {value} for a number to base eight, and drop the zero."
        yield problem(
            "number-octal", span, cause, f'Write "{value}" in quotes if it is a code.', [Splice(*span, f'"{value}"')]
        )
    elif value[0] in _CURLY:
        yield _curly(stream, span)
    elif value[0] in DASHES and value[1:2] == " ":
        repair = [Splice(span[0], span[0] + 1, "-")]
        cause = "This is a long dash, so the line is a text and no item of a list."
        yield problem("dash-long", (span[0], span[0] + 1), cause, "Write a plain dash.", repair)
    elif value[-1] in "]}" and value.count(value[-1]) > value.count("[" if value[-1] == "]" else "{"):
        opening = "[" if value[-1] == "]" else "{"
        cause = f"This text ends with {value[-1]}, and nothing opens it: a {opening} is missing before it."
        repair = [Splice(span[0], span[0], opening)]
        yield problem("bracket-unopened", span, cause, f"Write {opening}.", repair, level="warning")
    elif value[-1] in "\"'" and value.count(value[-1]) % 2 and value[-2:-1].isalnum():
        cause = "This text ends with a quote and does not begin with one."
        repair = [Splice(span[0], span[0], value[-1])]
        do = "Write a quote where the text begins."
        yield problem("quote-unopened", span, cause, do, repair, level="warning")
    elif " " in value:
        dashed = _DASHED.search(stream.body, *span)
        if dashed and value[0] == "-":
            repair = [Splice(span[0] + 1, span[0] + 1, " ")]
            cause = "A space is missing after this dash, so it is part of the text, and the line below with it."
            yield problem("dash-space", (span[0], span[0] + 1), cause, "Write a space after the dash.", repair)
        elif (glued := _DASH_GLUED.search(stream.body, *span)) and not stream.events[at][2]:
            cause = "A space is missing after this dash, so this line is part of the text above it, and no item."
            repair = [Splice(glued.end(1), glued.end(1), " ")]
            yield problem("dash-space", glued.span(1), cause, "Write a space after the dash.", repair, level="warning")
        elif glued := _COLON_GLUED.search(stream.body, *span):
            cause = "A space is missing after this colon, so this line is part of the text above it."
            repair = [Splice(glued.end(1), glued.end(1), " ")]
            do = "Write a space after the colon."
            yield problem("colon-space", glued.span(1), cause, do, repair, level="warning")
        elif dashed:
            cause = "This dash is deeper than the ones above, so it is part of the text before it, and no item."
            do = "Put the dash below the one above it."
            yield problem("dash-depth", dashed.span(1), cause, do, level="warning")


def _begins_line(body: str, at: int) -> bool:
    return not body[line_start(body, at) : at].strip()


def _glued(span: tuple[int, int], found: re.Match[str]) -> Problem:
    at = span[0] + found.end("said")
    cause = f"Without a space before it this is not a comment: it is part of the value, after {found['said']}."
    repair = [Splice(at, at, " ")]
    return problem("comment-in-value", (at, span[1]), cause, "Write a space before the mark.", repair)


def _glued_ends(stream: Stream) -> Iterator[Problem]:
    """Find a comment right after a closing quote or bracket."""
    if not _GLUED_END.search(stream.body):
        return
    for at, events in enumerate(stream.events):
        end = stream.spans[at][1]
        is_end = (events[0] == "S" and not events[4]) or events[0] in "]}"
        if is_end and stream.body[end : end + 1] == "#" and stream.body[end - 1 : end] in ("'", '"', "]", "}"):
            line = LINE_END.search(stream.body, end)
            stop = line.start() if line else len(stream.body)
            cause = "A comment needs a space before its mark; some readers refuse the file without it."
            repair = [Splice(end, end, " ")]
            yield problem("comment-glued", (end, stop), cause, "Write a space before the mark.", repair, safe=True)


def _curly(stream: Stream, span: tuple[int, int]) -> Problem:
    cause = "Curly quotes are not quotes: the server reads them as part of the text."
    text = stream.body[slice(*span)]
    inner = text.strip(_CURLY + '"')
    repair = [] if '"' in inner or "\\" in inner else [Splice(*span, f'"{inner}"')]
    return problem("quotes-curly", span, cause, "Write straight quotes.", repair)
