"""Decoding JSON by the C decoder of the standard library, what a dialect reads over blanked out before."""

from __future__ import annotations

import json
import re
from typing import Any

from roundgate.core.formats.protocol import Dialect
from roundgate.core.formats.shared import trees
from roundgate.core.formats.shared.gc_paused import gc_paused
from roundgate.core.patterns import lazy

DEEPEST = 400


_LOOSE = lazy(
    r'"(?:[^"\\\r\n]|\\.)*"|(?P<comment>//[^\r\n]*|/\*(?:[^*]|\*(?!/))*\*/)'
    r"|(?P<comma>,)(?=(?:[ \t\r\n]++|//[^\r\n]*+|/\*(?:[^*]|\*(?!/))*\*/)*+[}\]])"
)


class JsonError(ValueError):
    """The text is no JSON; ``at`` is where the decoder gave up."""

    def __init__(self, what: str, at: int) -> None:
        """Keep what the decoder said, and where."""
        super().__init__(what)
        self.at = at


def no_constant(word: str) -> Any:
    """Refuse Infinity and NaN, which JSON does not have. Raises ValueError."""
    raise ValueError(word)


DECODER: Any = json.JSONDecoder(
    object_pairs_hook=tuple, parse_float=str.encode, parse_int=str.encode, parse_constant=no_constant
)


class Doubles:
    """Whether any map of a text has a name twice; noted while the text is decoded."""

    def __init__(self) -> None:
        self.found = False

    def members(self, pairs: list[tuple[str, Any]]) -> tuple[tuple[str, Any], ...]:
        """Keep the pairs of a map, in order."""
        if len(dict(pairs)) != len(pairs):
            self.found = True
        return tuple(pairs)

    def nothing(self, pairs: list[tuple[str, Any]]) -> None:
        """Keep nothing of a map: where only mistakes are asked for, a tree would be many times the file."""
        if len(dict(pairs)) != len(pairs):
            self.found = True


def strict_form(body: str, dialect: Dialect) -> str:
    """Space out what the dialect reads over; the text keeps its length, so spans hold in both."""
    if not (dialect.comments or dialect.last_comma):
        return body

    def blanked(match: re.Match[str]) -> str:
        if match["comment"] is not None and dialect.comments:
            return " " * len(match[0])
        return " " if match["comma"] is not None and dialect.last_comma else match[0]

    return _LOOSE.sub(blanked, body)


def decoded(body: str, decoder: Any = DECODER) -> trees.Tree:
    """Return the tree of a strict JSON text. Raises JsonError."""
    try:
        with gc_paused():
            return decoder.decode(body)
    except json.JSONDecodeError as error:
        raise JsonError(error.msg, error.pos) from error
    except RecursionError as error:
        raise JsonError("too deep", _deepest(body)) from error
    except ValueError as error:
        word = re.search(r"-?Infinity|NaN", body)
        raise JsonError(str(error), word.start() if word else 0) from error


def _deepest(body: str) -> int:
    """Find where brackets stand deeper than any reader goes."""
    depth = 0
    for bracket in re.finditer(r'"(?:[^"\\]|\\.)*"|[\[{]|[\]}]', body):
        depth += 1 if bracket[0] in "[{" else -1 if bracket[0] in "]}" else 0
        if depth > DEEPEST:
            return bracket.start()
    return 0
