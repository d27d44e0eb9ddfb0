"""Every safe repair of a file, made again on whatever is on disk."""

from __future__ import annotations

from collections.abc import Sequence

from roundgate.core.formats.protocol import Document
from roundgate.core.operations.base import Change, Operation, Target
from roundgate.core.repairs import with_repairs


class Mend(Operation, frozen=True, tag="mend"):
    """Make every safe repair of these finding codes in a file."""

    codes: tuple[str, ...]

    def put_on(self, waiting: Sequence[Operation]) -> list[Operation]:
        """Once is enough."""
        return list(waiting) if self in waiting else [*waiting, self]

    def make(self, target: Target) -> tuple[Change, Document]:
        """See Operation."""
        kind, document = target.format, target.document
        changed = with_repairs(kind, document, self.codes)
        found = len(kind.problems(document))
        before = f"{found} findings"
        if changed.text == document.text:
            return Change(self, self.file, self.file, before, before), document
        after = f"{found - len(kind.problems(changed))} fixed"
        return Change(self, self.file, self.file, before, after), changed
