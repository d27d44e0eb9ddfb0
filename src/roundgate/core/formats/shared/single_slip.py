"""One slip of the hand in a text of brackets: the one small change that makes it a text its reader takes.

Where the reader of broken texts does not come to one clear mistake, likely slips near the place are tried one after
another, the most likely first, each by a strict reader on the whole text. Of several that would do, the one that fits
the indentation is taken. What is found this way is proposed and never made without asking.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from itertools import islice
from typing import NamedTuple

from roundgate.core.findings import Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.shared.common_problems import CURLY
from roundgate.core.formats.shared.slips import Slip, crooked_lines, lines_around, tries_for
from roundgate.core.patterns import lazy
from roundgate.core.text import LINE_END, Splice, Text, line_start

_CLOSES = {"{": "}", "[": "]", "(": ")"}
_OPENS = {"}": "{", "]": "[", ")": "("}


class Language(NamedTuple):
    """What a language of brackets has: its sign between name and value, its comments, and its brackets."""

    separator: str
    wrong: str
    token: re.Pattern[str]
    """Texts and comments, and the brackets outside them as group ``sign``."""
    name: str
    """A pattern of a name, as it is written before the separator."""
    ends: str = ""
    """What ends a statement, where that is not the line's end."""


_TEXT = r"\"(?:[^\"\\\r\n]|\\.)*\""
_SINGLE = r"'(?:[^'\\\r\n]|\\.)*'"
JSON = Language(":", "=", re.compile(rf"{_TEXT}|(?P<sign>[][{{}}])"), r'"(?:[^"\\\r\n]|\\.)*"')
LUA = Language(
    "=",
    ":",
    re.compile(rf"--\[\[.*?\]\]|--[^\r\n]*|\[\[.*?\]\]|{_TEXT}|{_SINGLE}|(?P<sign>[][{{}}()])", re.DOTALL),
    r"[A-Za-z_]\w*|\[[^\]\r\n]*\]",
)
TOML = Language(
    "=",
    ":",
    re.compile(rf"#[^\r\n]*|\"\"\".*?\"\"\"|'''.*?'''|{_TEXT}|'[^'\r\n]*'|(?P<sign>[][{{}}])", re.DOTALL),
    r"[\w.-]+|\"[^\"\r\n]*\"",
)


STATEMENTS = Language(
    "=",
    ":",
    re.compile(r"//[^\r\n]*|/\*.*?\*/|\"(?:[^\"\r\n]|\"\")*\"|(?P<sign>[{}])", re.DOTALL),
    r"[A-Za-z_]\w*(?:\[\])?",
    ";",
)


class Search:
    """Looks for the one slip in a broken text."""

    def __init__(self, body: str, language: Language, failed: tuple[int, int], takes: Callable[[str], bool]) -> None:
        """``failed`` is the part that a strict reader cannot take; ``takes`` tells whether it takes a whole text."""
        self.body = body
        self.language = language
        self.takes = takes
        self.signs = [found for found in language.token.finditer(body) if found["sign"]]
        self.lines = lines_around(body, failed[0])

    def run(self, most: int | None = None) -> Problem | None:
        """Return the slip as a problem with its repair, or None. At most ``most`` are tried."""
        tries = tries_for(self.body) if most is None else min(most, tries_for(self.body))
        best: tuple[int, Slip] | None = None
        for rank, slip in enumerate(islice(self._slips(), tries)):
            after = Text(self.body).spliced([slip.cut]).body
            if not self.takes(after):
                continue
            if not slip.code.startswith("bracket"):
                best = best or (rank, slip)
                break
            crooked = self._crooked(after) * 1000 + rank
            if best is None or crooked < best[0]:
                best = (crooked, slip)
            if crooked < 1000:
                break
        if best is None:
            return None
        slip = best[1]
        return problem(slip.code, (slip.start, max(slip.end, slip.start + 1)), slip.cause, slip.do, [slip.cut])

    def _slips(self) -> Iterator[Slip]:
        yield from self._strays(self.lines[:4])
        for span in self.lines[:5]:
            yield from self._curly(*span)
            yield from self._quotes(*span)
        for start, end in self.lines[:12] if self.language.ends else ():
            yield from self._semicolons(self.body[start:end], start)
            yield from self._list_signs(self.body[start:end], start)
        for span in self.lines[:4]:
            yield from self._separators(*span)
            yield from self._commas(*span)
        yield from self._brackets()
        for span in self.lines[5:12]:
            yield from self._quotes(*span)

    # --- words and separators ---

    def _strays(self, spans: Sequence[tuple[int, int]]) -> Iterator[Slip]:
        for start, end in spans:
            word = re.compile(r"[ \t]*([A-Za-z]\w*)[ \t]*").fullmatch(self.body, start, end)
            if word and word[1] not in (
                "end",
                "else",
                "do",
                "then",
                "repeat",
                "return",
                "true",
                "false",
                "null",
                "nil",
            ):
                ending = LINE_END.match(self.body, end)
                cut = Splice(start, ending.end() if ending else end, "")
                cause = f"The word '{word[1]}' is by itself on this line and belongs to nothing."
                yield Slip("word-stray", *word.span(1), cause, "Delete the line, or complete it.", cut)

    def _separators(self, start: int, end: int) -> Iterator[Slip]:
        sign, wrong, line = self.language.separator, self.language.wrong, self.body[start:end]
        spaced = ": " if sign == ":" else " = "
        for found in re.finditer(
            rf"(?:^|(?<=[\s{{,]))(?:{self.language.name})(?P<gap>[ \t]*{wrong}=?[ \t]*)(?=\S)", line
        ):
            cut = Splice(start + found.start("gap"), start + found.end("gap"), spaced)
            cause = f"There is a '{found['gap'].strip()}' between this name and its value, where '{sign}' belongs."
            yield Slip("separator-wrong", cut.start, cut.end, cause, f"Write {sign}.", cut)
        code = "colon-missing" if sign == ":" else "equals-missing"
        what = "colon" if sign == ":" else "equals sign"
        for found in re.finditer(rf"(?:^|(?<=[\s{{,]))(?:{self.language.name})(?P<gap>[ \t]*)(?=[\"'{{\[\w-])", line):
            if found["gap"] or self.language is JSON or (self.language.ends and line[found.end()] in '"{'):
                cut = Splice(start + found.start("gap"), start + found.end("gap"), spaced)
                cause = f"The {what} between this name and its value is missing."
                yield Slip(code, start + found.start(), cut.start, cause, f"Write {sign} between them.", cut)

    def _commas(self, start: int, end: int) -> Iterator[Slip]:
        line = self.body[start:end]
        for found in re.finditer(r",[ \t]*(,)", line):
            cut = Splice(start + found.start(1), start + found.end(1), "")
            yield Slip("comma-extra", cut.start, cut.end, "There is nothing between two commas.", "Delete one.", cut)
        for found in re.finditer(r"(?<=[\w\"'}\])])([ \t]+)(?=[\"'{\[\w-])", line):
            at = start + found.start()
            yield self._comma(at)
        for found in re.finditer(r"(?<=[\w\"}])(?=[{\"])", line) if self.language.ends else ():
            yield self._comma(start + found.start())
        tail = re.search(r"[\w\"'}\])](?=[ \t]*(?:--.*|#.*|//.*)?$)", line)
        if tail:
            yield self._comma(start + tail.end())

    def _list_signs(self, line: str, start: int) -> Iterator[Slip]:
        """``name[ = {``: the sign of a list that has lost its second half."""
        for found in re.finditer(r"(?<=\w)(?:\[(?=[ \t]*=)|\](?=[ \t]*=))", line):
            at = start + found.start()
            if line[found.start() - 1 : found.end()].endswith("[]"):
                continue
            lost, place = ("]", at + 1) if found[0] == "[" else ("[", at)
            cause = "A list's name ends with both brackets, []."
            yield Slip("bracket-unclosed", at, at + 1, cause, f"Write {lost}.", Splice(place, place, lost))

    def _semicolons(self, line: str, start: int) -> Iterator[Slip]:
        tail = re.search(r"[\w\"'}](?=[ \t]*(?://.*|/\*.*)?$)", line)
        if tail:
            at = start + tail.end()
            cause = "A semicolon is missing here, where the statement ends."
            yield Slip("semicolon-missing", at, at + 1, cause, "Write a semicolon.", Splice(at, at, ";"))

    @staticmethod
    def _comma(at: int) -> Slip:
        cause = "A comma is missing here, after the item that ends."
        return Slip("comma-missing", at, at + 1, cause, "Write a comma.", Splice(at, at, ","))

    # --- quotes ---

    def _curly(self, start: int, end: int) -> Iterator[Slip]:
        pattern = re.compile(rf"[{CURLY}]([^{CURLY}\"\r\n]*)[{CURLY}\"]|\"([^{CURLY}\"\r\n]*)[{CURLY}]")
        for found in pattern.finditer(self.body, start, end):
            cut = Splice(*found.span(), f'"{found[1] or found[2] or ""}"')
            cause = "Curly quotes do not count; only straight ones do."
            yield Slip("quote-curly", cut.start, cut.end, cause, "Write straight quotes.", cut)

    def _quotes(self, start: int, end: int) -> Iterator[Slip]:
        line = self.body[start:end]
        if self.language.ends:
            line = line.replace('""', "  ")  # a quote inside a text is written twice
        quotes = [found.start() for found in re.finditer(r"(?<!\\)\"", line)]
        if len(quotes) % 2 == 0:
            return
        name_end = r"(?=[ \t]*:)" if self.language is JSON else r"(?!)"
        closers = r"[ \t]*(?:[\]})]+[ \t]*[,;]?[ \t]*|[,;][ \t]*)?(?:--.*|#.*|//.*)?$"
        next_item = rf"[ \t]*,[ \t]*(?:(?:{self.language.name})[ \t]*[=:]|[\"{{\[\d-])"
        goes_on = r"|(?=[ \t]+(?:[{(]|(?:then|do|and|or)\b))" if self.language is LUA else ""
        follows = rf"(?={closers})|(?={next_item})"
        first = next((at for number, at in enumerate(quotes) if self._is_closer(line, at) and number % 2 == 0), -1)
        if first >= 0:
            yield from self._unopened_text(line, start, first)
        opening = [at for at in quotes if re.match(r"[\w./!@#$%<\\]", line[at + 1 : at + 2])]
        for at in reversed(opening):
            for found in re.compile(
                rf"(?<=[^\s\"]){name_end}|(?<=[^\s\"])(?:{follows}|(?=[ \t]*[\]}})]){goes_on})"
            ).finditer(line, at + 1):
                if '"' in line[at + 1 : found.start()]:
                    break
                place = start + found.start()
                cause = "This quote is opened and not closed."
                yield Slip(
                    "quote-unclosed",
                    start + at,
                    place,
                    cause,
                    "Write a quote where the text ends.",
                    Splice(place, place, '"'),
                )
        for at in quotes:
            yield from self._unopened_text(line, start, at)

    @staticmethod
    def _is_closer(line: str, at: int) -> bool:
        """Return whether a quote looks as if a text ended with it."""
        before, after = line[at - 1 : at], line[at + 1 :]
        return (
            bool(before.strip()) and before not in "=:,[{(" and re.match(r"[ \t]*(?:$|[,\]}):=;#-])", after) is not None
        )

    def _unopened_text(self, line: str, start: int, at: int) -> Iterator[Slip]:
        if not self._is_closer(line, at):
            return
        begun = list(re.finditer(r"(?:^|[\[{(,=:])[ \t]*(?=[^\s\"=:,\[\]{}()])", line[:at]))
        for match in reversed(begun):
            if '"' in line[match.end() : at]:
                return
            place = start + match.end()
            cause = "This text ends with a quote and does not begin with one."
            cut = Splice(place, place, '"')
            yield Slip("quote-unopened", place, start + at + 1, cause, "Write a quote where the text begins.", cut)

    # --- brackets ---

    def _brackets(self) -> Iterator[Slip]:
        for opening, closing in _CLOSES.items():
            opened = sum(1 for sign in self.signs if sign["sign"] == opening)
            closed = sum(1 for sign in self.signs if sign["sign"] == closing)
            if opened > closed:
                yield from self._unclosed(opening, closing)
            elif closed > opened:
                yield from self._unopened(opening, closing)
        yield from self._of_wrong_kind()

    def _unclosed(self, opening: str, closing: str) -> Iterator[Slip]:
        partners = [match for match in self.signs if match["sign"] == opening]
        for start, end in self.lines:
            line = self.body[start:end]
            stripped = re.sub(r"[ \t]*(?:--.*|#.*)?$", "", line) if self.language is not JSON else line.rstrip()
            blanks = re.match(r"[ \t]*", line)
            goes_on = r"|(?=[ \t]*=)|(?=[ \t]+(?:return|then|do)\b)" if self.language is LUA else ""
            for found in re.finditer(
                rf"(?<=[\w\"'}}\])\[{{(])(?=[ \t]*(?:[,;\]}})]|$){goes_on})|(?<=[,{{\[(] )(?=$)", stripped
            ):
                at = start + found.end()
                opener = next((partner for partner in reversed(partners) if partner.start() < at), None)
                if opener is not None:
                    yield self._closer(opener.start(), at, closing, closing)
            if blanks and stripped and start:
                opener = next((partner for partner in reversed(partners) if partner.start() < start), None)
                if opener is not None:
                    newline = LINE_END.search(self.body)
                    lead = self._indent(opener.start())
                    for sign in dict.fromkeys((closing, closing + self.language.ends)):
                        new = f"{lead}{sign}{newline.group() if newline else ''}"
                        yield self._closer(opener.start(), start, sign, new)

    def _closer(self, opener: int, at: int, closing: str, new: str) -> Slip:
        line = self.body.count("\n", 0, at) + 1
        cause = f"This {self.body[opener]} is never closed."
        return Slip(
            "bracket-unclosed",
            opener,
            opener + 1,
            cause,
            f"Write {closing} in line {line}, where it should end.",
            Splice(at, at, new),
        )

    def _unopened(self, opening: str, closing: str) -> Iterator[Slip]:
        for start, end in self.lines:
            line = self.body[start:end]
            places = re.finditer(r"(?<=[=:])[ \t]*|(?<=[\[{(,])[ \t]*|^[ \t]*", line)
            for found in sorted(
                places, key=lambda place: (line[place.start() - 1 : place.start()] not in ("=", ":"), -place.start())
            ):
                at = start + found.end()
                ending = " " if at == end or self.body[at] in "\r\n" else ""
                lead = " " if ending and self.body[at - 1 : at] in (":", "=") else ""
                cause = f"A {opening} is missing here: a {closing} further down has no partner."
                yield Slip("bracket-unopened", at, at + 1, cause, f"Write {opening}.", Splice(at, at, lead + opening))
            for found in re.finditer(re.escape(closing), line):
                at = start + found.start()
                cause = f"This {closing} closes nothing."
                yield Slip("bracket-extra", at, at + 1, cause, "Delete it.", Splice(at, at + 1, ""))

    def _opener_order(self, at: int) -> tuple[bool, int]:
        """Sort the places for an opening bracket: after a sign first, then from the right."""
        return self.body[:at].rstrip(" \t")[-1:] not in ("=", ":"), -at

    def _of_wrong_kind(self) -> Iterator[Slip]:
        stack: list[re.Match[str]] = []
        for sign in self.signs:
            if sign["sign"] in _CLOSES:
                stack.append(sign)
            elif stack:
                opener = stack.pop()
                right = _CLOSES[opener["sign"]]
                if right != sign["sign"]:
                    cause = f"This {sign['sign']} closes what was opened with {opener['sign']}; it should be {right}."
                    yield Slip(
                        "bracket-wrong", *sign.span(), cause, f"Write {right} here.", Splice(*sign.span(), right)
                    )

    def _indent(self, at: int) -> str:
        start = line_start(self.body, at)
        blanks = re.compile(r"[ \t]*").match(self.body, start)
        return blanks.group() if blanks else ""

    def _crooked(self, body: str) -> int:
        signs = (match for match in self.language.token.finditer(body) if match["sign"])
        return crooked_lines(body, [(sign.start(), sign["sign"] in _CLOSES) for sign in signs])


def with_single_slip(
    body: str,
    found: list[Problem],
    language: Language,
    first_error: Callable[[str], tuple[int, int] | None],
    tries: int | None = None,
) -> list[Problem]:
    """Return what a reader of broken texts found, or the one slip that explains the text where that is clearer."""
    errors = [mistake for mistake in found if mistake.level == "error"]
    if len(errors) == 1 and errors[0].repair and not _is_doubtful(body, errors[0]):
        try:
            if first_error(Text(body).spliced(errors[0].repair).body) is None:
                return found
        except ValueError:
            pass
    failed = first_error(body)
    if failed is None or are_several(body, errors, first_error):
        return found
    slip = Search(body, language, failed, lambda text: first_error(text) is None).run(tries)
    return found if slip is None else [*(mistake for mistake in found if mistake.level != "error"), slip]


def are_several(body: str, errors: Sequence[Problem], first_error: Callable[[str], tuple[int, int] | None]) -> bool:
    """Return whether several mistakes of different kinds explain a text whole: all their repairs make a right one."""
    codes = {error.code for error in errors}
    if len(codes) < 2 or not all(error.repair for error in errors):
        return False
    if errors[0].code.startswith("quote-") and all(code.startswith(("quote-", "bracket-")) for code in codes):
        return False  # a text without its end swallows the brackets after it
    try:
        mended = Text(body).spliced(cut for error in errors for cut in error.repair)
    except ValueError:
        return False
    return first_error(mended.body) is None


_ASSIGNS = lazy(r"[ \t]*(?:[A-Za-z_]\w*[ \t]+(?:\"[^\"\r\n]*\"[ \t]+)?)?[A-Za-z_][\w.]*[ \t]*=[ \t]*[^\s{\[(]")
"""A line that gives something a value other than a bracket: a closing bracket at its end has lost its partner there."""


def _is_doubtful(body: str, mistake: Problem) -> bool:
    """Return whether a mistake may well be another: a comma after a lone word, a quote that looks like a text's end."""
    start = line_start(body, mistake.start)
    if mistake.code == "quote-unclosed":
        ending = LINE_END.search(body, mistake.start)
        rest = body[mistake.start + 1 : ending.start() if ending else len(body)]
        return body[mistake.start - 1 : mistake.start].isalnum() or re.search(r"[\"{(]", rest) is not None
    if mistake.code == "bracket-extra":
        return _ASSIGNS.match(body, start, mistake.start) is not None
    if mistake.code != "comma-missing":
        return False
    return re.search(r"(?:^|[{,])[ \t]*[A-Za-z_]\w*\Z", body[start : mistake.start]) is not None
