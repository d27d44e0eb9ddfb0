"""The registry's entry for lists of lines."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from roundgate.core.findings import Problem
from roundgate.core.formats.lines.document import LinesDocument
from roundgate.core.formats.protocol import USUAL, Dialect, Document, Pairs
from roundgate.core.formats.shared.window import Within, confirmed
from roundgate.core.text import Text


class LinesFormat:
    """The registry's entry for lists of lines."""

    name = "lines"

    def read(self, text: Text, dialect: Dialect = USUAL) -> LinesDocument:
        """Read a text. Never raises."""
        return LinesDocument(text, dialect)

    def problems(self, document: Document) -> Sequence[Problem]:
        """Report what is wrong or doubtful with the text itself."""
        from roundgate.core.formats.lines.problems import problems_of

        assert isinstance(document, LinesDocument)
        return problems_of(document)

    def confirms(self, document: Document, expected: object) -> bool:
        """Let both readers agree."""
        if isinstance(expected, Within):
            return confirmed(self, document, expected)
        return bool(document.plain() == expected == self.read_plainly(document.text, document.dialect))

    def read_plainly(self, text: Text, dialect: Dialect = USUAL) -> Pairs:
        """Read by one pattern over the whole text."""
        body = text.body.replace("\r\n", "\n").replace("\r", "\n")
        marks = "|".join(re.escape(mark) for mark in dialect.marks.split() or ["#"])
        if dialect.records:
            return [("", record) for record in self._records(body, marks, dialect)]
        note = rf"(?=[ \t]+(?:{marks})|[ \t]*+(?:\n|\Z))" if dialect.notes else r"(?=[ \t]*+(?:\n|\Z))"
        item = rf"^[ \t]*+(?!{marks})(?P<item>[^\s][^\n]*?){note}"
        item = item.replace(r"[^\s]", r"[^ \t\n]")
        return [("", match["item"]) for match in re.finditer(item, body, re.MULTILINE)]

    def _records(self, body: str, marks: str, dialect: Dialect) -> Iterator[str]:
        plain = re.sub(rf"^[ \t]*(?:{marks})[^\n]*\n?", "", body, flags=re.MULTILINE)
        for block in re.split(r"(?:^[ \t]*\n)+|\n(?:[ \t]*(?:\n|\Z))+", plain, flags=re.MULTILINE):
            stripped = block.strip(" \t\n")
            if stripped:
                yield stripped


FORMAT = LinesFormat()
