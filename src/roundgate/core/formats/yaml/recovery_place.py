"""Lines of a YAML text, and the scene at which libyaml gave up."""

from __future__ import annotations

import re
from typing import NamedTuple

from roundgate.core.formats.yaml.events import YamlError
from roundgate.core.text import LINE_END, line_start


class Line(NamedTuple):
    """One line of the text without its end: where it starts, and what it says."""

    start: int
    text: str

    @property
    def indent(self) -> int:
        """How many spaces it begins with."""
        return len(self.text) - len(self.text.lstrip(" "))

    @property
    def content(self) -> str:
        """What it says without indentation and comment."""
        return re.sub(r"(?:^|[ \t])#.*", "", self.text).strip(" \t")

    @property
    def end(self) -> int:
        """Where what it says ends."""
        return self.start + len(re.sub(r"(?:^|[ \t]+)#.*", "", self.text).rstrip(" \t"))


class Scene(NamedTuple):
    """The place where the reader gave up: the whole text, its error, and the line it happened on."""

    body: str
    error: YamlError
    here: Line


def line_at(body: str, index: int) -> Line:
    """Return the line that holds an index."""
    start = line_start(body, index)
    end = LINE_END.search(body, start)
    return Line(start, body[start : end.start() if end else len(body)])


def line_before(body: str, line: Line) -> Line | None:
    """Return the nearest line above that says something, comments and blank lines left out."""
    at = line.start
    while at > 0:
        above = line_at(body, at - 2 if body[at - 2 : at] == "\r\n" else at - 1)
        at = above.start
        if above.content:
            return above
    return None
