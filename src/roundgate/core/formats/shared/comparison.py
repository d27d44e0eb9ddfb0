"""The confirmation of an edit in formats whose documents are read by somebody else's reader anyway."""

from __future__ import annotations

from roundgate.core.formats.protocol import Document, EditRefused


class ComparedPlainly:
    """A format whose ``Document.plain`` is the second reader: the C decoder, libyaml, the shell reader."""

    def confirms(self, document: Document, expected: object) -> bool:
        """Let that reader read the new text, and compare all that it says."""
        try:
            return bool(document.plain() == expected)
        except EditRefused:
            return False
