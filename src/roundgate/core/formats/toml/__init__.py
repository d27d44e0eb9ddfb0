"""The registry's entry for TOML files."""

from __future__ import annotations

from collections.abc import Sequence

from roundgate.core.findings import Problem
from roundgate.core.formats.protocol import USUAL, Dialect, Document, EditRefused
from roundgate.core.formats.toml.document import STRICT, TomlDocument
from roundgate.core.formats.toml.writer import (
    Either,
    typed,
)
from roundgate.core.text import Text


class TomlFormat:
    """The registry's entry for TOML files."""

    name = "toml"

    def read(self, text: Text, dialect: Dialect = USUAL) -> TomlDocument:
        """Read a text. Never raises."""
        return TomlDocument(text, dialect)

    def problems(self, document: Document) -> Sequence[Problem]:
        """Report what is wrong or doubtful with the text itself."""
        from roundgate.core.formats.toml.problems import problems_of

        assert isinstance(document, TomlDocument)
        return problems_of(document)

    def confirms(self, document: Document, expected: object) -> bool:
        """Let the standard library read the new text; of a short one, kinds are compared too."""
        try:
            found = document.plain()
        except EditRefused:
            return False
        if isinstance(expected, Either) or len(document.text.body) > STRICT:
            return bool(expected == found)
        return bool(typed(found) == typed(expected))


FORMAT = TomlFormat()
