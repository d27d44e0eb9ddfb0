"""What every kind of operation answers: how it changes a file, how it reads, and what it means for the others."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import ClassVar, Protocol

from msgspec import Struct

from roundgate.core.formats.protocol import Document, Edit, Format
from roundgate.core.rulebook.model import RecordSet, Setting

FormatValue = Callable[[str | None], str]
"""Formats a stored value as its setting shows it; hidden where it is secret."""


class Settings(Protocol):
    """What an operation may know of the rulebook: the setting of a name, where there is one."""

    def get(self, name: str, /) -> Setting | None:
        """Return a setting, or None."""
        ...


class Target(Struct, frozen=True):
    """The file that an operation changes: its format, what it says now, and the rulebook's settings."""

    format: Format
    document: Document
    settings: Settings
    records: Mapping[str, RecordSet] = {}
    """The rulebook's sets of records, by name."""
    planned: list[Edit] | None = None
    """Where there is one, edits are put into it and not made: many of them are to be made at once."""


class Operation(Struct, frozen=True):
    """One change of one file, kept as what it does and never as a copy of the file.

    A kind of operation is one module of this folder and one line of ``registry.KINDS``.
    """

    file: str

    version: ClassVar[int] = 1
    """Counts up when the stored fields of a kind change their meaning."""
    can_be_live: ClassVar[bool] = True
    """False where the console has no command for it, even where its setting can be set there."""

    @property
    def joins(self) -> bool:
        """True where it can be made at once with others, all worked out of the file as it is before them."""
        return False

    @property
    def built_on(self) -> str:
        """The name of an operation that gives or takes what this one is about; empty where there can be none."""
        return ""

    @property
    def shown_name(self) -> str:
        """The name by which a person knows what it changes."""
        return self.file

    @property
    def value_key(self) -> str:
        """The key whose value it changes as a whole; an empty text where it changes no single value."""
        return ""

    @property
    def claimed_key(self) -> str:
        """The key that a hand edit in the file must not take from it; an empty text where there is none."""
        return self.value_key

    @property
    def new_value(self) -> str | None:
        """The value that it gives its key, as the file will hold it; None where it gives none."""
        return None

    @property
    def value_when_slated(self) -> str | None:
        """What its key held when it was put on the slate; None where nothing was, or where it changes no value."""
        return None

    @property
    def sets_value(self) -> bool:
        """True where a round remembers what it wrote, to notice when something else resets it."""
        return False

    @property
    def waits_for_stop(self) -> bool:
        """True where it goes into the file at the next stop, whatever stops the server."""
        return False

    def as_usual(self) -> Operation:
        """Return it as one that waits for a round like the rest, and not for the next stop."""
        return self

    def shifts(self, file: str) -> bool:
        """Return whether it may give names or places in a file another meaning, for the operations after it."""
        return self.file == file

    def put_on(self, waiting: Sequence[Operation]) -> list[Operation]:
        """Return a slate with this on it: after what waits, or in the place of what it replaces."""
        return [*waiting, self]

    def has_moved_on(self, before: str | None) -> bool:
        """Return whether what is on disk, ``before``, is no longer what it was when this was put on the slate."""
        return False

    def make(self, target: Target) -> tuple[Change, Document]:
        """Make the change; return what it did, and the document afterwards: the same one where nothing changes.

        Raises EditRefused or NotEncodable where it cannot be made.
        """
        raise NotImplementedError

    def describe_change(self, change: Change, format_value: FormatValue, *, is_secret: bool) -> tuple[str, str]:
        """Describe what it changed, from what to what. ``is_secret``: the list that it changes must not be shown."""
        return change.before or "", change.after or ""


class Change(Struct, frozen=True):
    """What one operation did: to which setting or list, in which file, from what to what."""

    operation: Operation
    name: str
    file: str
    before: str | None
    after: str | None
    items_before: tuple[str, ...] = ()
    items_after: tuple[str, ...] = ()
    after_others: bool = False
    """True where an operation before it on the slate may have given its key another meaning."""

    @property
    def is_nothing(self) -> bool:
        """True where all was already as wanted."""
        return self.before == self.after and self.items_before == self.items_after

    @property
    def has_moved_on(self) -> bool:
        """True where the value on disk is no longer the one that was there when the change was put on the slate."""
        return not self.after_others and self.operation.has_moved_on(self.before)
