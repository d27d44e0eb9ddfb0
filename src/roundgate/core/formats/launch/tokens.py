"""The words of a start script: where each stands, what it is without its quotes, and which commands they make."""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Iterator
from typing import NamedTuple

from roundgate.core.patterns import lazy

_SH_PART = lazy(
    r"'[^']*'|\"(?:[^\"\\]|\\.)*\"|\\(?:\r\n|.)|\$\((?:[^()]|\((?:[^()]|\([^()]*\))*\))*\)|`[^`]*`|\$\{[^}\r\n]{0,1000}\}"
    r"|[^\s'\"\\;&|<>()$`]+|\$",
    re.S,
)
_SH_BLANK = lazy(r"(?:[ \t]|\\\r?\n)+")
_SH_OPERATOR = lazy(r"[;&|()]+|[0-9]*[<>]+&?[0-9\-]?")
_BAT_PART = lazy(r"\"[^\"\r\n]*\"?|\^(?!\r?\n)[^\r\n]|[^\s\"&|<>^()]+|[()](?=\S)")
_BAT_BLANK = lazy(r"(?:[ \t]|\^\r?\n)+")
_BAT_OPERATOR = lazy(r"[&|]+|[0-9]?[<>]+&?[0-9]?|[()]|\^")
_BAT_COMMENT = lazy(r"[ \t@]*(?:rem\b|::)[^\r\n]*", re.IGNORECASE)
_HERE = lazy(r"<<-?[ \t]*(['\"]?)(\w+)\1")
_LINE = lazy(r"\r\n|\r|\n")


class Word(NamedTuple):
    """One word: its span, what it is without quotes, and whether it is a target of a redirection."""

    start: int
    end: int
    value: str
    is_target: bool = False


class Command(NamedTuple):
    """The words of one command, and where the command ends."""

    words: tuple[Word, ...]
    end: int


def is_batch(body: str) -> bool:
    """Return whether a script is one for Windows."""
    if body.lstrip().startswith("#!"):
        return False
    return (
        re.search(
            r"^[ \t]*@?(?:echo[ \t]+off|rem\b|setlocal|title\b|start[ \t]|set[ \t]+\"?\w+=|::)|%\w+%|\^\r?$",
            body,
            re.I | re.M,
        )
        is not None
    )


def commands(body: str, *, batch: bool) -> list[Command]:
    """Return every command of a script, in order; one without words is left out."""
    return [command for command in (_batch(body) if batch else _shell(without_documents(body))) if command.words]


def without_documents(body: str) -> str:
    """Space out texts that a script feeds to a command with ``<<WORD``; the script keeps its length."""
    if "<<" not in body:
        return body
    lines = body.splitlines(keepends=True)
    ends: dict[str, list[int]] = {}
    for number, line in enumerate(lines):
        ends.setdefault(line.strip(" \t\r\n"), []).append(number)
    at = 0
    while at < len(lines):
        opened = _HERE.search(lines[at])
        after = ends.get(opened[2], []) if opened else []
        where = bisect_right(after, at)
        if where < len(after):  # without its end it is not text that is fed to a command
            for number in range(at + 1, after[where]):
                lines[number] = re.sub(r"[^\r\n]", " ", lines[number])
            at = after[where]
        at += 1
    return "".join(lines)


def _shell(body: str) -> Iterator[Command]:
    words: list[Word] = []
    at, target = 0, False
    while at < len(body):
        blank = _SH_BLANK.match(body, at)
        if blank:
            at = blank.end()
            continue
        ending = _LINE.match(body, at)
        if ending or body[at] == "#":
            yield Command(tuple(words), at)
            words, target = [], False
            following = _LINE.search(body, at)
            at = following.end() if following else len(body)
            continue
        operator = _SH_OPERATOR.match(body, at)
        if operator:
            if "<" in operator[0] or ">" in operator[0]:
                target = not operator[0][-1].isdigit() and operator[0][-1] != "-"
            else:
                yield Command(tuple(words), at)
                words, target = [], False
            at = operator.end()
            continue
        end = _word_end(body, at)
        array = re.fullmatch(r"[A-Za-z_]\w*\+?=", body[at:end]) and body[end : end + 1] == "("
        if array:
            close = _array_end(body, end)
            words.append(Word(at, close, body[at:close]))
            at = close
            continue
        words.append(Word(at, end, plain_shell(body[at:end]), target))
        at, target = end, False
    yield Command(tuple(words), len(body))


def _word_end(body: str, at: int) -> int:
    start = at
    while at < len(body):
        if body.startswith(("${", "$("), at):
            at = _expansion_end(body, at)
            continue
        part = _SH_PART.match(body, at)
        if part is None or (part[0][0] == "\\" and part[0][1:] in ("\n", "\r\n")):
            break
        at = part.end()
    return max(at, start + 1)


_OPENS = lazy(r"\$?[({]|[)}]|'[^']*'|\\.|\n", re.DOTALL)
_DEEPEST_EXPANSION = 20


def _expansion_end(body: str, at: int) -> int:
    """Return end of ``${...}`` or ``$(...)`` with all that is inside; just after the sign where it is not closed."""
    stack: list[str] = []
    for part in _OPENS.finditer(body, at):
        sign = part[0][-1]
        if part[0] == "\n" or len(stack) > _DEEPEST_EXPANSION:
            break
        if sign in "({" and (part[0][0] == "$" or stack):
            stack.append(")" if sign == "(" else "}")
        elif stack and sign == stack[-1] and len(part[0]) == 1:
            stack.pop()
            if not stack:
                return part.end()
    return at + 2


def _array_end(body: str, at: int) -> int:
    """Return the end of ``NAME=( ... )``, from its opening bracket on."""
    inside = at + 1
    while inside < len(body) and body[inside] != ")":
        if body[inside] == "#" and body[inside - 1].isspace():
            line = _LINE.search(body, inside)
            inside = line.end() if line else len(body)
            continue
        part = _SH_PART.match(body, inside)
        inside = part.end() if part else inside + 1
    return min(inside + 1, len(body))


def array_words(body: str, word: Word) -> list[Word]:
    """Return the words of ``NAME=( ... )``."""
    begun = body.index("(", word.start) + 1
    inner = body[begun : word.end - 1]
    return [
        Word(begun + word.start, begun + word.end, word.value) for command in _shell(inner) for word in command.words
    ]


def split_words(body: str, start: int, end: int) -> list[Word]:
    """Return the words of a variable's value, as a shell splits it: by spaces, quotes being letters like any other."""
    return [
        Word(start + match.start(), start + match.end(), match[0]) for match in re.finditer(r"\S+", body[start:end])
    ]


def plain_shell(raw: str) -> str:
    """Undo the quotes and escapes of a word; variables stay as they are."""
    if not re.search(r"['\"\\]", raw):
        return raw
    pieces, at = [], 0
    while at < len(raw):
        char = raw[at]
        if char == "'":
            end = raw.find("'", at + 1)
            end = len(raw) if end < 0 else end
            pieces.append(raw[at + 1 : end])
            at = end + 1
        elif char == '"':
            found = re.compile(r'"((?:[^"\\]|\\.)*)("|\Z)', re.S).match(raw, at)
            inner = found[1] if found else raw[at + 1 :]
            pieces.append(re.sub(r'\\(["\\$`])|\\\n', lambda match: match[1] or "", inner))
            at = found.end() if found else len(raw)
        elif char == "\\":
            pieces.append(raw[at + 1 : at + 2])
            at += 2
        else:
            pieces.append(char)
            at += 1
    return "".join(pieces)


def _batch(body: str) -> Iterator[Command]:
    words: list[Word] = []
    at, target, at_line = 0, False, True
    while at < len(body):
        comment = _BAT_COMMENT.match(body, at) if at_line else None
        if comment:
            at = comment.end()
        at_line = False
        blank = _BAT_BLANK.match(body, at)
        ending = _LINE.match(body, at)
        if blank:
            at = blank.end()
        elif ending:
            yield Command(tuple(words), at)
            words, target, at_line = [], False, True
            at = ending.end()
        elif at < len(body):
            end = _batch_word_end(body, at)
            if end > at:
                words.append(Word(at, end, body[at:end].replace('"', ""), target))
                at, target = end, False
                continue
            operator = _BAT_OPERATOR.match(body, at)
            target = bool(operator and ("<" in operator[0] or ">" in operator[0]))
            if not target:
                yield Command(tuple(words), at)
                words = []
            at = operator.end() if operator else at + 1
    yield Command(tuple(words), len(body))


def _batch_word_end(body: str, at: int) -> int:
    while at < len(body):
        part = _BAT_PART.match(body, at)
        if part is None:
            break
        at = part.end()
    return at
