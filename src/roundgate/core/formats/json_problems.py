"""What people get wrong in JSON, found by a reader that does not give up.

It runs only where the strict decoder fails. It goes through the text once, keeps the open brackets on a stack, and
where something does not fit it says what was most likely meant, takes it for that, and goes on."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING, NamedTuple

from roundgate.core.findings import Problem
from roundgate.core.formats.anywhere import (
    BLANKS,
    HIDDEN,
    empty,
    flood,
    handful,
    hidden_characters,
    merge_markers,
    not_utf8,
    visible,
    with_place,
)
from roundgate.core.formats.catalogue import problem
from roundgate.core.text import LINE_END, Splice, line_start, one_line

if TYPE_CHECKING:
    from roundgate.core.formats.json import JsonDocument

_BLANK = re.compile(r"[ \t\r\n]*")
_COMMENT = re.compile(r"//[^\r\n]*|/\*(?:[^*]|\*(?!/))*\*/|#[^\r\n]*")
_HALF = re.compile(r"(?<!\\)(?:\\\\)*(\\u[dD](?:[89abAB][0-9a-fA-F]{2}(?!\\u[dD][c-fC-F])|[c-fC-F][0-9a-fA-F]{2}))")
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


def problems_of(document: JsonDocument) -> list[Problem]:
    """Find every problem of a JSON text, in the order of the file."""
    body = document.text.body
    if not body.strip(BLANKS):
        return empty(body, "error")
    error = document.error
    if error is None:
        return flood([*_doubles(document), *_in_texts(document), *not_utf8(document.text)])
    marks = list(merge_markers(body))
    if marks:
        return marks
    if str(error) == "too deep":
        cause = "Brackets stand inside one another more than a few hundred deep here."
        return [problem("too-deep", (error.at, error.at + 1), cause, "Restore the file from a backup.")]
    reader = _Reader(document, error.at + FAR)
    reader.run()
    found = handful(reader.found)
    if not any(one.level == "error" for one in found):
        at = min(error.at, max(len(body) - 1, 0))
        cause = "The reader of JSON cannot go on here."
        return [*found, problem("not-understood", (at, at + 1), cause, "Compare with a line that works.")]
    return with_place(found, error.at, body)


def _doubles(document: JsonDocument) -> Iterator[Problem]:
    if not document.has_doubles:
        return
    yield from _doubles_in(document, document.locate(()).start, ())  # type: ignore[union-attr]


def _doubles_in(document: JsonDocument, start: int, path: tuple[str | int, ...]) -> Iterator[Problem]:
    children = list(document.children(start))
    last = {child.step: child for child in children}
    for child in children:
        if document.strict[child.start] in "{[":
            yield from _doubles_in(document, child.start, (*path, child.step))
        if last[child.step] is not child:
            line = document.text.place(last[child.step].key_start)[0]
            cause = f"{child.step} stands again in line {line}, and for most servers only the last one counts."
            yield problem("key-twice", (child.key_start, child.key_end), cause, "Delete the one that should not count.")


def _in_texts(document: JsonDocument) -> Iterator[Problem]:
    body = document.text.body
    yield from hidden_characters(body)
    if "\\ud" in body or "\\uD" in body:
        for half in _HALF.finditer(body):
            if body[half.start(1) - 6 : half.start(1) - 3].lower() in ("\\ud",) and half[1][3] in "cdefCDEF":
                continue
            cause = "This escape is only half of a character, and the other half is missing."
            yield problem("half-character", half.span(1), cause, "Write both halves, or the character itself.")


class _Reader:
    """Goes through a broken text once and says what does not fit."""

    def __init__(self, document: JsonDocument, far: int) -> None:
        self.far = far
        self.body = document.text.body
        self.dialect = document.dialect
        self.found: list[Problem] = []
        self.stack: list[Frame] = []
        self.at = 0
        self.last_start = self.last_end = 0
        self.top = "value"

    # --- the state of the innermost bracket, or of the whole file ---

    @property
    def state(self) -> str:
        return self.stack[-1].state if self.stack else self.top

    @state.setter
    def state(self, state: str) -> None:
        if self.stack:
            self.stack[-1].state = state
        else:
            self.top = state

    def say(self, code: str, span: tuple[int, int], cause: str, do: str, *repair: Splice, safe: bool = False) -> None:
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
        """Go over blanks and comments; tell whether anything is left."""
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

    def _hidden(self, char: str) -> None:
        cause = f"A character that cannot be seen (U+{ord(char):04X}) stands here, and no reader skips it."
        cut = Splice(self.at, self.at + 1, visible(char) if HIDDEN.match(char) else " ")
        self.say("hidden-between", (self.at, self.at + 1), cause, "Delete it and type a plain blank.", cut, safe=True)
        self.at += 1

    def _comment(self) -> bool:
        comment = _COMMENT.match(self.body, self.at)
        if comment is None:
            cause = "This comment is opened and never closed, so it swallows the rest of the file."
            self.say("comment-unclosed", (self.at, self.at + 2), cause, "Write */ where it should end.")
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
            self.say("parent-off", comment.span(), cause, "Take the comment sign away, or take the partner out too.")
            sign = comment[0].rstrip()[-1]
            if sign in "{[" and sign:
                self.state = "comma" if self.stack else "end"
                self.stack.append(Frame(sign, comment.end() - 1))
            return
        cut = Splice(*comment.span(), "")
        cause = "JSON has no comments; the reader stops here."
        self.say("comment-here", comment.span(), cause, "Take the comment out.", cut)

    # --- brackets ---

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
            self.say("name-missing", span, cause, 'Write "name": before it, or make the outer brackets square.')
        elif self.state == "end":
            cause = "The file was over, and here a second object or list begins."
            self.say("two-values", span, cause, "Put both into one list in square brackets, or merge them.")
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

    def close(self, sign: str) -> None:
        """Read a closing bracket; settle whether it is of the wrong kind or another one was forgotten."""
        at = self.at
        self.at += 1
        if not self.stack:
            cause = f"This {sign} closes nothing."
            self.say("bracket-extra", (at, at + 1), cause, "Delete it.", Splice(at, at + 1, ""))
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
            self.say("bracket-wrong", (at, at + 1), cause, f"Write {right} here.", Splice(at, at + 1, right))
        self._end_of(frame, at)
        self.stack.pop()
        self.last_end = self.at
        if not self.stack:
            self.top = "end"

    def _settle_indent(self, sign: str, at: int) -> None:
        """Where a closing bracket begins its line in the column of an outer one, the inner ones were forgotten."""
        column = self._indent(at)
        if column is None:
            return
        while len(self.stack) > 1:
            inner = self._indent_of_line(self.stack[-1].at)
            outer = [frame for frame in self.stack[:-1] if frame.sign == _OPENS[sign]]
            fits = any(self._indent_of_line(frame.at) == column for frame in outer)
            if inner <= column or not fits or one_line(self.body, self.stack[-1].at, at):
                return
            self._unclosed(self.stack[-1], at)
            self.last_end = self.last_end or at
            self.stack.pop()

    def _is_forgotten(self, frame: Frame, sign: str, at: int) -> bool:
        """Tell whether the inner bracket was forgotten, and not this one mistyped."""
        column = self._indent(at)
        if self.stack[-2].sign != _OPENS[sign]:
            return False
        if column is not None:
            return self._indent_of_line(frame.at) != column
        if one_line(self.body, frame.at, at) and not one_line(self.body, self.stack[-2].at, at):
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
            what = f"what begins in line {self._line(noticed)} stands outside it"
        cause = f"This {frame.sign} is never closed; {what}."
        end = frame.comma if frame.comma >= 0 and frame.state in ("key", "value") else self.last_end
        end = frame.comma if self.body[noticed] not in ")]}" and frame.comma >= 0 else end
        end = max(end, frame.at + 1)
        repair = Splice(end, end, sign)
        self.say("bracket-unclosed", (frame.at, frame.at + 1), cause, f"Write {sign} where it should end.", repair)

    def _end_of(self, frame: Frame, at: int) -> None:
        """Look at what stands right before a closing bracket."""
        if frame.comma >= 0 and frame.state in ("key", "value") and frame.key[0] < frame.comma:
            if not self.dialect.last_comma:
                cut = Splice(frame.comma, frame.comma + 1, "")
                cause = "After this comma another item is expected, and none follows."
                self.say("comma-last", (frame.comma, frame.comma + 1), cause, "Delete the comma.", cut, safe=True)
        elif frame.state == "colon" and frame.count >= 0:
            cause = "This is a name without a value."
            self.say("value-missing", frame.key, cause, "Write : and a value behind it.")
        elif frame.state == "value" and frame.sign == "{":
            span = (self.last_end - 1, self.last_end)
            self.say("value-missing", span, "The value is missing here.", "Write a value.")

    # --- signs between ---

    def comma(self, sign: str) -> None:
        """Read a comma, or a semicolon in its place."""
        at, span = self.at, (self.at, self.at + 1)
        self.at += 1
        if not self.stack:
            code = "text-after-end" if self.top == "end" else "comma-extra"
            self.say(code, span, "This comma stands outside all brackets.", "Delete it.", Splice(*span, ""))
            return
        frame = self.stack[-1]
        if sign == ";":
            cause = "Items are parted by a comma, not by a semicolon."
            self.say("separator-wrong", span, cause, "Write a comma.", Splice(*span, ","), safe=True)
        if frame.state == "comma":
            frame.state = "key" if frame.sign == "{" else "value"
        elif frame.state == "colon":
            cause = "In curly brackets every value has a name, and this one has none."
            self.say("name-missing", frame.key, cause, 'Write "name": before it, or make the brackets square.')
            frame.state, frame.count = "key", -1
        elif frame.state == "value" and frame.sign == "{":
            self.say("value-missing", span, "The value is missing before this comma.", "Write a value.")
            frame.state = "key"
        else:
            cause = "There is nothing before this comma."
            self.say("comma-extra", span, cause, "Delete it.", Splice(*span, ""), safe=True)
        frame.comma = at
        self.last_end = self.at

    def colon(self, sign: str) -> None:
        """Read a colon, or an equals sign in its place."""
        span = (self.at, self.at + 1)
        self.at += 1
        if sign == "=":
            if self.body.startswith(">", self.at):
                self.at += 1
            cause = "A name and its value are parted by a colon, not by an equals sign."
            cut = Splice(span[0], self.at, ":")
            self.say("separator-wrong", (span[0], self.at), cause, "Write a colon.", cut, safe=self.state == "colon")
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
                cause = "A name with a value stands in a list; names belong in curly brackets."
                self.say("name-in-list", span, cause, "Put { and } around name and value, or make the brackets curly.")
            self.stack[-1].count = -1
            self.state = "value"
        elif self.state == "comma":
            cause = "A colon follows a value: a comma is missing before the name, or there is one colon too many."
            self.say("separator-wrong", span, cause, "Write a comma, or delete the colon.")
            self.state = "value"
        else:
            self.say("separator-wrong", span, "This colon belongs to nothing.", "Delete it.", Splice(*span, ""))

    def _is_name_outside(self) -> bool:
        """Tell whether a name with its colon stands in a list that was forgotten to be closed."""
        if len(self.stack) < 2 or self.stack[-1].sign != "[" or self.stack[-2].sign != "{" or self.state != "comma":
            return False
        column = self._indent(self.last_start)
        return column is not None and column <= self._indent_of_line(self.stack[-1].at)

    def _missing_comma(self) -> None:
        end = self.last_end
        cause = "A comma is missing here, behind the item that ends."
        self.say("comma-missing", (end, end + 1), cause, "Write a comma.", Splice(end, end, ","), safe=True)
        self.state = "key" if self.stack and self.stack[-1].sign == "{" else "value"
        if self.stack:
            self.stack[-1].comma = end

    def _missing_colon(self) -> None:
        start, end = self.stack[-1].key
        cause = "The colon between this name and its value is missing."
        self.say(
            "colon-missing", (start, end), cause, "Write a colon behind the name.", Splice(end, end, ":"), safe=True
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
        from roundgate.core.formats.json_words import read_scalar

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
        self.say("number-form", span, "A number has a point, not a comma.", f"Write {meant}.", Splice(*span, meant))
        self.stack[-1].state, self.stack[-1].comma = "comma", -1
        self.at = self.last_end = digits.end()
        return True

    def _after_end(self) -> None:
        end = self.body.find("\n", self.at)
        end = len(self.body.rstrip()) if end < 0 else end
        cause = "The file was over, and here something follows."
        span = (self.at, max(self.at + 1, min(end, len(self.body))))
        self.say("text-after-end", span, cause, "Delete it, or put it inside the brackets.")
        self.top = "over"

    # --- the end ---

    def finish(self) -> None:
        """Say which brackets are still open."""
        if not self.stack:
            if self.top == "value" and not self.found:
                self.say("value-missing", (0, 1), "There is no value in the file.", "Restore the file from a backup.")
            return
        frame = self.stack[-1]
        around = len(self.stack) - 1
        more = "" if not around else " So is the one around it." if around == 1 else f" So are the {around} around it."
        cause = f"This {frame.sign} is opened and never closed.{more}"
        signs = "".join(_CLOSES[one.sign] for one in reversed(self.stack))
        end = len(self.body.rstrip())
        do = f"Write {signs} at the end, or where it should end."
        self.say("bracket-unclosed", (frame.at, frame.at + 1), cause, do, Splice(end, end, self._closing(signs)))
        self._end_of(frame, end)

    def _closing(self, signs: str) -> str:
        has_lines = LINE_END.search(self.body.strip()) is not None
        newline = LINE_END.search(self.body)
        return (newline.group() if newline and has_lines else "") + signs

    # --- places ---

    def _line(self, index: int) -> int:
        return self.body.count("\n", 0, index) + 1

    def _line_start(self, index: int) -> int:
        return line_start(self.body, index)

    def _indent(self, index: int) -> int | None:
        """Give the column of what begins its line, None for what does not."""
        start = self._line_start(index)
        return None if self.body[start:index].strip(" \t") else index - start

    def _indent_of_line(self, index: int) -> int:
        start = self._line_start(index)
        blank = re.compile(r"[ \t]*").match(self.body, start)
        return (blank.end() if blank else start) - start
