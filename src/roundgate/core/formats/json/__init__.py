"""The registry's entry for JSON files."""

from __future__ import annotations

from collections.abc import Sequence

from roundgate.core.findings import Problem
from roundgate.core.formats.json.document import JsonDocument
from roundgate.core.formats.protocol import USUAL, Dialect, Document
from roundgate.core.formats.shared.comparison import ComparedPlainly
from roundgate.core.text import Text


class JsonFormat(ComparedPlainly):
    """The registry's entry for JSON files."""

    name = "json"

    def read(self, text: Text, dialect: Dialect = USUAL) -> JsonDocument:
        """Read a text. Never raises."""
        return JsonDocument(text, dialect)

    def problems(self, document: Document) -> Sequence[Problem]:
        """Report what is wrong or doubtful with the text itself."""
        from roundgate.core.formats.json.problems import problems_of

        assert isinstance(document, JsonDocument)
        return problems_of(document)


FORMAT = JsonFormat()
