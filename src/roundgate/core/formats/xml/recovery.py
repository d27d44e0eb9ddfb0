"""A reader of broken XML that does not give up: it keeps the open elements, and says what was most likely meant."""

from __future__ import annotations

import re

from roundgate.core.formats.shared.common_problems import HIDDEN, visible
from roundgate.core.formats.xml.recovery_tags import NAME, SPACE, Open, TagScan
from roundgate.core.text import Splice


class Scan(TagScan):
    """Goes through a broken text once and says what does not fit."""

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
        content = self.body[start:end]
        if content.strip() and not self.stack:
            begun = start + len(content) - len(content.lstrip())
            if HIDDEN.fullmatch(content.strip()):
                cut = Splice(begun, start + len(content.rstrip()), visible(content.strip()[0]))
                self.report(
                    "hidden-between",
                    (begun, begun + 1),
                    "There is a character here that cannot be seen.",
                    "Delete it.",
                    cut,
                    safe=True,
                )
                return
            cause = "This is outside the outermost element."
            self.report("text-after-end", (begun, start + len(content.rstrip())), cause, "Delete it, or put it inside.")
        end_mark = content.find("]]>")
        if end_mark >= 0:
            at = start + end_mark
            self.report(
                "text-after-end",
                (at, at + 3),
                "]]> may not be part of a text.",
                "Write ]]&gt;.",
                Splice(at, at + 3, "]]&gt;"),
            )

    # --- tags ---

    def markup(self) -> None:
        """Read one tag, comment or declaration."""
        body, at = self.body, self.at
        if body.startswith("<!--", at):
            self.comment()
        elif body.startswith("<![CDATA[", at):
            end = body.find("]]>", at)
            if end < 0:
                self.report(
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
        elif NAME.match(body, at + 1):
            self.opening()
        else:
            cause = "A bare < begins a tag, and none follows."
            self.report("less-bare", (at, at + 1), cause, "Write &lt;.", Splice(at, at + 1, "&lt;"), safe=True)
            self.at = at + 1

    def comment(self) -> None:
        """Read a comment."""
        at = self.at
        end = self.body.find("-->", at + 4)
        if end < 0:
            cause = "This comment is opened and never closed, so it swallows the rest of the file."
            self.report("comment-unclosed", (at, at + 4), cause, "Write --> where it should end.")
            self.at = len(self.body)
            self.stack.clear()
            self.roots = 1
            return
        dashes = self.body.find("--", at + 4, end)
        dashes = dashes if dashes >= 0 else (end - 1 if self.body[end - 1] == "-" and end - 1 >= at + 4 else -1)
        if dashes >= 0:
            nested = self.body.find("<!--", at + 4, end)
            cause = (
                "There are two dashes inside a comment." if nested < 0 else "A second comment begins inside this one."
            )
            run = re.compile(r"-+").match(self.body, dashes)
            length = len(run[0]) if run else 2
            length = min(length, end - dashes)
            cut = Splice(dashes, dashes + length, "-" if dashes + length < end else "")
            self.report(
                "comment-dashes", (dashes, dashes + 2), cause, "Write one dash.", *([] if nested >= 0 else [cut])
            )
        self.controls(at, end)
        self.at = end + 3

    def instruction(self) -> None:
        """Read a declaration or an instruction."""
        at = self.at
        if re.compile(r"<\?xml[\s?]").match(self.body, at) and at > 0:
            before = self.body[:at]
            cuts = [Splice(0, at, "")] if not before.strip("\ufeff \t\r\n") else []
            cause = "The declaration must be the very first thing in the file, and something is before it."
            self.report("declaration-late", (at, at + 5), cause, "Delete what is before it.", *cuts, safe=True)
        end = self.body.find("?>", at + 2)
        if end < 0:
            self.report(
                "tag-broken", (at, at + 2), "This declaration is never closed.", "Write ?> where it should end."
            )
        self.at = end + 2 if end >= 0 else len(self.body)

    def types(self) -> None:
        """Skip a document type."""
        whole = re.compile(
            r"<![A-Z]+(?:\"[^\"]*\"|'[^']*'|\[(?:<!--.*?-->|\"[^\"]*\"|'[^']*'|[^\]\"'])*\]|[^>\[\"'])*>", re.S
        ).match(self.body, self.at)
        if whole is None:
            self.report(
                "tag-broken",
                (self.at, self.at + 2),
                "This declaration is never closed.",
                "Write > where it should end.",
            )
        self.at = whole.end() if whole else len(self.body)

    def closing(self) -> None:
        """Read a closing tag and settle what it closes."""
        at = self.at
        name = NAME.match(self.body, at + 2)
        end = name.end() if name else at + 2
        tail = SPACE.match(self.body, end)
        stop = tail.end() if tail else end
        if self.body[stop : stop + 1] != ">":
            cause = "This closing tag has no > at its end."
            self.report("tag-broken", (at, end), cause, "Write > after the name.", Splice(end, end, ">"), safe=True)
            self.at = end
        else:
            self.at = stop + 1
        if name:
            self._close(name[0], (at + 2, end))

    def _close(self, name: str, span: tuple[int, int]) -> None:
        names = [element.name for element in self.stack]
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
            self.report("tag-mismatch", span, cause, f"Write {right.name}.", Splice(*span, right.name))
            return
        end = self.at
        if name in self.crossed:
            self.crossed.remove(name)
            return
        cut = Splice(span[0] - 2, end, "")
        self.report("tag-extra", (span[0] - 2, end), f"No {name} is open here.", "Delete it, or open it before.", cut)

    def _closes_later(self, name: str) -> bool:
        """Return whether more elements of a name are closed further on than are opened there."""
        rest = self.body[self.at :]
        mark = re.escape(name)
        return len(re.findall(rf"</{mark}\s*>", rest)) > len(re.findall(rf"<{mark}(?=[\s>])[^<>]*(?<!/)>", rest))

    def _unclosed(self, element: Open, why: str) -> None:
        end = self.body.find(">", element.at)
        cuts = []
        if end >= 0 and self.body[end - 1] != "/":
            following = self.body[end + 1 :].split("\n")[0]
            if not following.strip():
                cuts = [Splice(end, end, "/")]
            elif "<" not in following:
                stop = end + 1 + len(following.rstrip())
                cuts = [Splice(stop, stop, f"</{element.name}>")]
        span = (element.at, element.at + 1 + len(element.name))
        cause = f"This {element.name} is opened and never closed: {why}"
        self.report("tag-unclosed", span, cause, f"Write </{element.name}> where it ends, or /> here.", *cuts)

    # --- the end ---

    def finish(self) -> None:
        """Report what is still open."""
        if self.stack:
            element = self.stack[-1]
            around = len(self.stack) - 1
            more = (
                "" if not around else " So is the one around it." if around == 1 else f" So are the {around} around it."
            )
            end = len(self.body.rstrip())
            closing = "".join(f"</{each.name}>" for each in reversed(self.stack))
            cut = Splice(end, end, "\n" + closing)
            span = (element.at, element.at + 1 + len(element.name))
            cause = f"This {element.name} is opened and never closed.{more}"
            self.report("tag-unclosed", span, cause, f"Write {closing} at the end, or where it should end.", cut)
        elif not self.roots and not self.found:
            self.report("value-missing", (0, 1), "There is no element in the file.", "Restore the file from a backup.")
