"""What people get wrong in XML, found by a scan of the tags that does not give up. It runs only where expat does."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, NamedTuple

from roundgate.core.findings import Problem
from roundgate.core.formats.anywhere import (
    BLANKS,
    CURLY,
    HIDDEN,
    empty,
    flood,
    handful,
    hidden_characters,
    merge_markers,
    visible,
    with_place,
)
from roundgate.core.formats.catalogue import problem
from roundgate.core.text import Splice

if TYPE_CHECKING:
    from roundgate.core.formats.xml import XmlDocument

_DECLARED = re.compile(r"<\?xml[^>]*?encoding\s*=\s*[\"']([\w.\-]+)[\"']")
_NAME = re.compile(r"[A-Za-z_\u00c0-\U000effff][\w.\-:\u00b7]*")
_BARE = re.compile(r"&(?:(?P<good>#[0-9]+;|#x[0-9a-fA-F]+;)|(?P<named>[A-Za-z_][\w.\-]*);)?")
_KNOWN = ("amp", "lt", "gt", "quot", "apos")
_PAGE_NAMES = {
    "nbsp": "&#160;",
    "copy": "&#169;",
    "eacute": "&#233;",
    "auml": "&#228;",
    "ouml": "&#246;",
    "uuml": "&#252;",
}
_SPACE = re.compile(r"\s*")


class Open(NamedTuple):
    """One element that is open: its name and where its tag begins."""

    name: str
    at: int


def problems_of(document: XmlDocument) -> list[Problem]:
    """Find every problem of an XML text, in the order of the file."""
    body = document.text.body
    if not body.strip(BLANKS):
        return empty(body, "error")
    if document.error is None:
        return flood([*_encoding(document), *hidden_characters(body)])
    marks = list(merge_markers(body))
    if marks:
        return marks
    scan = _Scan(body)
    scan.run()
    found = handful(scan.found)
    if not any(one.level == "error" for one in found):
        at = min(document.error.at, max(len(body) - 1, 0))
        cause = "The reader of XML cannot go on here."
        return [*found, problem("not-understood", (at, at + 1), cause, "Compare with a line that works.")]
    return with_place(found, document.error.at, body)


def _encoding(document: XmlDocument) -> list[Problem]:
    said = _DECLARED.match(document.text.body)
    if not said:
        return []
    name = said[1].lower().replace("_", "-")
    mine = document.text.encoding
    fits = {"utf-8": ("utf-8",), "utf-16-le": ("utf-16", "utf-16le"), "utf-16-be": ("utf-16", "utf-16be")}
    singles = ("iso-8859-1", "latin-1", "windows-1252", "cp1252", "iso-8859-15")
    if name in fits.get(mine, singles) or (mine == "utf-8" and document.text.body.isascii()):
        return []
    cause = f"The first line says {said[1]}, and the file is written in {mine}."
    return [
        problem("encoding-differs", said.span(1), cause, f"Write {mine.upper()} there, or save the file as {said[1]}.")
    ]


class _Scan:
    """Goes through a broken text once and says what does not fit."""

    def __init__(self, body: str) -> None:
        self.body = body
        self.found: list[Problem] = []
        self.stack: list[Open] = []
        self.at = 0
        self.crossed: list[str] = []
        self.roots = 0
        self.has_types = "<!DOCTYPE" in body

    def say(self, code: str, span: tuple[int, int], cause: str, do: str, *repair: Splice, safe: bool = False) -> None:
        self.found.append(problem(code, span, cause, do, repair, safe=safe))

    def run(self) -> None:
        """Read to the end, or until so much is wrong that going on tells nothing."""
        while self.at < len(self.body) and len(self.found) < 30:
            begun = self.at
            mark = self.body.find("<", self.at)
            mark = mark if mark >= 0 else len(self.body)
            self.text(self.at, mark)
            self.at = mark
            if mark < len(self.body):
                self.markup()
            self.at = max(self.at, begun + 1)
        if len(self.found) < 30:
            self.finish()

    # --- texts ---

    def text(self, start: int, end: int) -> None:
        """Look at what stands between two tags."""
        self.references(start, end)
        self.controls(start, end)
        said = self.body[start:end]
        if said.strip() and not self.stack:
            begun = start + len(said) - len(said.lstrip())
            if HIDDEN.fullmatch(said.strip()):
                cut = Splice(begun, start + len(said.rstrip()), visible(said.strip()[0]))
                self.say(
                    "hidden-between",
                    (begun, begun + 1),
                    "A character that cannot be seen stands here.",
                    "Delete it.",
                    cut,
                    safe=True,
                )
                return
            cause = "This stands outside the outermost element."
            self.say("text-after-end", (begun, start + len(said.rstrip())), cause, "Delete it, or put it inside.")
        end_mark = said.find("]]>")
        if end_mark >= 0:
            at = start + end_mark
            self.say(
                "text-after-end",
                (at, at + 3),
                "]]> may not stand in a text.",
                "Write ]]&gt;.",
                Splice(at, at + 3, "]]&gt;"),
            )

    def controls(self, start: int, end: int) -> None:
        """Find characters that XML has no form for."""
        found = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff\ud800-\udfff]").search(self.body, start, end)
        if found:
            cause = f"A control character (U+{ord(found[0]):04X}) stands here; XML has no form for it."
            self.say("control-character", found.span(), cause, "Delete it.", Splice(*found.span(), ""))

    def references(self, start: int, end: int) -> None:
        """Look at every ampersand."""
        for one in _BARE.finditer(self.body, start, end):
            if one["good"] and not re.match(r"#0*;|#x0*;", one["good"]):
                continue
            if not one["named"]:
                cause = "A bare & begins the name of a character, and none follows."
                self.say(
                    "ampersand-bare",
                    (one.start(), one.start() + 1),
                    cause,
                    "Write &amp;.",
                    Splice(one.start(), one.start() + 1, "&amp;"),
                    safe=True,
                )
            elif one["named"] not in _KNOWN and not self.has_types:
                meant = _PAGE_NAMES.get(one["named"], "")
                cause = f"&{one['named']}; is no character name that XML knows."
                do = f"Write {meant}." if meant else "Write the character itself, or &amp; for a bare ampersand."
                cuts = [Splice(*one.span(), meant)] if meant else [Splice(one.start(), one.start() + 1, "&amp;")]
                self.say("entity-unknown", one.span(), cause, do, *cuts)

    # --- tags ---

    def markup(self) -> None:
        """Read one tag, comment or declaration."""
        body, at = self.body, self.at
        if body.startswith("<!--", at):
            self.comment()
        elif body.startswith("<![CDATA[", at):
            end = body.find("]]>", at)
            if end < 0:
                self.say(
                    "text-unclosed", (at, at + 9), "This CDATA part is never closed.", "Write ]]> where it should end."
                )
                self.stack.clear()
                self.roots = 1
            self.at = end + 3 if end >= 0 else len(body)
        elif body.startswith("<?", at):
            self.instruction()
        elif body.startswith("<!", at):
            self.types()
        elif body.startswith("</", at):
            self.closing()
        elif _NAME.match(body, at + 1):
            self.opening()
        else:
            cause = "A bare < begins a tag, and none follows."
            self.say("less-bare", (at, at + 1), cause, "Write &lt;.", Splice(at, at + 1, "&lt;"), safe=True)
            self.at = at + 1

    def comment(self) -> None:
        """Read a comment."""
        at = self.at
        end = self.body.find("-->", at + 4)
        if end < 0:
            cause = "This comment is opened and never closed, so it swallows the rest of the file."
            self.say("comment-unclosed", (at, at + 4), cause, "Write --> where it should end.")
            self.at = len(self.body)
            self.stack.clear()
            self.roots = 1
            return
        dashes = self.body.find("--", at + 4, end)
        dashes = dashes if dashes >= 0 else (end - 1 if self.body[end - 1] == "-" and end - 1 >= at + 4 else -1)
        if dashes >= 0:
            nested = self.body.find("<!--", at + 4, end)
            cause = "Two dashes stand inside a comment." if nested < 0 else "A second comment begins inside this one."
            run = re.compile(r"-+").match(self.body, dashes)
            length = len(run[0]) if run else 2
            length = min(length, end - dashes)
            cut = Splice(dashes, dashes + length, "-" if dashes + length < end else "")
            self.say("comment-dashes", (dashes, dashes + 2), cause, "Write one dash.", *([] if nested >= 0 else [cut]))
        self.controls(at, end)
        self.at = end + 3

    def instruction(self) -> None:
        """Read a declaration or an instruction."""
        at = self.at
        if re.compile(r"<\?xml[\s?]").match(self.body, at) and at > 0:
            before = self.body[:at]
            cuts = [Splice(0, at, "")] if not before.strip("\ufeff \t\r\n") else []
            cause = "The declaration must be the very first thing in the file, and something stands before it."
            self.say("declaration-late", (at, at + 5), cause, "Delete what stands before it.", *cuts, safe=True)
        end = self.body.find("?>", at)
        if end < 0:
            self.say("tag-broken", (at, at + 2), "This declaration is never closed.", "Write ?> where it should end.")
        self.at = end + 2 if end >= 0 else len(self.body)

    def types(self) -> None:
        """Skip a document type."""
        whole = re.compile(
            r"<![A-Z]+(?:\"[^\"]*\"|'[^']*'|\[(?:<!--.*?-->|\"[^\"]*\"|'[^']*'|[^\]\"'])*\]|[^>\[\"'])*>", re.S
        ).match(self.body, self.at)
        if whole is None:
            self.say(
                "tag-broken",
                (self.at, self.at + 2),
                "This declaration is never closed.",
                "Write > where it should end.",
            )
        self.at = whole.end() if whole else len(self.body)

    def closing(self) -> None:
        """Read a closing tag and settle what it closes."""
        at = self.at
        name = _NAME.match(self.body, at + 2)
        end = name.end() if name else at + 2
        tail = _SPACE.match(self.body, end)
        stop = tail.end() if tail else end
        if self.body[stop : stop + 1] != ">":
            cause = "This closing tag has no > at its end."
            self.say("tag-broken", (at, end), cause, "Write > behind the name.", Splice(end, end, ">"), safe=True)
            self.at = end
        else:
            self.at = stop + 1
        if name:
            self._close(name[0], (at + 2, end))

    def _close(self, name: str, span: tuple[int, int]) -> None:
        names = [one.name for one in self.stack]
        if not names or name not in names:
            self._close_other(name, span)
            return
        while self.stack[-1].name != name:
            inner = self.stack.pop()
            self.crossed.append(inner.name)
            self._unclosed(inner, f"</{name}> in line {self._line(span[0])} closes what is around it.")
        self.stack.pop()

    def _close_other(self, name: str, span: tuple[int, int]) -> None:
        from roundgate.core.nearest import nearest

        if (
            self.stack
            and not self._closes_later(self.stack[-1].name)
            and nearest(name, [self.stack[-1].name], least=60)
        ):
            right = self.stack.pop()
            cause = f"This closes {name}, and what is open since line {self._line(right.at)} is {right.name}."
            self.say("tag-mismatch", span, cause, f"Write {right.name}.", Splice(*span, right.name))
            return
        end = self.at
        if name in self.crossed:
            self.crossed.remove(name)
            return
        cut = Splice(span[0] - 2, end, "")
        self.say("tag-extra", (span[0] - 2, end), f"No {name} is open here.", "Delete it, or open it before.", cut)

    def _closes_later(self, name: str) -> bool:
        """Tell whether more elements of a name are closed further on than are opened there."""
        rest = self.body[self.at :]
        mark = re.escape(name)
        return len(re.findall(rf"</{mark}\s*>", rest)) > len(re.findall(rf"<{mark}(?=[\s>])[^<>]*(?<!/)>", rest))

    def _unclosed(self, one: Open, why: str) -> None:
        end = self.body.find(">", one.at)
        cuts = []
        if end >= 0 and self.body[end - 1] != "/":
            following = self.body[end + 1 :].split("\n")[0]
            if not following.strip():
                cuts = [Splice(end, end, "/")]
            elif "<" not in following:
                stop = end + 1 + len(following.rstrip())
                cuts = [Splice(stop, stop, f"</{one.name}>")]
        span = (one.at, one.at + 1 + len(one.name))
        cause = f"This {one.name} is opened and never closed: {why}"
        self.say("tag-unclosed", span, cause, f"Write </{one.name}> where it ends, or /> here.", *cuts)

    def opening(self) -> None:
        """Read an opening tag with its attributes."""
        at = self.at
        name = _NAME.match(self.body, at + 1)
        assert name is not None
        if not self.stack and self.roots:
            cause = "The outermost element is closed, and a second one begins."
            self.say("two-values", (at, name.end()), cause, "Put both into one element around them.")
            self.at = len(self.body)
            return
        self.roots += 0 if self.stack else 1
        self.at = name.end()
        seen: dict[str, int] = {}
        while True:
            blank = _SPACE.match(self.body, self.at)
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
        self.say("tag-broken", (at, at + 1 + len(name)), cause, "Write > where it ends.", Splice(end, end, ">"))
        if self.body[end - 1] != "/":
            self.stack.append(Open(name, at))

    def _attribute(self, seen: dict[str, int], *, gap: bool) -> bool:
        """Read one attribute and say what is wrong with it; False where there is none."""
        name = _NAME.match(self.body, self.at)
        if name is None:
            char = self.body[self.at]
            if HIDDEN.match(char):
                cut = Splice(self.at, self.at + 1, visible(char))
                self.say(
                    "hidden-between",
                    (self.at, self.at + 1),
                    "A character that cannot be seen stands here.",
                    "Delete it.",
                    cut,
                    safe=True,
                )
            elif char != "/" or not self.found:
                self.say(
                    "not-understood",
                    (self.at, self.at + 1),
                    f"'{char}' cannot stand in a tag.",
                    "Delete it.",
                    Splice(self.at, self.at + 1, ""),
                )
            return False
        if not gap:
            cause = "No blank parts this attribute from the one before it."
            self.say(
                "attribute-joined",
                name.span(),
                cause,
                "Write a blank before it.",
                Splice(name.start(), name.start(), " "),
                safe=True,
            )
        if name[0] in seen:
            cause = f"{name[0]} stands in this tag already."
            self.say("attribute-twice", name.span(), cause, "Delete the one that should not count.")
        seen[name[0]] = name.start()
        colon = name[0].endswith(":") and self.body[name.end() : name.end() + 1] in ("'", '"')
        sign = re.compile(r"\s*([=:])\s*").match(self.body, name.end() - colon)
        if sign is None:
            self.at = name.end()
            cause = f"The attribute {name[0]} has no value."
            self.say(
                "attribute-value",
                name.span(),
                cause,
                'Write ="..." behind it.',
                Splice(name.end(), name.end(), '="true"'),
            )
            return True
        if sign[1] == ":":
            cut = Splice(sign.start(1), sign.end(1), "=")
            self.say("separator-wrong", sign.span(1), "An equals sign belongs here.", "Write =.", cut, safe=True)
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
            self.say("quote-curly", (at, end), "Curly quotes do not count.", "Write straight quotes.", *cuts, safe=True)
            self.at = end
            return
        bare = re.compile(r"[^\s<>\"'/]*(?:/(?!>)[^\s<>\"'/]*)*").match(body, at)
        end = bare.end() if bare else at
        cause = "An attribute's value stands in quotes." if end > at else "The attribute's value is missing."
        tail = 1 if body[end : end + 1] in ("'", '"') and body[end : end + 1] else 0
        cuts = [Splice(at, end + tail, f'"{body[at:end]}"')]
        self.say("attribute-unquoted", (at, max(end, at + 1)), cause, "Write quotes around it.", *cuts, safe=end > at)
        self.at = end + tail

    def _quoted(self, quote: str) -> None:
        """Read a value in quotes; a tag's end or another attribute before the closing one shows that it is missing."""
        body, at = self.body, self.at
        end = body.find(quote, at + 1)
        tag_end = re.compile(r"\s*/?>|\s*[\r\n]|<").search(body, at + 1)
        value = body[at + 1 : end] if end >= 0 else ""
        whole = (
            end >= 0
            and re.compile(r"\s*/?>|\s+[\w:.\-]+\s*=").match(body, end + 1)
            and not re.search(r"[\r\n>]", value)
        )
        wrong = end < 0 or ("<" in value and not whole) or re.search(r"\s[\w:.\-]+=$", value) is not None
        if wrong and tag_end is not None:
            stop = tag_end.start()
            other = re.compile(r"\s+[\w:.\-]+\s*=\s*[\"']").search(body, at + 1, stop)
            stop = other.start() if other else stop
            cause = "This quote is opened and not closed before the tag ends."
            if end < 0 or end > stop:
                self.say(
                    "attribute-quote",
                    (at, stop),
                    cause,
                    "Write a quote where the value ends.",
                    Splice(stop, stop, quote),
                )
                self.at = stop
                return
        if end < 0:
            self.say("attribute-quote", (at, at + 1), "This quote is opened and never closed.", "Close it.")
            self.at = len(body)
            return
        self.references(at + 1, end)
        self.controls(at + 1, end)
        less = body.find("<", at + 1, end)
        if less >= 0:
            self.say(
                "less-bare",
                (less, less + 1),
                "A bare < may not stand in a value.",
                "Write &lt;.",
                Splice(less, less + 1, "&lt;"),
                safe=True,
            )
        self.at = end + 1

    # --- the end ---

    def finish(self) -> None:
        """Say what is still open."""
        if self.stack:
            one = self.stack[-1]
            around = len(self.stack) - 1
            more = (
                "" if not around else " So is the one around it." if around == 1 else f" So are the {around} around it."
            )
            end = len(self.body.rstrip())
            closing = "".join(f"</{each.name}>" for each in reversed(self.stack))
            cut = Splice(end, end, "\n" + closing)
            span = (one.at, one.at + 1 + len(one.name))
            cause = f"This {one.name} is opened and never closed.{more}"
            self.say("tag-unclosed", span, cause, f"Write {closing} at the end, or where it should end.", cut)
        elif not self.roots and not self.found:
            self.say("value-missing", (0, 1), "There is no element in the file.", "Restore the file from a backup.")

    def _line(self, index: int) -> int:
        return self.body.count("\n", 0, index) + 1
