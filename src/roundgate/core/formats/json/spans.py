"""Where the names and values of a JSON text are, found on demand: the decoder skips over what nobody asked for."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator, Sequence
from functools import cached_property
from typing import NamedTuple

from roundgate.core.formats.json.reader import DECODER, Doubles, JsonError, decoded, no_constant, strict_form
from roundgate.core.formats.protocol import USUAL, Dialect, EditRefused, Entry, EntryKind, Path
from roundgate.core.formats.shared import trees
from roundgate.core.formats.shared.gc_paused import gc_paused
from roundgate.core.patterns import lazy
from roundgate.core.text import Text

_BLANK = lazy(r"[ \t\r\n]*")
_KEY = lazy(r'[ \t\r\n]*("(?:[^"\\]|\\.)*")[ \t\r\n]*:[ \t\r\n]*')
_NEXT = lazy(r"[ \t\r\n]*([,\]}])")
_LENIENT: Callable[[str], str] = json.JSONDecoder(strict=False).decode
_COMMENT = r"//[^\r\n]*|/\*(?:[^*\r\n]|\*(?!/))*\*/"
_KINDS: dict[str, EntryKind] = {'"': "text", "{": "map", "[": "list", "t": "bool", "f": "bool", "n": "null"}


_TOKEN = lazy(
    r'[ \t\r\n,]*+(?:("(?:[^"\\]|\\.)*+")[ \t\r\n]*+:[ \t\r\n]*+)?'
    r'(?:("(?:[^"\\]|\\.)*+"|[^\s,:\[\]{}"]++)|([\[\]{}])|\Z)',
    re.DOTALL,
)
"""A value with its name, or a bracket, with what comes before it; at the end, spaces alone.

It matches at every place where it is tried, so that a long run of spaces is passed once.
"""


class _Names(dict[str, str]):
    """Names as they are written, to what they say; most of them come again and again."""

    def __missing__(self, raw: str) -> str:
        name = self[raw] = _text(raw)
        return name


class Child(NamedTuple):
    """One member of a map or item of a list: its name or number, and the spans of name and value."""

    step: str | int
    key_start: int
    key_end: int
    start: int
    end: int


class JsonReading:
    """A JSON file, read: what it says, and where each part of it is."""

    def __init__(self, text: Text, dialect: Dialect = USUAL) -> None:
        """Read ``text``; nothing is decoded before it is asked for."""
        self.text = text
        self.dialect = dialect
        self.strict = strict_form(text.body, dialect)
        self._has_doubles = False

    @cached_property
    def _result(self) -> trees.Tree | JsonError:
        return self._decoded(keep=True)

    @cached_property
    def _verdict(self) -> JsonError | None:
        found = self._decoded(keep=False)
        return found if isinstance(found, JsonError) else None

    def _decoded(self, *, keep: bool) -> trees.Tree | JsonError:
        doubles = Doubles()
        hook = doubles.members if keep else doubles.nothing
        decoder = json.JSONDecoder(
            object_pairs_hook=hook, parse_float=str.encode, parse_int=str.encode, parse_constant=no_constant
        )
        try:
            tree = decoded(self.strict, decoder)
        except JsonError as error:
            return error
        self._has_doubles = doubles.found
        return tree

    @property
    def has_doubles(self) -> bool:
        """Whether any map has a name twice; False where the text is no JSON."""
        return self.error is None and self._has_doubles

    @property
    def error(self) -> JsonError | None:
        """Why the text is no JSON, or None where it is."""
        if "_result" not in self.__dict__:
            return self._verdict
        return self._result if isinstance(self._result, JsonError) else None

    def plain(self) -> trees.Tree:
        """Return the tree. Raises EditRefused where the text is no JSON."""
        if isinstance(self._result, JsonError):
            raise EditRefused("the file has mistakes; fix them first (roundgate check)")
        return self._result

    def resolve(self, key: str) -> Path:
        """Read a path as people write it."""
        from roundgate.core.formats.shared.paths import parse_path

        return parse_path(key)

    # --- spans ---

    def children(self, start: int) -> Iterator[Child]:
        """Yield the members or items of the map or list that begins at ``start``, in order, duplicates included."""
        body = self.strict
        is_map, at, number = body[start] == "{", start + 1, 0
        while not (closing := _NEXT.match(body, at)) or closing[1] == ",":
            at = closing.end() if closing else at
            key = _KEY.match(body, at) if is_map else None
            if key:
                step: str | int = _text(key[1])
                key_start, key_end, at = key.start(1), key.end(1), key.end()
            else:
                blank = _BLANK.match(body, at)
                at = blank.end() if blank else at
                step, key_start, key_end = number, at, at
            end = DECODER.scan_once(body, at)[1]
            yield Child(step, key_start, key_end, at, end)
            at, number = end, number + 1

    def _root(self) -> Child:
        self.plain()
        blank = _BLANK.match(self.strict)
        start = blank.end() if blank else 0
        return Child("", start, start, start, len(self.strict.rstrip(" \t\r\n")))

    def locate(self, path: Path) -> Child | None:
        """Find the spans of the value that counts at a path; of equal names the last one."""
        with gc_paused():  # what is passed over is decoded and thrown away at once
            return self._located(path)

    def _located(self, path: Path) -> Child | None:
        here = self._root()
        for step in path:
            if self.strict[here.start] not in "{[":
                return None
            found = None
            for child in self.children(here.start):
                if child.step == step and isinstance(step, int) == (self.strict[here.start] == "["):
                    found = child
                    if isinstance(step, int) or not self.has_doubles:
                        break
            if found is None:
                return None
            here = found
        return here

    def _entry(self, path: Path, child: Child) -> Entry:
        raw = self.strict[child.start : child.end]
        kind = _KINDS.get(raw[:1], "number")
        value = _text(raw) if kind == "text" else self.text.body[child.start : child.end]
        return Entry(path, value, *child[1:], kind)

    def entries(self) -> Sequence[Entry]:
        """Return every value that holds no other; an empty list or map is one."""
        if self.error:
            return []
        with gc_paused():  # there may be very many, and none of them is waste
            return self._all_entries()

    def _all_entries(self) -> list[Entry]:
        """Read every value in one pass over the text, which is known to be right."""
        shown, make, known = self.text.body, Entry._make, _Names()
        found: list[Entry] = []
        path: Path = ()
        is_list, count = False, 0
        above: list[tuple[Path, bool, int, int, int, int]] = []
        for token in _TOKEN.finditer(self.strict):
            key, value, sign = token.groups()
            if value is None and sign is None:
                break
            if sign == "]" or sign == "}":
                parent, was_list, number, key_start, key_end, start = above.pop()
                if not count and path:
                    end = token.end()
                    found.append(make((path, shown[start:end], key_start, key_end, start, end, _KINDS[shown[start]])))
                path, is_list, count = parent, was_list, number
                continue
            start = token.start(2) if value is not None else token.start(3)
            if key is not None:
                inner: Path = (*path, known[key])
                key_start, key_end = token.span(1)
            else:
                inner = (*path, count) if is_list else ()
                key_start = key_end = start
            count += 1
            if sign is not None:
                above.append((path, is_list, count, key_start, key_end, start))
                path, is_list, count = inner, sign == "[", 0
            elif inner:
                end = token.end()
                if value[0] == '"':
                    text = value[1:-1] if "\\" not in value else _text(value)
                    found.append(make((inner, text, key_start, key_end, start, end, "text")))
                else:
                    kind = _KINDS.get(value[0], "number")
                    found.append(make((inner, shown[start:end], key_start, key_end, start, end, kind)))
        return found

    def find(self, path: Path) -> Entry | None:
        """Return what stands at a path, or None; None too where the file cannot be read."""
        if isinstance(self._result, JsonError):
            return None
        child = self.locate(path)
        return self._entry(path, child) if child else None

    def switched_off(self) -> Sequence[Entry]:
        """Return nothing: JSON has no comments, and in dialects a comment may be anything."""
        return ()


def _text(raw: str) -> str:
    return raw[1:-1] if "\\" not in raw else _LENIENT(raw)
