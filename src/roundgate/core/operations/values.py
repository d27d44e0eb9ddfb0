"""Operations on one value: give a key a value, or take the key out."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import field
from msgspec.structs import replace

from roundgate.core.formats import apply_edit
from roundgate.core.formats.places import place_of
from roundgate.core.formats.protocol import Document, Edit, Entry, EntryKind, Path
from roundgate.core.formats.shared.scalars import is_number
from roundgate.core.operations.base import Change, FormatValue, Operation, Target
from roundgate.core.typed import TREES, plain_value
from roundgate.core.values import document_kind


class ValueOperation(Operation, frozen=True):
    """What both have in common. ``held_before`` is what the key held when this was put on the slate."""

    key: str

    @property
    def shown_name(self) -> str:
        """The setting's name, or file and key."""
        return getattr(self, "name", "") or f"{self.file}:{self.key}"

    @property
    def value_key(self) -> str:
        """Its key."""
        return self.key

    @property
    def value_when_slated(self) -> str | None:
        """Its ``held_before``."""
        held: str | None = getattr(self, "held_before", None)
        return held

    @property
    def sets_value(self) -> bool:
        """Always."""
        return True

    @property
    def waits_for_stop(self) -> bool:
        """Its ``at_stop``."""
        return bool(getattr(self, "at_stop", False))

    def as_usual(self) -> Operation:
        """See Operation."""
        return replace(self, at_stop=False) if self.waits_for_stop else self

    def has_moved_on(self, before: str | None) -> bool:
        """See Operation."""
        return self.value_when_slated != before

    def put_on(self, waiting: Sequence[Operation]) -> list[Operation]:
        """Take the place of another value for the same key, and keep what that key held before it.

        What waits from before the file's names or places changed is left alone: its key may mean another value by now.
        """
        since = max((at + 1 for at, old in enumerate(waiting) if old.shifts(self.file)), default=0)
        kept: list[Operation] = list(waiting[:since])
        held = self.value_when_slated
        for old in waiting[since:]:
            if isinstance(old, ValueOperation) and (old.file, old.key) == (self.file, self.key):
                held = old.value_when_slated
            else:
                kept.append(old)
        return [*kept, replace(self, held_before=held)]

    def describe_change(self, change: Change, format_value: FormatValue, *, is_secret: bool) -> tuple[str, str]:
        """See Operation."""
        return format_value(change.before), format_value(change.after)


class SetValue(ValueOperation, frozen=True, tag="set"):
    """Give a key a value, as the file will hold it."""

    stored: str
    held_before: str | None = field(default=None, name="then")
    name: str = ""
    at_stop: bool = False
    """True where it goes into the file at the next stop, whatever stops the server: the console has it already, or
    somebody wrote it into a file that the server will overwrite."""
    here_only: bool = False
    """True where a value that the file shares between several places is to change in this place alone."""
    kind: str = ""
    """What the value must be in a file that knows kinds, one of ``typed.KINDS``; empty where the file decides."""

    @property
    def new_value(self) -> str | None:
        """See Operation."""
        return self.stored

    def shifts(self, file: str) -> bool:
        """A value in its place gives nothing else another meaning."""
        return False

    def make(self, target: Target) -> tuple[Change, Document]:
        """See Operation."""
        path = place_of(target.document, self.key)
        here = target.document.find(path)
        before = after = here.value if here else None
        forced = self._forced_kind(target, here)
        document = target.document
        if before != self.stored or (here and forced not in ("", here.kind)):
            edit = self._edit(target, path, here, forced)
            if forced != "json" or edit.expected != document.plain():  # else the same list, written in another way
                document, after = apply_edit(target.format, document, edit), self.stored
        return Change(self, self.shown_name, self.file, before, after), document

    def _edit(self, target: Target, path: Path, here: Entry | None, forced: str) -> Edit:
        value, wanted = plain_value(self.stored, forced)
        spec = target.settings.get(self.name)
        by_setting = _NEW_KINDS.get(document_kind(spec)) if spec else None
        kind = wanted if forced or here else by_setting
        if here is None and not self.stored and target.format.name == "launch" and (not spec or spec.type == "flag"):
            value = True  # a flag without a value
        return target.document.set(path, value, kind, on_copy=self.here_only)

    def _forced_kind(self, target: Target, here: Entry | None) -> str:
        """Return what a value must be: as it was given, or as its setting wants where another kind is in its place."""
        if self.kind:
            return self.kind
        spec, name = target.settings.get(self.name), target.format.name
        if spec is None or here is None or name not in TREES or name == "xml":
            return ""
        kind = document_kind(spec)
        if here.kind == kind:
            return ""
        fits = self.stored in ("true", "false") if kind == "bool" else kind == "number" and is_number(self.stored)
        return kind if fits else ""


_NEW_KINDS: dict[str, EntryKind] = {"number": "number", "text": "text"}
"""What a new key is written as; where the kind says nothing sure, the format goes by the value."""


class Unset(ValueOperation, frozen=True, tag="unset"):
    """Take a key out of its file, so that the server's own default counts."""

    held_before: str | None = field(default=None, name="then")
    name: str = ""
    at_stop: bool = False

    def shifts(self, file: str) -> bool:
        """An item of a list that goes moves the ones after it up."""
        return self.file == file and self.key.endswith("]")

    def make(self, target: Target) -> tuple[Change, Document]:
        """See Operation."""
        path = place_of(target.document, self.key)
        here = target.document.find(path)
        before = here.value if here else None
        document = target.document
        if here is not None:
            document = apply_edit(target.format, document, document.remove(path))
        return Change(self, self.shown_name, self.file, before, None), document
