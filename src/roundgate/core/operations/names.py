"""Operations on a key as it is: comment it out, let it count again, or give it another name."""

from __future__ import annotations

from roundgate.core.formats import apply_edit, apply_switch
from roundgate.core.formats.places import place_of
from roundgate.core.formats.protocol import Document
from roundgate.core.operations.base import Change, FormatValue, Operation, Target


class Switch(Operation, frozen=True, tag="switch"):
    """Comment a key out, so that it no longer counts but is still there; or let it count again as it is."""

    key: str
    on: bool
    name: str = ""

    can_be_live = False

    @property
    def shown_name(self) -> str:
        """The setting's name, or file and key."""
        return self.name or f"{self.file}:{self.key}"

    @property
    def value_key(self) -> str:
        """Its key."""
        return self.key

    def make(self, target: Target) -> tuple[Change, Document]:
        """See Operation."""
        path = place_of(target.document, self.key)
        here = target.document.find(path)
        document = target.document
        if (here is not None) != self.on:
            document = apply_switch(target.format, document, path, on=self.on)
        there = document.find(path) if self.on else None  # by its number the next entry would be found
        before, after = (entry.value if entry else None for entry in (here, there))
        return Change(self, self.shown_name, self.file, before, after), document

    def describe_change(self, change: Change, format_value: FormatValue, *, is_secret: bool) -> tuple[str, str]:
        """See Operation."""
        before, after = (
            "commented out" if value is None else format_value(value) for value in (change.before, change.after)
        )
        return before, after


class Rename(Operation, frozen=True, tag="rename"):
    """Give a key another name, in its place and with its value."""

    key: str
    to: str

    @property
    def shown_name(self) -> str:
        """File and key, as it is called now."""
        return f"{self.file}:{self.key}"

    @property
    def claimed_key(self) -> str:
        """Its key."""
        return self.key

    def make(self, target: Target) -> tuple[Change, Document]:
        """See Operation."""
        path = place_of(target.document, self.key)
        document = target.document
        old = str(path[-1]) if path else self.key
        is_done = document.find(path) is None and document.find((*path[:-1], self.to)) is not None
        if not is_done:
            document = apply_edit(target.format, document, document.rename(path, self.to))
        return Change(self, self.shown_name, self.file, self.to if is_done else old, self.to), document

    def describe_change(self, change: Change, format_value: FormatValue, *, is_secret: bool) -> tuple[str, str]:
        """See Operation."""
        return f"called {change.before}", f"called {change.after}"
