"""Reading TOML files: what stands where, and what it says. ``toml`` edits them."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator, Sequence
from functools import cached_property

from roundgate.core.formats.protocol import USUAL, Dialect, EditRefused, Entry, Path
from roundgate.core.formats.shared.gc_paused import gc_paused
from roundgate.core.formats.toml.spans import Child, Statement, Value, children, statements
from roundgate.core.formats.toml.writer import (
    Tree,
)
from roundgate.core.patterns import lazy
from roundgate.core.text import Text

_OFF = lazy(
    r"^[ \t]*(?P<mark>#[ \t]?)(?P<key>[A-Za-z0-9_.-]+|\"[^\"\\\r\n]*\"|'[^'\r\n]*')"
    r"(?P<sep>[ \t]*=[ \t]*)(?P<value>[^\r\n]+?)[ \t]*$",
    re.M,
)


class TomlError(ValueError):
    """The text is no TOML; ``at`` is where the reader gave up."""

    def __init__(self, what: str, at: int) -> None:
        """Keep what the reader said, and where."""
        super().__init__(what)
        self.at = at


_DEEPEST = 300
_DEEP_KEY = lazy(rf"(?<![\w\-.])(?:(?:[\w\-]++|\"[^\"\n]*+\"|'[^'\n]*+')[ \t]*+\.[ \t]*+){{{_DEEPEST}}}")
"""A key of so many parts."""


def read_tree(body: str) -> Tree:
    """Return what a TOML text says, decimals as the bytes of their digits. Raises TomlError."""
    # A key is on one line, and so many parts with their dots make it long: most files need no search.
    longest = max(map(len, body.split("\n")))
    deep = _DEEP_KEY.search(body) if longest >= 2 * _DEEPEST else None
    if deep:  # the library takes time and memory with the square of a key's parts
        raise TomlError("too deep", deep.start())
    try:
        with gc_paused():
            return tomllib.loads(body, parse_float=str.encode)
    except tomllib.TOMLDecodeError as error:
        shown = str(error)
        place = re.search(r"\(at line (\d+), column (\d+)\)", shown)
        at = _index(body, int(place[1]), int(place[2])) if place else len(body)
        raise TomlError(shown.split(" (at ")[0], at) from error
    except ValueError as error:  # Python reads no whole number of more than some thousand digits
        found = re.search(r"[0-9][0-9_]{4000,}", body)
        raise TomlError("too long", found.start() if found else 0) from error
    except RecursionError as error:
        raise TomlError("too deep", 0) from error


def _index(body: str, line: int, column: int) -> int:
    """Return the index of a place as the standard library counts it: carriage returns before line feeds left out."""
    at = 0
    for _ in range(line - 1):
        at = body.find("\n", at) + 1
    return min(at + column - 1, len(body))


def _steps(key: str) -> Path:
    return (key[1:-1],) if key[:1] in "\"'" else tuple(key.split("."))


class TomlReading:
    """A TOML file, read: what stands where."""

    def __init__(self, text: Text, dialect: Dialect = USUAL) -> None:
        """Read ``text``; nothing is parsed before it is asked for."""
        self.text = text
        self.dialect = dialect

    @cached_property
    def _result(self) -> Tree | TomlError:
        try:
            return read_tree(self.text.body)
        except TomlError as error:
            return error

    @property
    def error(self) -> TomlError | None:
        """Why the text is no TOML, or None where it is."""
        return self._result if isinstance(self._result, TomlError) else None

    def plain(self) -> Tree:
        """Return the tables. Raises EditRefused where the text is no TOML."""
        if isinstance(self._result, TomlError):
            raise EditRefused("the file has mistakes; fix them first (roundgate check)")
        return self._result

    @cached_property
    def statements(self) -> list[Statement]:
        """Every heading and ``key = value``, in order. Raises EditRefused where the text is no TOML."""
        self.plain()
        with gc_paused():
            return list(statements(self.text.body))

    def resolve(self, key: str) -> Path:
        """Read a path as people write it."""
        from roundgate.core.formats.shared.paths import parse_path

        return parse_path(key)

    # --- what stands there ---

    def entries(self) -> Sequence[Entry]:
        """Return every value that holds no other; an empty array or inline table is one."""
        if self.error:
            return []
        found: list[Entry] = []
        for statement in self.statements:
            if statement.value is not None:
                key = (statement.spans[0][0], statement.spans[-1][1])
                found += self._walk(statement.path, key, statement.value)
        return found

    def _walk(self, path: Path, key: tuple[int, int], value: Value) -> Iterator[Entry]:
        inner = list(children(self.text.body, value)) if value.kind in ("list", "map") else []
        if not inner:
            yield self._entry(path, key, value)
        for child in inner:
            yield from self._walk((*path, *child.steps), (child.key_start, child.key_end), child.value)

    def _entry(self, path: Path, key: tuple[int, int], value: Value) -> Entry:
        raw = self.text.body[value.start : value.end]
        shown = str(tomllib.loads(f"x = {raw}")["x"]) if value.kind == "text" else raw
        return Entry(path, shown, *key, value.start, value.end, value.kind)

    def find(self, path: Path) -> Entry | None:
        """Return what stands at a path, or None; None too where the file cannot be read."""
        if self.error:
            return None
        way = self._way(path)
        if way:
            child = way[-1]
            return self._entry(path, (child.key_start, child.key_end), child.value)
        head = self._heading(path)
        if head is None:
            return None
        return Entry(path, "", *head.spans[-1], head.start, head.end, "map")

    def _way(self, path: Path) -> list[Child]:
        """Return the value of a path, with the arrays and inline tables that lead to it; empty where there is none."""
        for statement in self.statements:
            if statement.value is not None and path[: len(statement.path)] == statement.path:
                child = Child(statement.path, statement.spans[0][0], statement.spans[-1][1], statement.value)
                way = self._inside([child], path[len(statement.path) :])
                if way:
                    return way
        return []

    def _inside(self, way: list[Child], rest: Path) -> list[Child]:
        if not rest:
            return way
        if way[-1].value.kind not in ("list", "map"):
            return []
        for child in children(self.text.body, way[-1].value):
            if rest[: len(child.steps)] == child.steps:
                found = self._inside([*way, child], rest[len(child.steps) :])
                if found:
                    return found
        return []

    def _heading(self, path: Path) -> Statement | None:
        return next(
            (statement for statement in self.statements if statement.value is None and statement.table == path), None
        )

    def switched_off(self) -> Sequence[Entry]:
        """Return ``# key = value`` lines: what stands commented out in each table."""
        found = []
        heads = [] if self.error else [statement for statement in self.statements if statement.value is None]
        for off in _OFF.finditer(self.text.body.replace("\r", " ")):
            above = [head for head in heads if head.start < off.start()]
            path: Path = (*(above[-1].table if above else ()), *_steps(off["key"]))
            found.append(Entry(path, off["value"].strip("\"'"), *off.span("key"), *off.span("value")))
        return found
