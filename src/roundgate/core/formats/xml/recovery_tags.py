"""Opening tags of a broken XML text: names, attributes and their values, and what is wrong with them."""

from __future__ import annotations

import re
from typing import NamedTuple

from roundgate.core.findings import Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.shared.common_problems import (
    CURLY,
    HIDDEN,
    visible,
)
from roundgate.core.patterns import lazy
from roundgate.core.text import LINE_END, Splice

NAME = lazy(r"[A-Za-z_\u00c0-\U000effff][\w.\-:\u00b7]*")


_BARE = lazy(r"&(?:(?P<good>#[0-9]+;|#x[0-9a-fA-F]+;)|(?P<named>[A-Za-z_][\w.\-]*);)?")


_TAG_END = lazy(r"\s*/?>|\s*[\r\n]|<")
_KNOWN = ("amp", "lt", "gt", "quot", "apos")


_PAGE_NAMES = {
    "nbsp": "&#160;",
    "copy": "&#169;",
    "eacute": "&#233;",
    "auml": "&#228;",
    "ouml": "&#246;",
    "uuml": "&#252;",
}


SPACE = lazy(r"\s*")


class Open(NamedTuple):
    """One element that is open: its name and where its tag begins."""

    name: str
    at: int


class TagScan:
    """Goes through the tags of a broken text; what has been found, and which elements are open."""

    def __init__(self, body: str) -> None:
        self.body = body
        self.found: list[Problem] = []
        self.stack: list[Open] = []
        self.at = 0
        self.crossed: list[str] = []
        self.roots = 0
        self.has_types = "<!DOCTYPE" in body

    def report(
        self, code: str, span: tuple[int, int], cause: str, do: str, *repair: Splice, safe: bool = False
    ) -> None:
        """Note a problem."""
        self.found.append(problem(code, span, cause, do, repair, safe=safe))

    def controls(self, start: int, end: int) -> None:
        """Find characters that XML has no form for."""
        found = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff\ud800-\udfff]").search(self.body, start, end)
        if found:
            cause = f"A control character (U+{ord(found[0]):04X}) is here; XML has no form for it."
            self.report("control-character", found.span(), cause, "Delete it.", Splice(*found.span(), ""))

    def references(self, start: int, end: int) -> None:
        """Look at every ampersand."""
        for match in _BARE.finditer(self.body, start, end):
            if match["good"] and not re.match(r"#0*;|#x0*;", match["good"]):
                continue
            if not match["named"]:
                cause = "A bare & begins the name of a character, and none follows."
                self.report(
                    "ampersand-bare",
                    (match.start(), match.start() + 1),
                    cause,
                    "Write &amp;.",
                    Splice(match.start(), match.start() + 1, "&amp;"),
                    safe=True,
                )
            elif match["named"] not in _KNOWN and not self.has_types:
                meant = _PAGE_NAMES.get(match["named"], "")
                cause = f"&{match['named']}; is not a character name that XML knows."
                do = f"Write {meant}." if meant else "Write the character itself, or &amp; for a bare ampersand."
                cuts = [Splice(*match.span(), meant)] if meant else [Splice(match.start(), match.start() + 1, "&amp;")]
                self.report("entity-unknown", match.span(), cause, do, *cuts)

    def opening(self) -> None:
        """Read an opening tag with its attributes."""
        at = self.at
        name = NAME.match(self.body, at + 1)
        assert name is not None
        if not self.stack and self.roots:
            cause = "The outermost element is closed, and a second one begins."
            self.report("two-values", (at, name.end()), cause, "Put both into one element around them.")
            self.at = len(self.body)
            return
        self.roots += 0 if self.stack else 1
        self.at = name.end()
        seen: dict[str, int] = {}
        while True:
            blank = SPACE.match(self.body, self.at)
            gap = blank.end() > self.at if blank else False
            self.at = blank.end() if blank else self.at
            if self.body.startswith("/>", self.at):
                self.at += 2
                return
            if self.body.startswith(">", self.at):
                self.at += 1
                self.stack.append(Open(name[0], at))
                return
            if re.compile(r"/\s*(?:<|\Z)").match(self.body, self.at):
                self.at += 1
            if self.at >= len(self.body) or self.body[self.at].isspace() or self.body[self.at] == "<":
                self._broken(name[0], at)
                return
            if not self._attribute(seen, gap=gap):
                self.at += 1

    def _broken(self, name: str, at: int) -> None:
        end = at + len(self.body[at : self.at].rstrip())
        self.at = end
        cause = "This tag has no > at its end."
        self.report("tag-broken", (at, at + 1 + len(name)), cause, "Write > where it ends.", Splice(end, end, ">"))
        if self.body[end - 1] != "/":
            self.stack.append(Open(name, at))

    def _attribute(self, seen: dict[str, int], *, gap: bool) -> bool:
        """Read one attribute and say what is wrong with it; False where there is none."""
        name = NAME.match(self.body, self.at)
        if name is None:
            char = self.body[self.at]
            if HIDDEN.match(char):
                cut = Splice(self.at, self.at + 1, visible(char))
                self.report(
                    "hidden-between",
                    (self.at, self.at + 1),
                    "There is a character here that cannot be seen.",
                    "Delete it.",
                    cut,
                    safe=True,
                )
            elif char != "/" or not self.found:
                self.report(
                    "not-understood",
                    (self.at, self.at + 1),
                    f"'{char}' cannot be part of a tag.",
                    "Delete it.",
                    Splice(self.at, self.at + 1, ""),
                )
            return False
        if not gap:
            cause = "No space parts this attribute from the one before it."
            self.report(
                "attribute-joined",
                name.span(),
                cause,
                "Write a space before it.",
                Splice(name.start(), name.start(), " "),
                safe=True,
            )
        if name[0] in seen:
            cause = f"{name[0]} is in this tag already."
            self.report("attribute-twice", name.span(), cause, "Delete the one that should not count.")
        seen[name[0]] = name.start()
        colon = name[0].endswith(":") and self.body[name.end() : name.end() + 1] in ("'", '"')
        sign = re.compile(r"\s*([=:])\s*").match(self.body, name.end() - colon)
        if sign is None:
            self.at = name.end()
            cause = f"The attribute {name[0]} has no value."
            self.report(
                "attribute-value",
                name.span(),
                cause,
                'Write ="..." after it.',
                Splice(name.end(), name.end(), '="true"'),
            )
            return True
        if sign[1] == ":":
            cut = Splice(sign.start(1), sign.end(1), "=")
            self.report("separator-wrong", sign.span(1), "An equals sign belongs here.", "Write =.", cut, safe=True)
        self.at = sign.end()
        self._attribute_value()
        return True

    def _attribute_value(self) -> None:
        body, at = self.body, self.at
        quote = body[at : at + 1]
        if quote in ("'", '"') and quote:
            self._quoted(quote)
            return
        if quote and quote in CURLY:
            found = re.compile(rf"[{CURLY}]([^{CURLY}<>\"]*)[{CURLY}\"]").match(body, at)
            end = found.end() if found else at + 1
            cuts = [Splice(at, end, f'"{found[1]}"')] if found else []
            self.report(
                "quote-curly", (at, end), "Curly quotes do not count.", "Write straight quotes.", *cuts, safe=True
            )
            self.at = end
            return
        bare = re.compile(r"[^\s<>\"'/]*(?:/(?!>)[^\s<>\"'/]*)*").match(body, at)
        end = bare.end() if bare else at
        cause = "An attribute needs quotes around its value." if end > at else "The attribute's value is missing."
        tail = 1 if body[end : end + 1] in ("'", '"') and body[end : end + 1] else 0
        cuts = [Splice(at, end + tail, f'"{body[at:end]}"')]
        ending = LINE_END.search(body, end)
        rest = body[end + tail : ending.start() if ending else len(body)]
        is_clear = end > at and rest.count('"') % 2 == 0  # else the value goes on after the space
        self.report(
            "attribute-unquoted", (at, max(end, at + 1)), cause, "Write quotes around it.", *cuts, safe=is_clear
        )
        self.at = end + tail

    def _quoted(self, quote: str) -> None:
        """Read a value in quotes; a tag's end or another attribute before the closing one shows that it is missing."""
        body, at = self.body, self.at
        end = body.find(quote, at + 1)
        value = body[at + 1 : end] if end >= 0 else ""
        whole = (
            end >= 0
            and re.compile(r"\s*/?>|\s+[\w:.\-]+\s*=").match(body, end + 1)
            and not re.search(r"[\r\n>]", value)
        )
        wrong = end < 0 or ("<" in value and not whole) or re.search(r"\s[\w:.\-]+=$", value) is not None
        tag_end = _TAG_END.search(body, at + 1) if wrong else None  # only then: the tag may be very long
        if wrong and tag_end is not None:
            stop = tag_end.start()
            other = re.compile(r"\s+[\w:.\-]+\s*=\s*[\"']").search(body, at + 1, stop)
            stop = other.start() if other else stop
            cause = "This quote is opened and not closed before the tag ends."
            if end < 0 or end > stop:
                self.report(
                    "attribute-quote",
                    (at, stop),
                    cause,
                    "Write a quote where the value ends.",
                    Splice(stop, stop, quote),
                )
                self.at = stop
                return
        if end < 0:
            self.report("attribute-quote", (at, at + 1), "This quote is opened and never closed.", "Close it.")
            self.at = len(body)
            return
        self.references(at + 1, end)
        self.controls(at + 1, end)
        less = body.find("<", at + 1, end)
        if less >= 0:
            self.report(
                "less-bare",
                (less, less + 1),
                "A bare < may not be part of a value.",
                "Write &lt;.",
                Splice(less, less + 1, "&lt;"),
                safe=True,
            )
        self.at = end + 1

    def _line(self, index: int) -> int:
        return self.body.count("\n", 0, index) + 1
