"""The registry's entry for start scripts."""

from __future__ import annotations

from collections.abc import Sequence

from roundgate.core.findings import Problem
from roundgate.core.formats.launch.document import LaunchDocument
from roundgate.core.formats.protocol import USUAL, Dialect, Document
from roundgate.core.formats.shared.comparison import ComparedPlainly
from roundgate.core.text import Text


class LaunchFormat(ComparedPlainly):
    """The registry's entry for start scripts."""

    name = "launch"

    def read(self, text: Text, dialect: Dialect = USUAL) -> LaunchDocument:
        """Read a text. Never raises."""
        return LaunchDocument(text, dialect)

    def problems(self, document: Document) -> Sequence[Problem]:
        """Report what is wrong or doubtful with the text itself."""
        from roundgate.core.formats.launch.problems import problems_of

        assert isinstance(document, LaunchDocument)
        return problems_of(document)


FORMAT = LaunchFormat()
