"""Texts, words and signs of a broken Lua data file: where each ends, and what is wrong with it."""

from __future__ import annotations

import re

from roundgate.core.formats.shared.bracket_recovery import BracketScan, Frame
from roundgate.core.formats.shared.common_problems import CURLY, bare_quotes
from roundgate.core.patterns import lazy
from roundgate.core.text import LINE_END, Splice

BLANK = lazy(r"[ \t\r\n\f\v]*")


LONG = lazy(r"\[(=*)\[")


_GOOD = lazy(r"\"(?:[^\"\\\r\n]|\\(?:\r\n|.))*\"|'(?:[^'\\\r\n]|\\(?:\r\n|.))*'", re.S)


NAME = lazy(r"[A-Za-z_][A-Za-z_0-9]*")


NUMBER = lazy(r"\.?[0-9](?:[eEpP][+-]|[\w.])*")


_BINARY = frozenset(("and", "or", "not"))


_SPELLINGS = {
    "True": "true",
    "TRUE": "true",
    "False": "false",
    "FALSE": "false",
    "None": "nil",
    "null": "nil",
    "Nil": "nil",
    "NULL": "nil",
}


class WordScan(BracketScan):
    """Reads what stands between the brackets of a broken text."""

    def __init__(self, body: str, far: int) -> None:
        """Begin at the text's start."""
        super().__init__(body, far)
        self.top = "part"
        self.last = ""

    def _begins_line(self) -> bool:
        return not self.body[self._line_start(self.at) : self.at].strip()

    def _other_comment(self) -> None:
        mark = 1 if self.body[self.at] == "#" else 2
        end = self._line_end(self.at)
        block = self.body.find("*/", self.at + 2) if self.body.startswith("/*", self.at) else -1
        cuts = (
            [Splice(self.at, self.at + mark, "--")]
            if block < 0
            else [Splice(self.at, self.at + 2, "--[["), Splice(block, block + 2, "]]")]
        )
        before = self.body[self._line_start(self.at) : self.at].rstrip()
        is_plain = not before or before[-1] in ",;{}"  # after a value // divides
        self.report(
            "comment-here",
            (self.at, end if block < 0 else block + 2),
            "A comment begins with -- in Lua.",
            "Write --.",
            *cuts,
            safe=is_plain,
        )
        self.at = end if block < 0 else block + 2

    def _line_end(self, at: int) -> int:
        end = LINE_END.search(self.body, at)
        return end.start() if end else len(self.body)

    def _set(self, state: str) -> None:
        if self.stack:
            self.stack[-1].state = state

    def _lacks_comma(self) -> None:
        end = self.last_end
        cause = "A comma is missing here, after the item that ends."
        begun = max(self.stack[-1].comma, self.stack[-1].at) + 1
        is_bare = NAME.fullmatch(self.body[begun:end].strip()) is not None  # an equals sign may be missing instead
        self.report("comma-missing", (end, end + 1), cause, "Write a comma.", Splice(end, end, ","), safe=not is_bare)
        self.stack[-1].state = "item"
        self.stack[-1].comma = end

    def _string(self) -> None:
        start = self.at
        long = LONG.match(self.body, start)
        if long:
            end = self.body.find(f"]{long[1]}]", start)
            if end < 0:
                cause = "This text is opened with two brackets and never closed, so it swallows the rest of the file."
                self.report("text-unclosed", (start, long.end()), cause, f"Write ]{long[1]}] where it should end.")
                self.top, self.at = "over", len(self.body)
                return
            self._whole("text", end + 2 + len(long[1]))
            return
        good = _GOOD.match(self.body, start)
        follows = self.body[good.end() : good.end() + 1] if good else ""
        if good is None or (follows and (follows.isalnum() or follows == "_") and self._odd(start)):
            self._open_text(start)
            return
        if follows and (follows.isalnum() or follows == "_"):
            line_end = self._line_end(start)
            last = self.body.rfind(good[0][0], good.end(), line_end)
            if last > 0:
                inner = [start + quote for quote in bare_quotes(self.body[start:last], good[0][0]) if quote]
                cuts = [Splice(at, at, "\\") for at in inner]
                cause = "This quote ends the text too early: more of it follows on the line."
                self.report(
                    "quote-inside",
                    (inner[0], inner[0] + 1) if inner else (good.end() - 1, good.end()),
                    cause,
                    f"Write \\{good[0][0]} for a quote inside a text.",
                    *cuts,
                )
                self._whole("text", last + 1)
                return
        bad = re.search(r"\\(?:[^abfnrtvzxu\"'\\\d\r\n]|x(?![0-9a-fA-F]{2})|u(?!\{))", re.sub(r"\\\\", "  ", good[0]))
        if bad:
            span = (start + bad.start(), start + bad.end())
            lone = [
                start + match.start()
                for match in re.finditer(r"\\(?![abfnrtvzxu\"'\\\d\r\n])", re.sub(r"\\\\", "  ", good[0]))
            ]
            cause = "A backslash begins an escape, and this is not a valid one."
            self.report(
                "escape-broken",
                span,
                cause,
                "Write \\\\ for a backslash, or / in a path.",
                *[Splice(at, at, "\\") for at in lone],
            )
        self._whole("text", good.end())

    def _odd(self, start: int) -> bool:
        line = self.body[start : self._line_end(start)]
        return len(re.findall(r"(?<!\\)" + self.body[start], line)) % 2 == 1

    def _open_text(self, start: int) -> None:
        line = self.body[start : self._line_end(start)]
        hit = re.match(r"[\"'][^\r\n]*?(?=[ \t]*(?:[,}\])][ \t,}\])]*)?(?:--.*)?$)", line)
        end = start + (hit.end() if hit else len(line))
        cause = "This quote is opened and not closed on its line."
        self.report(
            "quote-unclosed",
            (start, max(end, start + 1)),
            cause,
            "Write a quote where the text ends.",
            Splice(end, end, line[0]),
        )
        self._whole("text", end)

    def _pretty(self) -> None:
        found = re.compile(rf"[{CURLY}]([^{CURLY}\r\n\"]*)[{CURLY}\"]").match(self.body, self.at)
        end = found.end() if found else self.at + 1
        cuts = [Splice(self.at, end, f'"{found[1]}"')] if found else []
        self.report(
            "quote-curly",
            (self.at, end),
            "Curly quotes do not count; only straight ones do.",
            "Write straight quotes.",
            *cuts,
            safe=True,
        )
        self._whole("text", end)

    def _operand(self, kind: str, pattern: re.Pattern[str]) -> None:
        found = pattern.match(self.body, self.at)
        self._whole(kind, found.end() if found else self.at + 1)

    def _whole(self, kind: str, end: int) -> None:
        """Take one whole operand: after another one a comma is missing, unless it is a call's text."""
        start = self.at
        if self.stack and self.stack[-1].state == "whole" and not (kind == "text" and self.last == "name"):
            self._lacks_comma()
        elif not self.stack and self.last == "name" and kind == "number" and self._same_line(start):
            at = self.last_end
            cause = "The equals sign between this name and its value is missing."
            self.report("equals-missing", (at, at + 1), cause, "Write = between them.", Splice(at, at, " ="))
        self._set("whole")
        self.last_start = start
        self.last, self.at, self.last_end = kind, end, end

    def _same_line(self, at: int) -> bool:
        return LINE_END.search(self.body, self.last_end, at) is None

    def _word(self) -> None:
        name = NAME.match(self.body, self.at)
        assert name is not None
        word = name[0]
        if word in _BINARY:
            self._set("part")
            self.last, self.at = "operator", name.end()
            return
        if word == "function" and self.stack:
            self._function(name.end())
            return
        self._leave_forgotten(name.end())
        if self.stack and self.stack[-1].state == "whole" and self.last != "operator":
            self._lacks_comma()
        spelling = _SPELLINGS.get(word)
        if spelling and self.stack and not re.match(r"\s*=", self.body[name.end() :]):
            cut = Splice(self.at, name.end(), spelling)
            self.report(
                "word-spelling",
                name.span(),
                f"'{word}' is not a word that Lua knows; {spelling} is.",
                f"Write {spelling}.",
                cut,
            )
        self._set("whole")
        self.last = "word" if word in ("true", "false", "nil") else "name"
        self.at = self.last_end = name.end()
        if self.stack and re.compile(r"[ \t]*=(?!=)").match(self.body, name.end()):
            self.stack[-1].key = name.span()
        elif (
            self.stack
            and self.stack[-1].sign == "{"
            and re.compile(r"[ \t]+[\"'{\d]").match(self.body, name.end())
            and self.last == "name"
        ):
            self._equals_missing(name.end())

    def _leave_forgotten(self, at: int) -> None:
        """A new statement in the column of the line on which a bracket was opened: that one was never closed."""
        column = self._indent(self.at)
        if column is None or not re.compile(r"[ \t]*[(\"'=]").match(self.body, at):
            return
        while self.stack and self.stack[-1].state == "whole" and self._indent_of_line(self.stack[-1].at) >= column:
            frame = self.stack[-1]
            if frame.sign == "{" and self._indent_of_line(frame.at) >= column and column > 0:
                return
            right = {"{": "}", "[": "]", "(": ")"}[frame.sign]
            cause = f"This {frame.sign} is never closed; a new statement begins in line {self._line(self.at)}."
            end = max(self.last_end, frame.at + 1)
            cut = Splice(end, end, self._own_line(frame, right))
            self.report("bracket-unclosed", (frame.at, frame.at + 1), cause, f"Write {right} where it should end.", cut)
            self.stack.pop()
            self.last_end = end

    def _equals_missing(self, at: int) -> None:
        """A name and a value side by side in a table: a call of a text is rare there, a forgotten sign is not."""
        cause = "The equals sign between this name and its value is missing."
        self.report("equals-missing", (at, at + 1), cause, "Write = between them.", Splice(at, at, " ="))
        self._set("part")
        self.last = "operator"

    def _function(self, at: int) -> None:
        """Go over a function: to the ``end`` that closes it."""
        depth = 1
        for word in re.compile(
            r"--[^\r\n]*|\"(?:[^\"\\\r\n]|\\.)*\"|'(?:[^'\\\r\n]|\\.)*'|\b(?:function|do|then|repeat|end|until)\b"
        ).finditer(self.body, at):
            if word[0] in ("function", "do", "then", "repeat"):
                depth += 1
            elif word[0] in ("end", "until"):
                depth -= 1
            if depth == 0:
                self._whole("word", word.end())
                return
        self.at = len(self.body)
        self.top = "over"

    def _sign(self, char: str) -> None:
        double = self.body.startswith("==", self.at)
        in_table = bool(self.stack) and self.stack[-1].sign == "{"
        span = (self.at, self.at + (2 if double else 1))
        if (
            char == ":"
            and in_table
            and self.last in ("name", "text")
            and not re.match(r":[A-Za-z_]\w*[ \t]*[({\"']", self.body[self.at :])
        ):
            self.report(
                "separator-wrong", span, "Lua has an equals sign here, not a colon.", "Write =.", self._equals(span)
            )
        elif double and in_table and self.last == "name" and self._names_field():
            self.report(
                "separator-wrong",
                span,
                "One equals sign gives a field its value; two compare.",
                "Write one.",
                Splice(*span, "="),
            )
        elif char == "=" and in_table and self.last == "text" and not double:
            self._quoted_name()
        if in_table and not double:
            self.stack[-1].key = (self.stack[-1].key[0], span[1])
            self.stack[-1].state = "value"
            self.at, self.last, self.last_end = span[1], "operator", span[1]
            return
        self._set("part")
        self.at, self.last, self.last_end = span[1], "operator", span[1]

    def _equals(self, span: tuple[int, int]) -> Splice:
        return Splice(*span, " =" if self.body[span[1] : span[1] + 1] == " " else " = ")

    def _names_field(self) -> bool:
        """Return whether the name before a sign begins an item."""
        before = self.body[: self.last_end].rstrip()
        return re.search(r"[{,;]\s*[A-Za-z_]\w*\Z", before) is not None

    def _quoted_name(self) -> None:
        """A name in quotes before an equals sign: it needs square brackets around it."""
        end = self.last_end
        start = self.last_start
        inner = self.body[start + 1 : end - 1]
        new = inner if NAME.fullmatch(inner) else f"[{self.body[start:end]}]"
        cause = "In Lua a name in quotes goes into square brackets, or without quotes."
        self.report("separator-wrong", (start, end), cause, f"Write {new}.", Splice(start, end, new))

    def _own_line(self, frame: Frame, right: str) -> str:
        return f" {right}" if frame.sign == "{" else right
