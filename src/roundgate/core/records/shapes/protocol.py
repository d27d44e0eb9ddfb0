"""What every shape of records offers. One file a shape implements it; ``shapes`` lists them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol

from roundgate.core.formats import apply_edit
from roundgate.core.formats.protocol import Document, Edit, Format
from roundgate.core.formats.shared.joined_edits import NotJoinable
from roundgate.core.records.model import Record
from roundgate.core.rulebook.model import RecordSet


class Editor:
    """A document that is being edited, edit by edit, each of them confirmed by an independent reader."""

    def __init__(self, kind: Format, document: Document, planned: list[Edit] | None = None) -> None:
        """Begin with a document as it is. Edits are only put into ``planned``, where that is given."""
        self.format = kind
        self.document = document
        self._planned = planned
        self._made = False

    def make(self, edit: Edit) -> None:
        """Make an edit, or plan it. Raises EditRefused, NotEncodable; NotJoinable for a second one that is planned."""
        if self._planned is not None:
            if self._made:
                raise NotJoinable("one edit needs what another one leaves")
            self._planned.append(edit)
            self._made = True
            return
        self.document = apply_edit(self.format, self.document, edit)


class Shape(Protocol):
    """How records of a set are written in a file. Every edit keeps the bytes of all that it is not about.

    All edits raise EditRefused where the file leaves no way to make them.
    """

    def read(self, document: Document, spec: RecordSet) -> list[Record]:
        """Return the records, in the order of the file."""
        ...

    def set_field(self, editor: Editor, spec: RecordSet, record: Record, field: str, value: str | None) -> None:
        """Give a field a stored value; None takes the field out."""
        ...

    def replace(self, editor: Editor, spec: RecordSet, record: Record, field: str, old: str, new: str) -> None:
        """Put one value in the place of another in a field, in all places where it has it."""
        ...

    def add(self, editor: Editor, spec: RecordSet, key: str, values: Mapping[str, str], at: int | None) -> None:
        """Put a new record in, in the look of its neighbours: before record number ``at``, else at the end."""
        ...

    def remove(self, editor: Editor, spec: RecordSet, record: Record) -> None:
        """Take a record out."""
        ...

    def rename(self, editor: Editor, spec: RecordSet, record: Record, new: str) -> None:
        """Give a record another key."""
        ...

    def move(self, editor: Editor, spec: RecordSet, record: Record, to: int) -> None:
        """Move a record so that it becomes number ``to`` of its set."""
        ...
