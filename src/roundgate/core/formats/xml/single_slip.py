"""One slip of the hand in XML: the one small change that makes it a text that expat takes."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from itertools import islice, pairwise

from roundgate.core.findings import Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.shared.common_problems import CURLY
from roundgate.core.formats.shared.slips import Slip, crooked_lines, lines_around, tries_for
from roundgate.core.patterns import lazy
from roundgate.core.text import LINE_END, Splice, Text, line_start

_NAME = r"[A-Za-z_][\w:.-]*"
_TAG = lazy(
    rf"<!--.*?-->|<!\[CDATA\[.*?\]\]>|<[?!][^>]*>|<(?P<close>/?)(?P<name>{_NAME})[^<>]*?(?P<alone>/?)>", re.DOTALL
)

_ATTRIBUTES = rf"(?:\s+{_NAME}\s*=\s*(?:\"[^\"<]*\"|'[^'<]*'))*"
_WITHOUT_END = lazy(rf"<{_NAME}{_ATTRIBUTES}\s*(?=\s|<|$|[^\s\w<>/=])(?![^<>]*>)|</{_NAME}(?=\s*(?:<|$))")
"""A tag whose last sign is missing: no ``>`` follows before the next tag."""


def single_slip(body: str, at: int, takes: Callable[[str], bool]) -> Problem | None:
    """Return the one slip that explains a broken text, with its repair, or None."""
    best: tuple[int, Slip] | None = None
    for rank, slip in enumerate(islice(_slips(body, at), tries_for(body))):
        after = Text(body).spliced([slip.cut]).body
        if not takes(after):
            continue
        score = _crooked(after) * 1000 + rank
        if best is None or score < best[0]:
            best = (score, slip)
        if score < 1000:
            break
    if best is None:
        return None
    slip = best[1]
    return problem(slip.code, (slip.start, max(slip.end, slip.start + 1)), slip.cause, slip.do, [slip.cut])


def _slips(body: str, at: int) -> Iterator[Slip]:
    lines = lines_around(body, at)
    for start, end in lines[:3]:
        yield from _in_tag(body, start, end)
    yield from _tags(body)


def _in_tag(body: str, start: int, end: int) -> Iterator[Slip]:
    """Slips inside a tag: its signs, its quotes, its brackets."""
    line = body[start:end]
    for found in re.finditer(rf"(?<=\s)({_NAME})(?=[\"'])", line):
        place = start + found.end()
        cause = f"The equals sign between {found[1]} and its value is missing."
        yield Slip("equals-missing", start + found.start(), place, cause, "Write =.", Splice(place, place, "="))
    for found in re.finditer(rf"={'[' + CURLY + chr(34) + ']'}([^{CURLY}\"<>]*)[{CURLY}\"]", line):
        cut = Splice(start + found.start() + 1, start + found.end(), f'"{found[1]}"')
        if body[cut.start : cut.end] != cut.new:
            yield Slip("quote-curly", cut.start, cut.end, "Curly quotes do not count.", "Write straight quotes.", cut)
    for found in re.finditer(r"=(?=[^\s\"'>=][^\s\"'>=]*[\"'])", line):
        place = start + found.end()
        quote = re.compile(r"[^\"']*([\"'])").match(line, found.end())
        sign = quote[1] if quote else '"'
        cause = "The quote before this value is missing."
        yield Slip("attribute-unquoted", place, place + 1, cause, "Write a quote.", Splice(place, place, sign))
    for found in re.finditer(r"=([\"'])[^\s\"'>]*(?=\s|/?>|\?>)", line):
        place = start + found.end()
        cause = "The quote after this value is missing."
        cut = Splice(place, place, found[1])
        yield Slip("attribute-quote", start + found.start() + 1, place, cause, "Write a quote where it ends.", cut)
    for found in _WITHOUT_END.finditer(line):
        place = start + len(line[: found.end()].rstrip())
        for new in (">", "/>"):
            cause = "This tag is not closed by a >."
            yield Slip("tag-broken", start + found.start(), place, cause, f"Write {new}.", Splice(place, place, new))
    for found in re.finditer(rf"<{_NAME}(?=[^\s\w<>/=:.-]|\w*(?=[A-Z]))", line):
        place = start + found.end()
        yield Slip(
            "tag-broken",
            start + found.start(),
            place,
            "This tag is not closed by a >.",
            "Write >.",
            Splice(place, place, ">"),
        )
    for found in re.finditer(rf"(?:^|(?<=[\s>]))(?=/?{_NAME}(?:\s+{_NAME}=[\"'][^<>]*)?\s*/?>)", line):
        place = start + found.end()
        cause = "The < that begins this tag is missing."
        blanks = len(line[found.end() :]) - len(line[found.end() :].lstrip())
        place += blanks
        yield Slip("tag-broken", place, place + 1, cause, "Write <.", Splice(place, place, "<"))
    for found in re.finditer(r"&(?!#?\w+;)", line):
        cut = Splice(start + found.start(), start + found.end(), "&amp;")
        yield Slip("ampersand-bare", cut.start, cut.end, "A bare & begins an entity.", "Write &amp;.", cut)


def _tags(body: str) -> Iterator[Slip]:
    """Slips in the pairing of tags: a slash lost, a closing tag lost."""
    tags = [tag for tag in _TAG.finditer(body) if tag["name"]]
    opened: dict[str, int] = {}
    for match in tags:
        opened[match["name"]] = opened.get(match["name"], 0) + (0 if match["alone"] else -1 if match["close"] else 1)
    for match in tags:
        if match["close"] and opened[match["name"]] < 0:
            yield from _half_opened(body, match)
    odd = [tag for tag in tags if opened[tag["name"]] > 0 and not tag["close"] and not tag["alone"]]
    for before, match in pairwise(tags):
        if match in odd and before["name"] == match["name"] and not before["close"] and not before["alone"]:
            place = match.start() + 1
            cause = f"This tag opens a second {match['name']} where the first should end: its slash is missing."
            yield Slip("tag-unclosed", *match.span(), cause, f"Write </{match['name']}>.", Splice(place, place, "/"))
    for match in reversed(odd):
        if re.fullmatch(rf"<{_NAME}>", match[0]):
            cause = f"This tag opens another {match['name']}, and it should close one: its slash is missing."
            place = match.start() + 1
            yield Slip("tag-unclosed", *match.span(), cause, f"Write </{match['name']}>.", Splice(place, place, "/"))
    for match in reversed(odd):
        yield from _closings(body, match, tags)


def _half_opened(body: str, closing: re.Match[str]) -> Iterator[Slip]:
    """Look for the tag that a closing one belongs to: without its first sign, or grown together with its text."""
    name = closing["name"]
    named = re.compile(rf"(?<![\w<:./-]){re.escape(name)}{_ATTRIBUTES}\s*>")
    for found in reversed(list(named.finditer(body, 0, closing.start()))):
        at = found.start()
        cause = "The < that begins this tag is missing."
        yield Slip("tag-broken", at, found.end(), cause, "Write <.", Splice(at, at, "<"))
    for found in reversed(list(re.compile(rf"<{re.escape(name)}(?=\w)").finditer(body, 0, closing.start()))):
        at = found.end()
        cause = f"The > that ends this tag is missing: {name} is closed further on."
        yield Slip("tag-broken", found.start(), at, cause, "Write >.", Splice(at, at, ">"))


def _closings(body: str, match: re.Match[str], tags: list[re.Match[str]]) -> Iterator[Slip]:
    name, cause = match["name"], f"The element {match['name']} is opened here and never closed."
    closing = f"</{name}>"
    ending = LINE_END.search(body, match.end())
    stop = ending.start() if ending else len(body)
    following = next((tag.start() for tag in tags if tag.start() >= match.end()), len(body))
    first = line_start(body, match.start())
    lead = re.match(r"[ \t]*", body[first:])
    left = re.compile(rf"^{lead[0] if lead else ''}$", re.MULTILINE).search(body, stop)
    if left and lead and lead[0]:  # a line with nothing left but the spaces before the tag
        yield Slip(
            "tag-unclosed",
            *match.span(),
            cause,
            f"Write {closing} where it ends.",
            Splice(left.end(), left.end(), closing),
        )
    places = [following] if following < stop else []
    places += [len(body[:stop].rstrip())]
    for at in places:
        yield Slip("tag-unclosed", *match.span(), cause, f"Write {closing} where it ends.", Splice(at, at, closing))
    if match[0].endswith(">"):
        at = match.end() - 1
        yield Slip(
            "tag-unclosed", *match.span(), cause, "Close it by />, if there is nothing in it.", Splice(at, at, "/")
        )
    newline = ending.group() if ending else "\n"
    for found in re.compile(r"^[ \t]*(?=<)", re.MULTILINE).finditer(body, stop):
        new = f"{lead[0] if lead else ''}{closing}{newline}"
        yield Slip(
            "tag-unclosed",
            *match.span(),
            cause,
            f"Write {closing} where it ends.",
            Splice(found.start(), found.start(), new),
        )
    for tag in tags:
        if tag.start() > match.end() and tag["close"]:
            at = tag.start()
            yield Slip("tag-unclosed", *match.span(), cause, f"Write {closing} where it ends.", Splice(at, at, closing))


def _crooked(body: str) -> int:
    marks = [
        (match.start(), "/" if match["close"] else "", match["name"])
        for match in _TAG.finditer(body)
        if match["name"] and not match["alone"]
    ]
    return crooked_lines(body, [(at, close == "") for at, close, _ in marks])


def tags_in_text(body: str) -> Iterator[Problem]:
    """Find texts that look like a tag whose first sign was lost: ``buoy id="4"/>``."""
    if body.count("<") == body.count(">"):
        return
    before = 0
    for tag in _TAG.finditer(body):
        yield from _tag_in_text(body, before, tag.start())
        before = tag.end()
    yield from _tag_in_text(body, before, len(body))


def _tag_in_text(body: str, start: int, end: int) -> Iterator[Problem]:
    if body.find(">", start, end) < 0:
        return
    pattern = rf"(?:\A|(?<=\s))(?:{_NAME}(?:\s+{_NAME}=(?:\"[^\"]*\"|'[^']*'))+\s*/?|/{_NAME})>"
    for found in re.finditer(pattern, body[start:end]):
        at = start + found.start()
        cause = "This looks like a tag, and it is read as text: the < that begins it is missing."
        yield problem(
            "tag-broken", (at, start + found.end()), cause, "Write <.", [Splice(at, at, "<")], level="warning"
        )
