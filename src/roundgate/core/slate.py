"""The changes that wait for the next round, kept as operations and replayed on whatever is on disk by then.

A server may rewrite its files when it stops. So the slate holds "set race.slots to 24", never a copy of a file.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from msgspec import DecodeError, Struct, json
from msgspec.structs import replace

from roundgate.core.files import ServerFiles
from roundgate.core.findings import Finding, Place
from roundgate.core.formats import apply_edit, apply_switch
from roundgate.core.formats.protocol import Document, Edit, EditRefused, Format, Kind, Path, Plain
from roundgate.core.mends import EditText, Mend, edited, mended
from roundgate.core.text import NotEncodable, decode


class SetValue(Struct, frozen=True, tag="set"):
    """Give a key a value, as the file will hold it. ``then`` is what it held when this was put on the slate."""

    file: str
    key: str
    stored: str
    then: str | None = None
    name: str = ""
    at_stop: bool = False
    """True where it goes into the file at the next stop, whatever stops the server: the console has it already, or
    somebody wrote it into a file that the server will overwrite."""
    here_only: bool = False
    """True where a value that the file shares between several places is to change in this place alone."""


class Unset(Struct, frozen=True, tag="unset"):
    """Take a key out of its file, so that the server's own default counts."""

    file: str
    key: str
    then: str | None = None
    name: str = ""
    at_stop: bool = False


class AddItem(Struct, frozen=True, tag="add"):
    """Put an entry into a list, before number ``at`` (from 0) or at the end."""

    file: str
    list: str
    item: str
    at: int | None = None


class RemoveItem(Struct, frozen=True, tag="remove"):
    """Take an entry out of a list."""

    file: str
    list: str
    item: str


class MoveItem(Struct, frozen=True, tag="move"):
    """Move an entry of a list so that it becomes number ``to`` (from 0)."""

    file: str
    list: str
    item: str
    to: int


class Switch(Struct, frozen=True, tag="switch"):
    """Comment a key out, so that it no longer counts but still stands there; or let it count again as it stands."""

    file: str
    key: str
    on: bool
    name: str = ""


class Rename(Struct, frozen=True, tag="rename"):
    """Give a key another name, in its place and with its value."""

    file: str
    key: str
    to: str


Operation = SetValue | Unset | Switch | Rename | AddItem | RemoveItem | MoveItem | Mend | EditText


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
        if not isinstance(self.operation, SetValue | Unset) or self.after_others:
            return False
        return self.operation.then != self.before


class Outcome(Struct, frozen=True):
    """What a slate makes of a server's files: the files afterwards, each change, and what could not be done."""

    before: ServerFiles
    after: ServerFiles
    changes: tuple[Change, ...]
    refused: tuple[Finding, ...]

    @property
    def touched(self) -> list[str]:
        """The paths of the files that come out different, in order."""
        return sorted(path for path, text in self.after.texts.items() if self.before.texts.get(path) != text)


def name_of(operation: Operation) -> str:
    """Give the name by which a person knows what an operation changes."""
    if isinstance(operation, SetValue | Unset | Switch):
        return operation.name or f"{operation.file}:{operation.key}"
    if isinstance(operation, Rename):
        return f"{operation.file}:{operation.key}"
    if isinstance(operation, Mend | EditText):
        return operation.file
    return operation.list


def merged(waiting: Sequence[Operation], new: Operation) -> list[Operation]:
    """Put an operation on a slate. A second value for a key takes the place of the first and keeps its ``then``.

    What waits from before the file's names or places changed is left alone: its key may mean another value by now.
    """
    if isinstance(new, Mend) and new in waiting:
        return list(waiting)
    if not isinstance(new, SetValue | Unset):
        return [*waiting, new]
    since = max((at + 1 for at, old in enumerate(waiting) if _shifts(old, new.file)), default=0)
    kept: list[Operation] = list(waiting[:since])
    then = new.then
    for old in waiting[since:]:
        if isinstance(old, SetValue | Unset) and (old.file, old.key) == (new.file, new.key):
            then = old.then
        else:
            kept.append(old)
    return [*kept, replace(new, then=then)]


def _shifts(operation: Operation, file: str) -> bool:
    """Tell whether an operation may give names or places in a file another meaning."""
    if operation.file != file or isinstance(operation, SetValue):
        return False
    return not isinstance(operation, Unset) or operation.key.endswith("]")


def replay(operations: Sequence[Operation], files: ServerFiles, server: str = "") -> Outcome:
    """Make every operation on the files, in order. What cannot be done becomes an error finding; the rest goes on."""
    now, changes, refused = files, [], []
    for number, operation in enumerate(operations):
        try:
            change, now = _make(operation, now)
            others = any(_shifts(one, operation.file) for one in operations[:number])
            changes.append(replace(change, after_others=True) if others else change)
        except (EditRefused, NotEncodable) as error:
            place = Place(operation.file)
            do = f"roundgate discard {server} {name_of(operation)}".replace("  ", " ")
            refused.append(Finding("slate-stuck", "error", place, f"{name_of(operation)}: {error}.", do, server))
    return Outcome(files, now, tuple(changes), tuple(refused))


def _make(operation: Operation, files: ServerFiles) -> tuple[Change, ServerFiles]:
    kind = files.format(operation.file)
    if kind is None:
        raise EditRefused(f"the format of {operation.file} is not known")
    document = files.document(operation.file) or kind.read(decode(b""), files.dialect(operation.file))
    if isinstance(operation, SetValue | Unset):
        return _make_value(operation, files, kind, document)
    if isinstance(operation, Mend | EditText):
        return _make_text(operation, files, kind, document)
    if isinstance(operation, Switch | Rename):
        return _make_name(operation, files, kind, document)
    home = _home(operation, document)
    items = items_at(document, home)
    edit = _LIST_EDITS[type(operation)](operation, document, items, home)
    if edit is not None:
        document = apply_edit(kind, document, edit)
    after = tuple(items_at(document, home))
    change = Change(operation, operation.list, operation.file, None, None, tuple(items), after)
    return change, files.with_document(operation.file, document) if edit else files


def _make_value(
    operation: SetValue | Unset, files: ServerFiles, kind: Format, document: Document
) -> tuple[Change, ServerFiles]:
    path: Path = document.resolve(operation.key)
    here = document.find(path)
    before = here.value if here else None
    after = operation.stored if isinstance(operation, SetValue) else None
    if before != after:
        kept = None if here else _kind_for(operation, files)
        if isinstance(operation, SetValue):
            edit = document.set(path, operation.stored, kept, on_copy=operation.here_only)
        else:
            edit = document.remove(path)
        document = apply_edit(kind, document, edit)
        files = files.with_document(operation.file, document)
    return Change(operation, name_of(operation), operation.file, before, after), files


def _make_name(
    operation: Switch | Rename, files: ServerFiles, kind: Format, document: Document
) -> tuple[Change, ServerFiles]:
    """Switch a key off or on, or give it another name. Where it is so already, nothing is done."""
    path = document.resolve(operation.key)
    here = document.find(path)
    before: str | None
    after: str | None
    if isinstance(operation, Rename):
        before, after = str(path[-1]) if path else operation.key, operation.to
        is_so = here is None and document.find((*path[:-1], operation.to)) is not None
        changed = document if is_so else apply_edit(kind, document, document.rename(path, operation.to))
        before = after if is_so else before
    else:
        is_so = (here is not None) == operation.on
        changed = document if is_so else apply_switch(kind, document, path, on=operation.on)
        there = changed.find(path) if operation.on else None  # by its number the next entry would be found
        before, after = (one.value if one else None for one in (here, there))
    change = Change(operation, name_of(operation), operation.file, before, after)
    return change, files if is_so else files.with_document(operation.file, changed)


def _home(operation: AddItem | RemoveItem | MoveItem, document: Document) -> Path:
    """Give the path of an operation's list: the whole file's, or the place in it that its name says."""
    prefix = f"{operation.file}:"
    return document.resolve(operation.list[len(prefix) :]) if operation.list.startswith(prefix) else ()


def items_at(document: Document, home: Path) -> list[str]:
    """Give the items of the list at a path, each as the file says it; of the whole file where the path is empty."""
    if not home:
        return [entry.value for entry in document.entries()]
    items: list[str] = []
    while (entry := document.find((*home, len(items)))) is not None:
        items.append(" ".join(entry.value.split()))
    return items


def _record(item: str) -> Plain:
    """Take a record that is written as JSON for what it says; anything else is a text."""
    if item[:1] not in ("{", "["):
        return item
    try:
        return json.decode(item)
    except DecodeError:
        return item


def _kind_for(operation: SetValue | Unset, files: ServerFiles) -> Kind | None:
    """Tell what a setting that is not there yet shall be in a file that knows kinds, by the rulebook's type."""
    spec = files.book.setting.get(operation.name)
    return _KINDS.get(spec.type) if spec else None


_KINDS: dict[str, Kind] = {
    **dict.fromkeys(("text", "choice", "secret", "address", "url"), "text"),
    **dict.fromkeys(("int", "decimal", "port", "percent"), "number"),
}


def _make_text(
    operation: Mend | EditText, files: ServerFiles, kind: Format, document: Document
) -> tuple[Change, ServerFiles]:
    """Mend a file, or change its text as it was edited by hand."""
    name = name_of(operation)
    if isinstance(operation, Mend):
        changed = mended(kind, document, operation.codes)
        before = len(document.problems())
        words = (f"{before} findings", f"{before - len(changed.problems())} mended")
    else:
        text = edited(document.text, operation.hunks)
        text.encode()
        changed = kind.read(text, document.dialect)
        words = ("as it is", "edited by hand" if text != document.text else "as it is")
    same = changed.text == document.text
    change = Change(operation, name, operation.file, words[0], words[0] if same else words[1])
    return change, files if same else files.with_document(operation.file, changed)


def _add(operation: AddItem, document: Document, items: list[str], home: Path) -> Edit | None:
    if operation.item in items and operation.at is None:
        return None
    at = len(items) if operation.at is None else min(operation.at, len(items))
    return document.insert((*home, at), _record(operation.item) if home else operation.item)


def _remove(operation: RemoveItem, document: Document, items: list[str], home: Path) -> Edit | None:
    return document.remove((*home, items.index(operation.item))) if operation.item in items else None


def _move(operation: MoveItem, document: Document, items: list[str], home: Path) -> Edit | None:
    if operation.item not in items:
        raise EditRefused(f"'{operation.item}' is no longer in the list")
    here, to = items.index(operation.item), min(operation.to, len(items) - 1)
    return None if here == to else document.move((*home, here), to)


_LIST_EDITS: dict[type, Callable[..., Edit | None]] = {AddItem: _add, RemoveItem: _remove, MoveItem: _move}
