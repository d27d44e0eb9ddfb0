"""Operations on a list: put an entry in, take one out, move one."""

from __future__ import annotations

from collections.abc import Sequence

from roundgate.core.formats import apply_edit
from roundgate.core.formats.places import list_place
from roundgate.core.formats.protocol import Document, Edit, EditRefused, Path
from roundgate.core.formats.shared.scalars import fitted
from roundgate.core.operations.base import Change, FormatValue, Operation, Target
from roundgate.core.typed import TREES, is_there, kinds_at, must_match, plain_value


def items_at(document: Document, home: Path) -> list[str]:
    """Return the items of the list at a path, each as the file says it; of the whole file where the path is empty."""
    if not home:
        return [entry.value for entry in document.entries()]
    items: list[str] = []
    while (entry := document.find((*home, len(items)))) is not None:
        items.append(" ".join(entry.value.split()))
    return items


class PartOfFile(Operation, frozen=True, kw_only=True):
    """Where in its file a list of the rulebook is."""

    at_key: str = ""
    """The key of a list that does not fill its file."""


class ListOperation(PartOfFile, frozen=True):
    """What they have in common. ``list`` names a list of the rulebook, a file that is one, or FILE:PATH."""

    list: str
    item: str

    @property
    def shown_name(self) -> str:
        """The list's name."""
        return self.list

    def make(self, target: Target) -> tuple[Change, Document]:
        """See Operation."""
        prefix = f"{self.file}:"
        document = target.document
        key = self.at_key or (self.list[len(prefix) :] if self.list.startswith(prefix) else "")
        home = list_place(document, key)
        items = items_at(document, home)
        edit = self.edit(target, items, home)
        if edit is not None:
            document = apply_edit(target.format, document, edit)
        after = tuple(items_at(document, home))
        return Change(self, self.list, self.file, None, None, tuple(items), after), document

    def edit(self, target: Target, items: Sequence[str], home: Path) -> Edit | None:
        """Return the edit of the list at ``home``, or None where it is as wanted. Raises EditRefused."""
        raise NotImplementedError

    def describe_change(self, change: Change, format_value: FormatValue, *, is_secret: bool) -> tuple[str, str]:
        """See Operation."""
        before, after = change.items_before, change.items_after
        count = f"{len(before)} entries"
        if is_secret:
            return count, f"{len(after)} entries (hidden)"
        added = [item for item in after if after.count(item) > before.count(item)]
        gone = [item for item in before if before.count(item) > after.count(item)]
        parts = [f"+ {item} ({_numbered(item, after)})" for item in added[-1:]] + [f"- {item}" for item in gone[:1]]
        return count, ", ".join(parts) + f", {len(after)} entries" if parts else count


def _numbered(item: str, items: Sequence[str]) -> str:
    """Describe which one an item is, counting from 0 as paths do."""
    at = items.index(item)
    where = ", the first" if at == 0 else ", the last" if at == len(items) - 1 else ""
    return f"number {at}{where}"


class AddItem(ListOperation, frozen=True, tag="add"):
    """Put an entry into a list, before number ``at`` (from 0) or at the end."""

    at: int | None = None
    kind: str = ""
    """What the entry must be in a file that knows kinds, one of ``typed.KINDS``; empty where the file decides."""

    def edit(self, target: Target, items: Sequence[str], home: Path) -> Edit | None:
        """See ListOperation."""
        document = target.document
        if home and target.format.name != "xml":  # an element holds texts and elements alike
            must_match(plain_value(self.item, self.kind)[0], kinds_at(document, home), self.item)
        if self.item in items and self.at is None:
            return None
        at = len(items) if self.at is None else min(self.at, len(items))
        if not home:
            return document.insert((at,), self.item)
        value, kind = plain_value(self.item, self.kind)
        if target.format.name in TREES and not is_there(document, home):
            # a list that is not there yet is made with its first item
            return document.set(home, [fitted(value, kind, None)])
        return document.insert((*home, at), value, kind)


class RemoveItem(ListOperation, frozen=True, tag="remove"):
    """Take an entry out of a list."""

    def edit(self, target: Target, items: Sequence[str], home: Path) -> Edit | None:
        """See ListOperation."""
        return target.document.remove((*home, items.index(self.item))) if self.item in items else None


class MoveItem(ListOperation, frozen=True, tag="move"):
    """Move an entry of a list so that it becomes number ``to`` (from 0)."""

    to: int

    def edit(self, target: Target, items: Sequence[str], home: Path) -> Edit | None:
        """See ListOperation. Raises EditRefused."""
        if self.item not in items:
            raise EditRefused(f"'{self.item}' is no longer in the list")
        here, to = items.index(self.item), min(self.to, len(items) - 1)
        return None if here == to else target.document.move((*home, here), to)

    def describe_change(self, change: Change, format_value: FormatValue, *, is_secret: bool) -> tuple[str, str]:
        """See Operation."""
        if is_secret or self.item not in change.items_before:
            return super().describe_change(change, format_value, is_secret=is_secret)
        old, new = _numbered(self.item, change.items_before), _numbered(self.item, change.items_after)
        return f"'{self.item}' is {old}", new
