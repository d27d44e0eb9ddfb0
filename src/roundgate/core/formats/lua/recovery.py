"""A reader of broken Lua data that does not give up: brackets, commas, equals signs, texts and comments."""

from __future__ import annotations

import re

from roundgate.core.formats.lua.recovery_tokens import BLANK, LONG, NAME, NUMBER, WordScan
from roundgate.core.formats.shared.bracket_recovery import Frame
from roundgate.core.formats.shared.common_problems import CURLY, DASHES, HIDDEN
from roundgate.core.text import Splice


class Scan(WordScan):
    """Goes through a broken text once and says what does not fit.

    Inside a table it knows whether an item begins, is under way (``part``), or is ``whole``, so that a comma must
    follow.
    """

    def finish(self) -> None:
        """Report which brackets are still open."""
        if self.stack:
            super().finish()

    def _end_of(self, frame: Frame, at: int) -> None:
        if frame.sign == "(" and frame.comma >= 0 and frame.state == "item":
            cut = Splice(frame.comma, frame.comma + 1, "")
            self.report(
                "comma-last",
                (frame.comma, frame.comma + 1),
                "After this comma another argument is expected.",
                "Delete it.",
                cut,
                safe=True,
            )
        elif frame.state == "value":
            at = frame.key[1]
            self.report("value-missing", (at - 1, at), "There is no value after this equals sign.", "Write one.")

    # --- spaces and comments ---

    def skip(self) -> bool:
        """Go over spaces and comments; return whether anything is left."""
        while True:
            blank = BLANK.match(self.body, self.at)
            self.at = blank.end() if blank else self.at
            if self.at >= len(self.body):
                return False
            char = self.body[self.at]
            if HIDDEN.match(char):
                self._hidden(char)
            elif self.body.startswith("--", self.at):
                if not self._lua_comment():
                    return False
            elif self.body.startswith(("//", "/*"), self.at) or (char == "#" and self._begins_line()):
                self._other_comment()
            else:
                return True

    def _lua_comment(self) -> bool:
        opening = LONG.match(self.body, self.at + 2)
        if opening is None:
            end = self._line_end(self.at)
            self._half_commented(self.at, end)
            self.at = end
            return True
        end = self.body.find(f"]{opening[1]}]", self.at)
        if end < 0:
            cause = "This comment is opened and never closed, so it swallows the rest of the file."
            self.report(
                "comment-unclosed", (self.at, opening.end()), cause, f"Write ]{opening[1]}] where it should end."
            )
            self.top, self.at = "over", len(self.body)
            return False
        self.at = end + 2 + len(opening[1])
        return True

    def _half_commented(self, start: int, end: int) -> None:
        """A line commented out whose bracket has its partner elsewhere."""
        hit = re.match(r"--[ \t]*(?:[\w.]+[ \t]*=[ \t]*\{|[\w.]+[ \t]*\(.*\{|\}[,)]*)[ \t]*$", self.body[start:end])
        if not hit:
            return
        opened = self.body[start:end].rstrip().endswith("{")
        rest = self.body[end:]
        if opened and rest.count("}") > rest.count("{") + len([frame for frame in self.stack if frame.sign == "{"]):
            cause = "This line is commented out, and the bracket that closes it is not."
            cut = Splice(start, start + len(re.match(r"--[ \t]?", self.body[start:])[0]), "")  # type: ignore[index]
            self.report(
                "parent-off", (start, end), cause, "Take the comment sign away, or take the lines below out too.", cut
            )
            self.at = start
            brace = self.body.rindex("{", start, end)
            self.stack.append(self._frame("{", brace))

    def _frame(self, sign: str, at: int) -> Frame:
        frame = Frame(sign, at)
        frame.state = "item"
        return frame

    # --- one word after another ---

    def one(self) -> None:
        """Read one sign, name or value."""
        char = self.body[self.at]
        if char in "{([":
            self._open(char)
        elif char in "})]":
            self._shut(char)
        elif char in ",;" and self.stack:
            self._separator()
        elif char in "\"'" or LONG.match(self.body, self.at):
            self._string()
        elif char in CURLY:
            self._pretty()
        elif NAME.match(self.body, self.at):
            self._word()
        elif NUMBER.match(self.body, self.at):
            self._operand("number", NUMBER)
        elif char in "=:":
            self._sign(char)
        elif char in DASHES:
            cut = Splice(self.at, self.at + 1, "-")
            self.report("dash-smart", (self.at, self.at + 1), "This is a long dash.", "Write a plain minus sign.", cut)
            self.at += 1
        else:
            self.at += 1
            self._set("part")
            self.last = "operator"

    def _open(self, char: str) -> None:
        long = LONG.match(self.body, self.at)
        if long:
            self._string()
            return
        if (
            self.stack
            and char == "{"
            and self.last in ("number", "text", "close", "word")
            and self.stack[-1].state == "whole"
        ):
            self._lacks_comma()
        if char == "[" and self.stack and self.stack[-1].state == "whole" and self.last != "name":
            self._lacks_comma()
        self._set("part")
        self.stack.append(self._frame(char, self.at))
        self.at += 1
        self.last = "open"

    def _shut(self, char: str) -> None:
        if char == ")" or (self.stack and self.stack[-1].sign in "(" and char != ")"):
            self._shut_round(char)
        else:
            self._close_here(char)
        self.last_end = self.at
        self._set("whole")
        self.last = "close"

    def _close_here(self, char: str) -> None:
        begun = self.at
        self.close(char)
        if self.at <= begun:
            self.at = begun
            self._shut(char)

    def _shut_round(self, char: str) -> None:
        at = self.at
        self.at += 1
        if not self.stack:
            self.report(
                "bracket-extra", (at, at + 1), f"This {char} closes nothing.", "Delete it.", Splice(at, at + 1, "")
            )
            return
        frame = self.stack[-1]
        if char == ")" and frame.sign == "(":
            self._end_of(frame, at)
            self.stack.pop()
            return
        signs = {"{": "}", "[": "]", "(": ")"}
        outer = [bracket for bracket in self.stack[:-1] if signs[bracket.sign] == char]
        if outer:
            self.stack.pop()
            right = signs[frame.sign]
            cause = f"This {frame.sign} is never closed; {char} in line {self._line(at)} closes another."
            end = max(self.last_end, frame.at + 1)
            cut = Splice(end, end, self._own_line(frame, right))
            self.report("bracket-unclosed", (frame.at, frame.at + 1), cause, f"Write {right} where it should end.", cut)
            self.at = at
            self._shut(char)
            return
        right = signs[frame.sign]
        line = self._line(frame.at)
        cause = f"This {char} closes what was opened with {frame.sign} in line {line}; it should be {right}."
        self.report("bracket-wrong", (at, at + 1), cause, f"Write {right} here.", Splice(at, at + 1, right))
        self.stack.pop()

    def _separator(self) -> None:
        frame = self.stack[-1]
        span = (self.at, self.at + 1)
        self.at += 1
        if frame.state == "value":
            self.report("value-missing", span, "The value is missing before this comma.", "Write a value.")
        elif frame.state == "item":
            cut = Splice(*span, "")
            self.report("comma-extra", span, "There is nothing before this comma.", "Delete it.", cut, safe=True)
        frame.state, frame.comma = "item", span[0]
        self.last = "comma"
        self.last_end = self.at
