"""What is looked for in every kind of file: marks of a merge, characters that cannot be seen, an empty file."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from collections.abc import Set as AbstractSet

from msgspec.structs import replace

from roundgate.core.findings import Level, Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.patterns import lazy
from roundgate.core.text import LARGE, LINE_END, Splice, Text, line_start

UNSEEN = "\u00a0\u2000-\u200f\u2028-\u202f\u2060\u3000\ufeff"
"""The characters that cannot be seen, as they stand in a pattern's square brackets."""


HIDDEN = lazy(f"[{UNSEEN}]")
DASHES = "\u2010\u2011\u2012\u2013\u2014\u2015\u2212"
CURLY = "\u201c\u201d\u201e\u201f\u2018\u2019\u00ab\u00bb"
MOST = 5
"""So many mistakes of one file are shown; a person fixes them and looks again."""
BLANKS = " \t\r\n\f\ufeff"
"""What a file may consist of and still be empty."""

_NOT_ASCII = lazy(r"[^\x00-\x7f]")
_MERGE = lazy(r"^(?:<{7}(?= |\r?$)|={7}(?=\r?$)|>{7}(?= |\r?$)|\|{7}(?= |\r?$))[^\r\n]*", re.MULTILINE)


def merge_markers(body: str) -> Iterator[Problem]:
    """Find the marks that version control leaves where two versions do not fit together."""
    if "<<<<<<<" not in body and ">>>>>>>" not in body:
        return
    for mark in _MERGE.finditer(body):
        cause = "A mark left over from merging two versions of the file."
        yield problem("merge-marker", mark.span(), cause, "Keep one version and delete the marks.")


def empty(body: str, level: Level = "warning") -> list[Problem]:
    """Report that there is nothing in a file."""
    if body.strip(BLANKS):
        return []
    do = "Start the server once, or restore the file."
    return [problem("file-empty", (0, 0), "The file is empty.", do, level=level)]


def blank_before(start: int, end: int) -> Problem:
    """Report that a key has spaces before it, in a file whose server does not read such a line."""
    cause = "There are spaces before the key, and the server does not read such a line."
    return problem("key-indented", (start, end), cause, "Begin the line with the key.", [Splice(start, end, "")])


def pointless(body: str) -> list[Problem]:
    """Describe why a text needs no further check: it is empty, or has unresolved merge markers."""
    return empty(body) or list(merge_markers(body))


def not_utf8(text: Text, level: Level = "warning", *, utf_16: bool = True) -> Iterator[Problem]:
    """Report that a file is written in an encoding that its format does not have; ``utf_16``: it may be that one."""
    if text.encoding.startswith("utf-16") and not utf_16:
        cause = "The file is written in UTF-16; this format has UTF-8 only."
        yield problem("encoding-other", (0, 1), cause, "Save the file as UTF-8.", level=level)
    if text.encoding not in ("cp1252", "latin-1"):
        return
    odd = _NOT_ASCII.search(text.body)
    if odd:
        cause = "The file is not written in UTF-8 from here on, so this character comes out wrong."
        yield problem("encoding-other", odd.span(), cause, "Save the file as UTF-8.", level=level)


def hidden_characters(body: str, start: int = 0, end: int | None = None) -> Iterator[Problem]:
    """Find characters that cannot be seen; the repair makes a space of a wide one and nothing of a narrow one."""
    if body.isascii():
        return
    for match in HIDDEN.finditer(body, start, len(body) if end is None else end):
        if joins_letters(body, match.start()):
            continue
        cause = f"A character that cannot be seen (U+{ord(match[0]):04X}) is here and counts."
        repair = [Splice(match.start(), match.end(), visible(match[0]))]
        yield problem("hidden-character", match.span(), cause, "Delete it and type a plain space.", repair)


def joins_letters(body: str, at: int) -> bool:
    """Return whether a character that cannot be seen belongs where it is: a joiner in an emoji or between letters."""
    if body[at] not in "\u200c\u200d":
        return False
    before, after = body[at - 1 : at], body[at + 1 : at + 2]
    return bool(before and after) and not before.isascii() and not after.isascii()


def visible(char: str) -> str:
    """Return what a person meant by a character that cannot be seen: a space, or nothing."""
    return "" if char in "\u200b\u200c\u200d\u200e\u200f\u2060\ufeff" else " "


def handful(found: Sequence[Problem]) -> list[Problem]:
    """Return the problems in the order of the file, and no more errors than a person can take in at once."""
    ordered = sorted(found, key=lambda mistake: (mistake.start, mistake.end))
    errors = [mistake for mistake in ordered if mistake.level == "error"]
    if len(errors) <= MOST:
        return ordered
    last = errors[MOST - 1]
    kept = [
        mistake
        for mistake in ordered
        if mistake.start <= last.start and (mistake.level != "error" or mistake in errors[:MOST])
    ]
    count = len(errors) - MOST
    more_words = "1 more mistake is" if count == 1 else f"{count} more mistakes are"
    cause = f"{more_words} known further down; what is further down may only follow from these."
    more = problem("more-problems", (errors[MOST].start, errors[MOST].end), cause, "Fix these first, then check again.")
    return [*kept, more]


def is_plainly_right(body: str, suspicious: Sequence[re.Pattern[str]]) -> bool:
    """Return whether a large text has no trace of any mistake, by a few passes at C speed.

    False only means that it is worth a closer look.
    """
    return len(body) >= LARGE and body.isascii() and not any(suspiciou.search(body) for suspiciou in suspicious)


def plain_keys(body: str, line: re.Pattern[str]) -> list[str] | None:
    """Return keys of a text of plainly right lines, empty for a comment, in one pass at C speed; None for any other.

    ``line`` matches a line end and the plain line after it, with the key as its group. None only means that a
    closer look is needed.
    """
    lines = f"\n{body}" if body.endswith("\n") else f"\n{body}\n"
    keys: list[str] = line.findall(lines)
    return keys if len(keys) == lines.count("\n") - 1 else None


def stand_once(keys: Sequence[str], but: AbstractSet[str] = frozenset()) -> bool:
    """Return whether no key stands there twice, empty ones left aside, and none of ``but`` is among them."""
    several = set(keys)
    several.discard("")
    return len(several) == len(keys) - keys.count("") and several.isdisjoint(but)


_SINGLE = r"[-+]?[0-9][0-9.,]*[A-Za-z%]{0,2}|true|false|yes|no|on|off|\"[^\"]*\"|'[^']*'"
_NOTED = lazy(rf"(?P<said>{_SINGLE})(?P<note>[ \t]+(?:#|;|//)[ \t]*\S.*)", re.IGNORECASE)


def comment_in_value(
    body: str, start: int, end: int, marks: str = "#", level: Level | None = None
) -> Iterator[Problem]:
    """Find a comment after a number, a true or false, or a quoted text that the format reads as part of the value.

    The repair gives it a line of its own above.
    """
    noted = _NOTED.fullmatch(body, start, end)
    if noted is None:
        return
    first = line_start(body, start)
    note = noted["note"].lstrip(" \t#;/")
    newline = "\r\n" if "\r\n" in body else "\n"
    blanks = body[first:start]
    lead = blanks[: len(blanks) - len(blanks.lstrip(" \t"))]
    cuts = [Splice(first, first, f"{lead}{marks} {note}{newline}"), Splice(*noted.span("note"), "")]
    span = (noted.start("note") + len(noted["note"]) - len(noted["note"].lstrip()), end)
    cause = f"Here this is not a comment: the server reads it as part of the value, after {noted['said']}."
    yield problem("comment-in-value", span, cause, "Put it on a separate line, above.", cuts, level=level)


def may_hold_comments(body: str) -> bool:
    """Return whether a comment may stand after a value anywhere, by a quick look."""
    return any(mark in body and (f" {mark}" in body or f"\t{mark}" in body) for mark in ("#", ";", "//"))


def bare_quotes(raw: str, quote: str = '"') -> list[int]:
    """Return where quotes stand that no backslash makes a letter; one after two backslashes does count."""
    return [match.end() - 1 for match in re.finditer(rf"(?<!\\)(?:\\\\)*{quote}", raw)]


def with_place(found: Sequence[Problem], at: int, body: str) -> list[Problem]:
    """Note where a reader gives up on the mistake that it trips over, where that is another line than the mistake's."""
    before = [mistake for mistake in found if mistake.level == "error" and mistake.start <= at]
    first = before[-1] if before else next((mistake for mistake in found if mistake.level == "error"), None)
    if first is None:
        return list(found)
    low, high = sorted((first.start, min(at, len(body))))
    if not LINE_END.search(body, low, high):
        return list(found)
    return [replace(mistake, gave_up=at) if mistake is first else mistake for mistake in found]


def flood(found: Sequence[Problem], most: int = 20) -> list[Problem]:
    """Keep the first few of each warning or note: the hundredth of a kind tells nothing new."""
    seen: dict[str, int] = {}
    kept = []
    for mistake in found:
        seen[mistake.code] = seen.get(mistake.code, 0) + 1
        if mistake.level == "error" or seen[mistake.code] <= most:
            kept.append(mistake)
    return kept
