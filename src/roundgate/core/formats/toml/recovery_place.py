"""The place where a reader of TOML gave up, and the words by which lines are looked at."""

from __future__ import annotations

import re
from typing import NamedTuple

from roundgate.core.formats.toml.reader import TomlError
from roundgate.core.patterns import lazy

KEY = r"[ \t]*(?:[A-Za-z0-9_\-.]+|\"[^\"\r\n]*\"|'[^'\r\n]*')[ \t]*"


NEXT_KEY = lazy(rf"[ \t]*(?:{KEY}=|\[\[?[\w.\-\" ]+\]\]?[ \t]*(?:#.*)?$)")


STRINGS = lazy(
    r'"""(?:[^"\\]|\\.|"(?!""))*"""|' + r"'''(?:[^']|'(?!''))*'''|" + r'"(?:[^"\\\n]|\\.)*"|' + r"'[^'\n]*'|#[^\n]*",
    re.S,
)


class Scene(NamedTuple):
    """Where the reader gave up: the text, what it said, and the line."""

    body: str
    error: TomlError
    start: int
    line: str

    @property
    def shown(self) -> str:
        """What the line says, without its comment and the spaces around."""
        return self.line.split("#")[0].strip() if '"' not in self.line and "'" not in self.line else self.line.strip()

    @property
    def end(self) -> int:
        """Where what the line says ends."""
        return self.start + len(self.line.rstrip())


def scene_at(body: str, at: int, error: TomlError) -> Scene:
    """Return the scene of the line that holds an index."""
    start = body.rfind("\n", 0, at) + 1
    end = body.find("\n", start)
    return Scene(body, error, start, body[start : end if end >= 0 else len(body)].rstrip("\r"))
