"""A reader of broken JSON that does not give up.

It goes through the text once, keeps the open brackets on a stack, and where something does not fit it says what was
most likely meant, takes it for that, and goes on.
"""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from roundgate.core.formats.shared.bracket_recovery import BracketScan, Frame
from roundgate.core.formats.shared.common_problems import HIDDEN
from roundgate.core.patterns import lazy
from roundgate.core.text import Splice

if TYPE_CHECKING:
    from roundgate.core.formats.json.document import JsonDocument

_BLANK = lazy(r"[ \t\r\n]*")
_COMMENT = lazy(r"//[^\r\n]*|/\*(?:[^*]|\*(?!/))*\*/|#[^\r\n]*")


class JsonScan(BracketScan):
    """Goes through a broken JSON text once and says what does not fit."""

    def __init__(self, document: JsonDocument, far: int) -> None:
        """Begin at the text's start."""
        super().__init__(document.text.body, far)
        self.dialect = document.dialect

    # --- the state of the innermost bracket, or of the whole file ---

    def one(self) -> None:
        """Read one sign, name or value."""
        sign = self.body[self.at]
        if sign in "{[":
            self.open(sign)
        elif sign in "}]":
            self.close(sign)
        elif sign in ",;":
            self.comma(sign)
        elif sign in ":=":
            self.colon(sign)
        else:
            self.scalar()

    def skip(self) -> bool:
        """Go over spaces and comments; return whether anything is left."""
        while True:
            blank = _BLANK.match(self.body, self.at)
            self.at = blank.end() if blank else self.at
            if self.at >= len(self.body):
                return False
            char = self.body[self.at]
            if HIDDEN.match(char) or (char.isspace() and char not in " \t\r\n") or char < " ":
                self._hidden(char)
            elif char == "#" or self.body.startswith(("//", "/*"), self.at):
                if not self._comment():
                    return False
            else:
                return True

    def _comment(self) -> bool:
        comment = _COMMENT.match(self.body, self.at)
        if comment is None:
            cause = "This comment is opened and never closed, so it swallows the rest of the file."
            self.report("comment-unclosed", (self.at, self.at + 2), cause, "Write */ where it should end.")
            self.top, self.at = "over", len(self.body)
            return False
        if not self.dialect.comments or self.body[self.at] == "#":
            self._say_comment(comment)
        self.at = comment.end()
        return True

    def _say_comment(self, comment: re.Match[str]) -> None:
        opens = sum(comment[0].count(sign) for sign in "{[")
        if opens != sum(comment[0].count(sign) for sign in "}]") and not comment[0].startswith("/*"):
            cause = "This line is commented out, and a bracket in it has its partner elsewhere in the file."
            self.report("parent-off", comment.span(), cause, "Take the comment sign away, or take the partner out too.")
            sign = comment[0].rstrip()[-1]
            if sign in "{[" and sign:
                self.state = "comma" if self.stack else "end"
                self.stack.append(Frame(sign, comment.end() - 1))
            return
        cut = Splice(*comment.span(), "")
        cause = "JSON has no comments; the reader stops here."
        do = "Take the comment out. If this file's reader takes comments: check --as jsonc, or the rulebook's dialect."
        self.report("comment-here", comment.span(), cause, do, cut)

    # --- brackets ---

    # --- signs between ---

    def comma(self, sign: str) -> None:
        """Read a comma, or a semicolon in its place."""
        at, span = self.at, (self.at, self.at + 1)
        self.at += 1
        if not self.stack:
            code = "text-after-end" if self.top == "end" else "comma-extra"
            self.report(code, span, "This comma is outside all brackets.", "Delete it.", Splice(*span, ""))
            return
        frame = self.stack[-1]
        if sign == ";":
            cause = "Items are separated by a comma, not by a semicolon."
            self.report("separator-wrong", span, cause, "Write a comma.", Splice(*span, ","), safe=True)
        if frame.state == "comma":
            frame.state = "key" if frame.sign == "{" else "value"
        elif frame.state == "colon":
            cause = "In curly brackets every value has a name, and this one has none."
            self.report("name-missing", frame.key, cause, 'Write "name": before it, or make the brackets square.')
            frame.state, frame.count = "key", -1
        elif frame.state == "value" and frame.sign == "{":
            self.report("value-missing", span, "The value is missing before this comma.", "Write a value.")
            frame.state = "key"
        else:
            cause = "There is nothing before this comma."
            self.report("comma-extra", span, cause, "Delete it.", Splice(*span, ""), safe=True)
        frame.comma = at
        self.last_end = self.at

    def colon(self, sign: str) -> None:
        """Read a colon, or an equals sign in its place."""
        span = (self.at, self.at + 1)
        self.at += 1
        if sign == "=":
            if self.body.startswith(">", self.at):
                self.at += 1
            cause = "A name and its value are separated by a colon, not by an equals sign."
            cut = Splice(span[0], self.at, ":")
            self.report("separator-wrong", (span[0], self.at), cause, "Write a colon.", cut, safe=self.state == "colon")
        if self._is_name_outside():
            self._unclosed(self.stack[-1], self.last_start)
            self.stack.pop()
            self.stack[-1].state = "colon"
        if self.state == "colon":
            self.state, self.last_end = "value", self.at
        elif sign == "=":
            return
        elif self.stack and self.stack[-1].sign == "[" and self.state == "comma":
            if self.stack[-1].count >= 0:
                cause = "There is a name with a value in a list; names belong in curly brackets."
                self.report(
                    "name-in-list", span, cause, "Put { and } around name and value, or make the brackets curly."
                )
            self.stack[-1].count = -1
            self.state = "value"
        elif self.state == "comma":
            cause = "A colon follows a value: a comma is missing before the name, or there is one colon too many."
            self.report("separator-wrong", span, cause, "Write a comma, or delete the colon.")
            self.state = "value"
        else:
            self.report("separator-wrong", span, "This colon belongs to nothing.", "Delete it.", Splice(*span, ""))

    def _is_name_outside(self) -> bool:
        """Return whether a name with its colon stands in a list that was forgotten to be closed."""
        if len(self.stack) < 2 or self.stack[-1].sign != "[" or self.stack[-2].sign != "{" or self.state != "comma":
            return False
        column = self._indent(self.last_start)
        return column is not None and column <= self._indent_of_line(self.stack[-1].at)

    def _missing_colon(self) -> None:
        start, end = self.stack[-1].key
        cause = "The colon between this name and its value is missing."
        self.report(
            "colon-missing", (start, end), cause, "Write a colon after the name.", Splice(end, end, ":"), safe=True
        )
        self.state = "value"

    # --- names and values ---

    def scalar(self) -> None:
        """Read a text, a number or a word."""
        if self.top == "end" and not self.stack:
            self._after_end()
            return
        if self._is_decimal_comma():
            return
        if self.state == "comma":
            self._missing_comma()
        elif self.state == "colon":
            self._missing_colon()
        from roundgate.core.formats.json.recovery_tokens import read_scalar

        read = read_scalar(self, is_key=self.state == "key")
        if self.state == "key":
            self.stack[-1].key = (read.start, read.end)
            self.state = "colon"
        else:
            self.state = "comma" if self.stack else "end"
            if not self.stack:
                self.top = "end"
        self.at = max(read.end, self.at)
        self.last_start, self.last_end = read.start, self.at

    def _is_decimal_comma(self) -> bool:
        """Take ``0,6`` where a name is expected for the number that it was meant to be."""
        if self.state != "key" or self.stack[-1].comma != self.at - 1:
            return False
        digits = re.compile(r"[0-9]+(?=[ \t]*[,}\r\n])").match(self.body, self.at)
        before = self.body[self.last_start : self.at - 1]
        if digits is None or not re.fullmatch(r"-?[0-9]+", before):
            return False
        span = (self.last_start, digits.end())
        meant = f"{before}.{digits[0]}"
        self.report("number-form", span, "A number has a point, not a comma.", f"Write {meant}.", Splice(*span, meant))
        self.stack[-1].state, self.stack[-1].comma = "comma", -1
        self.at = self.last_end = digits.end()
        return True

    def _after_end(self) -> None:
        end = self.body.find("\n", self.at)
        line = self.body[self.at : end if end >= 0 else len(self.body)].rstrip()
        cause = "The file was over, and here something follows."
        span = (self.at, self.at + max(1, len(line)))
        self.report("text-after-end", span, cause, "Delete it, or put it inside the brackets.")
        self.top = "over"

    # --- the end ---

    def open(self, sign: str) -> None:
        """Read an opening bracket."""
        self._leave_record(sign)
        span = (self.at, self.at + 1)
        if self.state == "comma":
            self._missing_comma()
        elif self.state == "colon":
            self._missing_colon()
        elif self.state == "key":
            cause = "Here a name is expected: in curly brackets every value has one."
            self.report("name-missing", span, cause, 'Write "name": before it, or make the outer brackets square.')
        elif self.state == "end":
            cause = "The file was over, and here a second object or list begins."
            self.report("two-values", span, cause, "Put both into one list in square brackets, or merge them.")
            self.top = "over"
            return
        self.state = "comma" if self.stack else "end"
        self.stack.append(Frame(sign, self.at))
        self.at += 1

    def _leave_record(self, sign: str) -> None:
        """Where the next record of a list begins in the column of the one before, that one was never closed."""
        if len(self.stack) < 2 or sign != "{" or self.stack[-1].sign != "{" or self.stack[-2].sign != "[":
            return
        frame, column = self.stack[-1], self._indent(self.at)
        if column is None or self.state not in ("key", "comma") or self._indent(frame.at) != column:
            return
        self._unclosed(frame, self.at)
        self.stack.pop()
        self.state = "value" if frame.state == "key" else "comma"

    def _end_of(self, frame: Frame, at: int) -> None:
        """Look at what stands right before a closing bracket."""
        if frame.comma >= 0 and frame.state in ("key", "value") and frame.key[0] < frame.comma:
            if not self.dialect.last_comma:
                cut = Splice(frame.comma, frame.comma + 1, "")
                cause = "After this comma another item is expected, and none follows."
                self.report("comma-last", (frame.comma, frame.comma + 1), cause, "Delete the comma.", cut, safe=True)
        elif frame.state == "colon" and frame.count >= 0:
            cause = "This is a name without a value."
            self.report("value-missing", frame.key, cause, "Write : and a value after it.")
        elif frame.state == "value" and frame.sign == "{":
            span = (self.last_end - 1, self.last_end)
            self.report("value-missing", span, "The value is missing here.", "Write a value.")
