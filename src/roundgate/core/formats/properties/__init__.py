"""The registry's entry for properties files."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from roundgate.core.findings import Problem
from roundgate.core.formats.properties.document import PropertiesDocument
from roundgate.core.formats.properties.escapes import runs_on, unescape
from roundgate.core.formats.protocol import USUAL, Dialect, Document, Pairs
from roundgate.core.formats.shared.window import Within, confirmed
from roundgate.core.text import LINE_END, Text


class PropertiesFormat:
    """The registry's entry for properties files."""

    name = "properties"

    def read(self, text: Text, dialect: Dialect = USUAL) -> PropertiesDocument:
        """Read a text. Never raises."""
        return PropertiesDocument(text, dialect)

    def problems(self, document: Document) -> Sequence[Problem]:
        """Report what is wrong or doubtful with the text itself."""
        from roundgate.core.formats.properties.problems import problems_of

        assert isinstance(document, PropertiesDocument)
        return problems_of(document)

    def confirms(self, document: Document, expected: object) -> bool:
        """Let both readers agree."""
        if isinstance(expected, Within):
            return confirmed(self, document, expected)
        return bool(document.plain() == expected == self.read_plainly(document.text))

    def read_plainly(self, text: Text) -> Pairs:
        """Read by joining natural lines first, as the format's documentation tells it."""
        return [_split(line) for line in _logical_lines(text.body)]


def _logical_lines(body: str) -> Iterator[str]:
    """Join continued lines; leave out comments and blank lines; escapes are kept."""
    *ended, last = LINE_END.split(body)
    pending: str | None = None
    for natural in ended:
        content = natural.lstrip(" \t\f")
        if pending is None and content[:1] in ("", "#", "!"):
            continue
        joined = (pending or "") + content
        pending = joined[:-1] if runs_on(content) else None
        if pending is None and joined:
            yield joined
    content = last.lstrip(" \t\f")
    if pending is None and content[:1] in ("", "#", "!"):
        return
    joined = (pending or "") + (content[:-1] if runs_on(content) else content)
    if joined:
        yield joined


def _split(line: str) -> tuple[str, str]:
    """Split a logical line into key and value, escapes undone, one character at a time."""
    at = 0
    while at < len(line) and line[at] not in "=: \t\f":
        at += 2 if line[at] == "\\" else 1
    rest = line[at:].lstrip(" \t\f")
    if rest[:1] in ("=", ":"):
        rest = rest[1:].lstrip(" \t\f")
    return unescape(line[:at]), unescape(rest)


FORMAT = PropertiesFormat()
