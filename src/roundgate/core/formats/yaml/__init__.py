"""The registry's entry for YAML files."""

from __future__ import annotations

from collections.abc import Sequence

from roundgate.core.findings import Problem
from roundgate.core.formats.protocol import USUAL, Dialect, Document
from roundgate.core.formats.shared.comparison import ComparedPlainly
from roundgate.core.formats.yaml.document import YamlDocument
from roundgate.core.text import Text


class YamlFormat(ComparedPlainly):
    """The registry's entry for YAML files."""

    name = "yaml"

    def read(self, text: Text, dialect: Dialect = USUAL) -> YamlDocument:
        """Read a text. Never raises."""
        return YamlDocument(text, dialect)

    def problems(self, document: Document) -> Sequence[Problem]:
        """Report what is wrong or doubtful with the text itself."""
        from roundgate.core.formats.yaml.problems import problems_of

        assert isinstance(document, YamlDocument)
        return problems_of(document)


FORMAT = YamlFormat()
