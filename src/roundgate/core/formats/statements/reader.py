"""Reading files of statements: ``key = value;``, lists in braces, ``class NAME { };`` blocks, ``//`` and ``/* */``.

A tokenizer goes through the text once and notes where every key and value is; it stops at the first mistake. A
value is a text in double quotes (a quote in it is written twice), a list in braces, or whatever is before the ``;``.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import NamedTuple

from roundgate.core.formats.protocol import USUAL, Dialect, EditRefused, Entry, EntryKind, Path
from roundgate.core.formats.shared.common_problems import CURLY
from roundgate.core.formats.shared.scalars import is_number
from roundgate.core.patterns import lazy
from roundgate.core.text import Text

_SKIP = lazy(r"(?:[\s\ufeff]+|//[^\r\n]*|/\*.*?\*/|#[^\r\n]*)+", re.DOTALL)
_TEXT = lazy(r'"(?:[^"\r\n]|"")*"')
_NAME = lazy(r"[A-Za-z_]\w*")
_CLASS = lazy(r"class(?=[\s/])")
_BARE = lazy(rf"[^;{{}}\"\r\n,={CURLY}]+")
DEEPEST = 100


class StatementError(ValueError):
    """The text is not a file of statements; ``at`` is where the reader gave up."""

    def __init__(self, what: str, at: int) -> None:
        """Keep what was expected, and where."""
        super().__init__(what)
        self.at = at


class Value(NamedTuple):
    """One value: its span, its kind, and the items of a list."""

    start: int
    end: int
    kind: EntryKind
    items: tuple[Value, ...] = ()


class Statement(NamedTuple):
    """One ``key = value;`` or one class: its path, the spans of the whole, its name and its value."""

    path: Path
    start: int
    end: int
    key_start: int
    key_end: int
    value: Value | None
    """None for a class."""
    inner: int = 0
    """Of a class: the index after its opening brace."""
    close: int = 0
    """Of a class: the index of its closing brace."""


class Reader:
    """Reads a text from its beginning. Raises StatementError at the first mistake."""

    def __init__(self, body: str) -> None:
        """Begin at the text's start."""
        self.body = body
        self.at = 0
        self.found: list[Statement] = []

    def read(self) -> list[Statement]:
        """Return every statement and class, in the order of the file. Raises StatementError."""
        self._statements((), depth=0)
        if self.at < len(self.body):
            raise StatementError("statement", self.at)
        return self.found

    def _skip(self) -> None:
        blank = _SKIP.match(self.body, self.at)
        self.at = blank.end() if blank else self.at

    def _take(self, sign: str, what: str) -> None:
        self._skip()
        if not self.body.startswith(sign, self.at):
            raise StatementError(what, self.at)
        self.at += len(sign)

    def _statements(self, home: Path, depth: int) -> None:
        if depth > DEEPEST:
            raise StatementError("too deep", self.at)
        while True:
            self._skip()
            if self.at >= len(self.body) or self.body[self.at] == "}":
                return
            start = self.at
            if _CLASS.match(self.body, start):
                self._class(home, start, depth)
                continue
            name = _NAME.match(self.body, start)
            if name is None:
                raise StatementError("statement", start)
            self.at = name.end()
            if self.body.startswith("[]", self.at):
                self.at += 2
            self._take("=", "equals")
            self._skip()
            value = self._value(depth)
            self._take(";", "semicolon")
            self.found.append(Statement((*home, name[0]), start, self.at, *name.span(), value))

    def _class(self, home: Path, start: int, depth: int) -> None:
        self.at += len("class")
        self._skip()
        name = _NAME.match(self.body, self.at)
        if name is None:
            raise StatementError("class", self.at)
        self.at = name.end()
        self._skip()
        if self.body.startswith(":", self.at):
            self.at += 1
            self._skip()
            parent = _NAME.match(self.body, self.at)
            self.at = parent.end() if parent else self.at
        self._take("{", "brace")
        inner, number = self.at, len(self.found)
        self._statements((*home, name[0]), depth + 1)
        close = self.at
        self._take("}", "closing")
        self._take(";", "semicolon")
        self.found.insert(number, Statement((*home, name[0]), start, self.at, *name.span(), None, inner, close))

    def _value(self, depth: int) -> Value:
        start = self.at
        if self.body.startswith("{", start):
            return self._list(depth)
        if self.body.startswith('"', start):
            text = _TEXT.match(self.body, start)
            if text is None:
                raise StatementError("quote", start)
            self.at = text.end()
            return Value(*text.span(), "text")
        bare = _BARE.match(self.body, start)
        raw = bare[0].split("//")[0].split("/*")[0].rstrip() if bare else ""
        if not raw:
            raise StatementError("value", start)
        self.at = start + len(raw)
        kind: EntryKind = "number" if is_number(raw) else "bool" if raw.lower() in ("true", "false") else "code"
        return Value(start, self.at, kind)

    def _list(self, depth: int) -> Value:
        if depth > DEEPEST:
            raise StatementError("too deep", self.at)
        start, items = self.at, list[Value]()
        self.at += 1
        while True:
            self._skip()
            if self.body.startswith("}", self.at):
                break
            items.append(self._value(depth + 1))
            self._skip()
            if not self.body.startswith(",", self.at):
                break
            self.at += 1
        self._take("}", "closing")
        return Value(start, self.at, "list", tuple(items))


class StatementsReading:
    """A file of statements, read: what is where, and what it says."""

    def __init__(self, text: Text, dialect: Dialect = USUAL) -> None:
        """Read ``text``; nothing is looked at before it is asked for."""
        self.text = text
        self.dialect = dialect

    @cached_property
    def _result(self) -> list[Statement] | StatementError:
        try:
            return Reader(self.text.body).read()
        except StatementError as error:
            return error

    @property
    def error(self) -> StatementError | None:
        """Why the text cannot be read, or None."""
        return self._result if isinstance(self._result, StatementError) else None

    @property
    def statements(self) -> list[Statement]:
        """Every statement and class in order. Raises EditRefused where the text cannot be read."""
        if isinstance(self._result, StatementError):
            raise EditRefused("the file has mistakes; fix them first (roundgate check)")
        return self._result

    def plain(self) -> list[tuple[Path, str]]:
        """Return every path with its raw value, a list's items each; a class and an empty list with their brackets."""
        return [pair for statement in self.statements for pair in self._plain(statement)]

    def _plain(self, statement: Statement) -> Iterator[tuple[Path, str]]:
        if statement.value is None:
            yield (statement.path, "class")
        else:
            yield from self.plain_value(statement.path, statement.value)

    def plain_value(self, path: Path, value: Value) -> Iterator[tuple[Path, str]]:
        """Yield the pairs of one value."""
        if value.kind != "list":
            yield (path, self.text.body[value.start : value.end])
            return
        yield (path, "{}")
        for number, item in enumerate(value.items):
            yield from self.plain_value((*path, number), item)

    def resolve(self, key: str) -> Path:
        """Read a path as people write it: ``Harbour.slots``, ``motd[0]``."""
        from roundgate.core.formats.shared.paths import parse_path

        return parse_path(key.replace("[]", ""))

    # --- what is there ---

    def statement(self, path: Path) -> Statement | None:
        """Return the last statement or class of a path, or None."""
        return next((statement for statement in reversed(self.statements) if statement.path == path), None)

    def value_at(self, path: Path) -> tuple[Statement, Value] | None:
        """Return the statement that holds a value, and the value itself; None for a class and for what is not there."""
        for length in range(len(path), 0, -1):
            statement = self.statement(path[:length])
            if statement is not None and statement.value is not None:
                value: Value | None = statement.value
                for step in path[length:]:
                    fits = value is not None and isinstance(step, int) and 0 <= step < len(value.items)
                    value = value.items[step] if fits and value is not None and isinstance(step, int) else None
                return (statement, value) if value is not None else None
        return None

    def _entry(self, path: Path, statement: Statement, value: Value) -> Entry:
        raw = self.text.body[value.start : value.end]
        is_item = len(path) > len(statement.path)
        key = (value.start, value.start) if is_item else (statement.key_start, statement.key_end)
        if value.kind == "text":
            return Entry(path, raw[1:-1].replace('""', '"'), *key, value.start + 1, value.end - 1, "text")
        return Entry(path, raw, *key, value.start, value.end, value.kind)

    def entries(self) -> Sequence[Entry]:
        """Return every value that is not a list with items, in order."""
        if self.error:
            return []
        return [
            entry
            for statement in self.statements
            if statement.value
            for entry in self._entries(statement.path, statement, statement.value)
        ]

    def _entries(self, path: Path, statement: Statement, value: Value) -> Iterator[Entry]:
        if not value.items:
            yield self._entry(path, statement, value)
        for number, item in enumerate(value.items):
            yield from self._entries((*path, number), statement, item)

    def find(self, path: Path) -> Entry | None:
        """Return the value that counts for a path, a list or a class too, or None."""
        if self.error or not path:
            return None
        found = self.value_at(path)
        if found:
            return self._entry(path, *found)
        statement = self.statement(path)
        if statement is None:
            return None
        body = self.text.body[statement.inner : statement.close]
        return Entry(path, body, statement.key_start, statement.key_end, statement.inner, statement.close, "map")


def read_plainly(body: str) -> list[tuple[Path, str]] | None:
    """Read character by character, sharing nothing with the reader above: paths and raw values; None where it fails."""
    tokens = _tokens(body)
    found: list[tuple[Path, str]] = []
    home: list[str] = []
    at = 0
    while at < len(tokens):
        word = tokens[at]
        if word == "}" and home and tokens[at + 1 : at + 2] == [";"]:
            home.pop()
            at += 2
        elif word == "class" and "{" in tokens[at + 2 : at + 5]:
            home.append(tokens[at + 1])
            found.append((tuple(home), "class"))
            at = tokens.index("{", at) + 1
        elif tokens[at + 1 : at + 2] == ["="]:
            end = _plain_value(tokens, at + 2, (*home, word.removesuffix("[]")), found)
            if end < 0 or tokens[end : end + 1] != [";"]:
                return None
            at = end + 1
        else:
            return None
    return found if not home else None


def _plain_value(tokens: Sequence[str], at: int, path: Path, found: list[tuple[Path, str]]) -> int:
    """Read one value; return the number of the word after it, -1 where it is none."""
    if tokens[at : at + 1] != ["{"]:
        parts = []
        while at < len(tokens) and tokens[at] not in (";", ",", "{", "}", "="):
            parts.append(tokens[at])
            at += 1
        found.append((path, " ".join(parts)))
        return at if parts else -1
    found.append((path, "{}"))
    at, number = at + 1, 0
    while at < len(tokens) and tokens[at] != "}":
        at = _plain_value(tokens, at, (*path, number), found)
        if at < 0 or tokens[at : at + 1] not in ([","], ["}"]):
            return -1
        at, number = at + (tokens[at] == ","), number + 1
    return at + 1 if at < len(tokens) else -1


def _tokens(body: str) -> list[str]:
    """Return the tokens of a text, comments left out."""
    tokens: list[str] = []
    word, at = "", 0
    while at < len(body):
        char = body[at]
        if char == '"':
            end = at + 1
            while end < len(body) and (body[end] != '"' or body[end : end + 2] == '""'):
                end += 2 if body[end] == '"' else 1
            word, at = word + body[at : end + 1], end + 1
            continue
        comment = body.startswith("//", at) or char == "#"
        if comment or body.startswith("/*", at):
            signs, length = (("\r", "\n"), 0) if comment else (("*/",), 2)
            ends = [body.find(sign, at + length) for sign in signs]
            at = min((end + length for end in ends if end >= 0), default=len(body))
            char = " "
        else:
            at += 1
        if char.isspace() or char == "\ufeff" or char in ";,{}=":
            tokens += [word] if word else []
            tokens += [char] if char in ";,{}=" else []
            word = ""
        else:
            word += char
    return tokens + ([word] if word else [])
