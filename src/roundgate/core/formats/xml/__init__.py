"""The registry's entry for XML files."""

from __future__ import annotations

from collections.abc import Sequence

from roundgate.core.findings import Problem
from roundgate.core.formats.protocol import USUAL, Dialect, Document, EditRefused
from roundgate.core.formats.xml.document import XmlDocument, as_declared
from roundgate.core.formats.xml.reader import XmlError
from roundgate.core.text import Text


class XmlFormat:
    """The registry's entry for XML files."""

    name = "xml"

    def read(self, text: Text, dialect: Dialect = USUAL) -> XmlDocument:
        """Read a text. Never raises."""
        return XmlDocument(as_declared(text), dialect)

    def problems(self, document: Document) -> Sequence[Problem]:
        """Report what is wrong or doubtful with the text itself."""
        from roundgate.core.formats.xml.problems import problems_of

        assert isinstance(document, XmlDocument)
        return problems_of(document)

    def confirms(self, document: Document, expected: object) -> bool:
        """Let expat read the new text and compare all that it says."""
        try:
            found = document.plain()
        except (EditRefused, XmlError):
            return False
        return bool(found == expected)


FORMAT = XmlFormat()
