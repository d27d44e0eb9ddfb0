"""The registry's entry for files of statements."""

from __future__ import annotations

from collections.abc import Sequence

from roundgate.core.findings import Problem
from roundgate.core.formats.protocol import USUAL, Dialect, Document, EditRefused
from roundgate.core.formats.statements.document import StatementsDocument
from roundgate.core.formats.statements.reader import read_plainly as _read_plainly
from roundgate.core.text import Text


class StatementsFormat:
    """The registry's entry for files of statements."""

    name = "statements"

    def read(self, text: Text, dialect: Dialect = USUAL) -> StatementsDocument:
        """Read a text. Never raises."""
        return StatementsDocument(text, dialect)

    def problems(self, document: Document) -> Sequence[Problem]:
        """Report what is wrong or doubtful with the text itself."""
        from roundgate.core.formats.statements.problems import problems_of

        assert isinstance(document, StatementsDocument)
        return problems_of(document)

    def confirms(self, document: Document, expected: object) -> bool:
        """Let a second tokenizer find the same."""
        try:
            plain = document.plain()
        except EditRefused:
            return False
        spaced = [(path, " ".join(raw.split()) if raw[:1] != '"' else raw) for path, raw in plain]
        return bool(plain == expected) and _read_plainly(document.text.body) == spaced


FORMAT = StatementsFormat()
