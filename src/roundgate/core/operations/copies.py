"""Putting a copy of a file where the server wants it, such as the key of a mod."""

from __future__ import annotations

from roundgate.core.formats.protocol import Document
from roundgate.core.operations.base import Change, Operation, Target


class CopyFile(Operation, frozen=True, tag="copy"):
    """Make a file that is not there yet, with the text that ``source`` had when this was put on the slate."""

    source: str
    body: str

    def make(self, target: Target) -> tuple[Change, Document]:
        """See Operation. A file that already exists stays as it is."""
        if target.document.text.body:
            return Change(self, self.file, self.file, "there already", "there already"), target.document
        text = target.document.text.with_body(self.body)
        text.encode()
        made = target.format.read(text, target.document.dialect)
        return Change(self, self.file, self.file, "not there", f"a copy of {self.source}"), made
