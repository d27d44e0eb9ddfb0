"""What the readers of broken JSON and Lua have in common: open brackets on a stack, and what is missing in them."""

from __future__ import annotations

import re
from typing import NamedTuple

from roundgate.core.findings import Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.shared.common_problems import HIDDEN, visible
from roundgate.core.text import LINE_END, Splice, is_one_line, line_start

_CLOSES = {"{": "}", "[": "]", "(": ")"}


_OPENS = {"}": "{", "]": "[", ")": "("}


FAR = 200_000
"""So far behind the place where the decoder gives up a reader goes on, once it has found a mistake."""


class Frame:
    """One open bracket: its sign, where it is, what is expected next, and where the last comma and name stand."""

    def __init__(self, sign: str, at: int) -> None:
        """Begin with a name or an item expected."""
        self.sign = sign
        self.at = at
        self.state = "key" if sign == "{" else "value"
        self.comma = -1
        self.key = (-1, -1)
        self.count = 0


class Read(NamedTuple):
    """One string or word: its span, and whether it stands for a text."""

    start: int
    end: int
    is_text: bool


class BracketScan:
    """Goes through a broken text once; what every language of brackets has in common."""

    def __init__(self, body: str, far: int) -> None:
        """Begin at the text's start; ``far`` is where to stop once a mistake has been found."""
        self.body = body
        self.far = far
        self.found: list[Problem] = []
        self.stack: list[Frame] = []
        self.at = 0
        self.last_start = self.last_end = 0
        self.top = "value"

    def skip(self) -> bool:
        """Go over spaces and comments; return whether anything is left."""
        raise NotImplementedError

    def one(self) -> None:
        """Read one sign, text or word."""
        raise NotImplementedError

    def _end_of(self, frame: Frame, at: int) -> None:
        """Look at what stands right before a closing bracket."""
        raise NotImplementedError

    @property
    def state(self) -> str:
        """What is expected next in the innermost open bracket, or outside of all."""
        return self.stack[-1].state if self.stack else self.top

    @state.setter
    def state(self, state: str) -> None:
        if self.stack:
            self.stack[-1].state = state
        else:
            self.top = state

    def report(
        self, code: str, span: tuple[int, int], cause: str, do: str, *repair: Splice, safe: bool = False
    ) -> None:
        """Note a problem."""
        self.found.append(problem(code, span, cause, do, repair, safe=safe))

    def run(self) -> None:
        """Read to the end, or until so much is wrong, or lies so far behind, that going on tells nothing."""
        while len(self.found) < 30 and self.skip():
            if self.found and self.at > self.far:
                return
            begun = self.at
            self.one()
            if self.at <= begun:
                self.at = begun + 1
            if self.top == "over":
                return
        if len(self.found) < 30 and self.top != "over":
            self.finish()

    def _settle_indent(self, sign: str, at: int) -> None:
        """Where a closing bracket begins its line in the column of an outer one, the inner ones were forgotten."""
        column = self._indent(at)
        if column is None:
            return
        while len(self.stack) > 1:
            inner = self._indent_of_line(self.stack[-1].at)
            outer = [frame for frame in self.stack[:-1] if frame.sign == _OPENS[sign]]
            fits = any(self._indent_of_line(frame.at) == column for frame in outer)
            if inner <= column or not fits or is_one_line(self.body, self.stack[-1].at, at):
                return
            self._unclosed(self.stack[-1], at)
            self.last_end = self.last_end or at
            self.stack.pop()

    def _is_forgotten(self, frame: Frame, sign: str, at: int) -> bool:
        """Return whether the inner bracket was forgotten, and not this one mistyped."""
        column = self._indent(at)
        if self.stack[-2].sign != _OPENS[sign]:
            return False
        if column is not None:
            return self._indent_of_line(frame.at) != column
        if is_one_line(self.body, frame.at, at) and not is_one_line(self.body, self.stack[-2].at, at):
            return False
        following = re.compile(r"\s*([}\]]*)").match(self.body, at)
        closers = re.sub(r"\s", "", self.body[at : following.end()]) if following else ""
        rest = re.match(r"[}\]\s]*", self.body[at:])
        count = len(re.findall(r"[}\]]", rest[0])) if rest else len(closers)
        return count < len(self.stack)

    def _unclosed(self, frame: Frame, noticed: int) -> None:
        sign = _CLOSES[frame.sign]
        what = f"{self.body[noticed]} in line {self._line(noticed)} closes another"
        if self.body[noticed] not in ")]}":
            what = f"what begins in line {self._line(noticed)} is outside it"
        cause = f"This {frame.sign} is never closed; {what}."
        end = frame.comma if frame.comma >= 0 and frame.state in ("key", "value") else self.last_end
        end = frame.comma if self.body[noticed] not in ")]}" and frame.comma >= 0 else end
        end = max(end, frame.at + 1)
        repair = Splice(end, end, sign)
        self.report("bracket-unclosed", (frame.at, frame.at + 1), cause, f"Write {sign} where it should end.", repair)

    def _missing_comma(self) -> None:
        end = self.last_end
        cause = "A comma is missing here, after the item that ends."
        self.report("comma-missing", (end, end + 1), cause, "Write a comma.", Splice(end, end, ","), safe=True)
        self.state = "key" if self.stack and self.stack[-1].sign == "{" else "value"
        if self.stack:
            self.stack[-1].comma = end

    def _closing(self, signs: str) -> str:
        has_lines = LINE_END.search(self.body.strip()) is not None
        newline = LINE_END.search(self.body)
        return (newline.group() if newline and has_lines else "") + signs

    def _line(self, index: int) -> int:
        return self.body.count("\n", 0, index) + 1

    def _line_start(self, index: int) -> int:
        return line_start(self.body, index)

    def _indent(self, index: int) -> int | None:
        """Return the column of what begins its line, None for what does not."""
        start = self._line_start(index)
        return None if self.body[start:index].strip(" \t") else index - start

    def _indent_of_line(self, index: int) -> int:
        start = self._line_start(index)
        blank = re.compile(r"[ \t]*").match(self.body, start)
        return (blank.end() if blank else start) - start

    def finish(self) -> None:
        """Report which brackets are still open."""
        if not self.stack:
            if self.top == "value" and not self.found:
                self.report(
                    "value-missing", (0, 1), "There is no value in the file.", "Restore the file from a backup."
                )
            return
        frame = self.stack[-1]
        around = len(self.stack) - 1
        more = "" if not around else " So is the one around it." if around == 1 else f" So are the {around} around it."
        cause = f"This {frame.sign} is opened and never closed.{more}"
        signs = "".join(_CLOSES[bracket.sign] for bracket in reversed(self.stack))
        end = len(self.body.rstrip())
        do = f"Write {signs} at the end, or where it should end."
        self.report("bracket-unclosed", (frame.at, frame.at + 1), cause, do, Splice(end, end, self._closing(signs)))
        self._end_of(frame, end)

    def _hidden(self, char: str) -> None:
        cause = f"A character that cannot be seen (U+{ord(char):04X}) is here, and no reader skips it."
        cut = Splice(self.at, self.at + 1, visible(char) if HIDDEN.match(char) else " ")
        self.report(
            "hidden-between", (self.at, self.at + 1), cause, "Delete it and type a plain space.", cut, safe=True
        )
        self.at += 1

    def close(self, sign: str) -> None:
        """Read a closing bracket; settle whether it is of the wrong kind or another one was forgotten."""
        at = self.at
        self.at += 1
        if not self.stack:
            cause = f"This {sign} closes nothing."
            self.report("bracket-extra", (at, at + 1), cause, "Delete it.", Splice(at, at + 1, ""))
            return
        self._settle_indent(sign, at)
        frame = self.stack[-1]
        if frame.sign != _OPENS[sign]:
            if len(self.stack) > 1 and self._is_forgotten(frame, sign, at):
                self._unclosed(frame, at)
                self.stack.pop()
                self.at = at
                self.close(sign)
                return
            right = _CLOSES[frame.sign]
            line = self._line(frame.at)
            cause = f"This {sign} closes what was opened with {frame.sign} in line {line}; it should be {right}."
            self.report("bracket-wrong", (at, at + 1), cause, f"Write {right} here.", Splice(at, at + 1, right))
        self._end_of(frame, at)
        self.stack.pop()
        self.last_end = self.at
        if not self.stack:
            self.top = "end"
