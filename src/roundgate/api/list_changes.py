"""From the arguments of ``add``, ``remove`` and ``move`` to operations on lists."""

from __future__ import annotations

from collections.abc import Sequence

from roundgate.api.key_changes import KeyChanges
from roundgate.api.lookup import SettingTarget, find_name, list_of, setting_of
from roundgate.api.mod_changes import copies_for
from roundgate.api.record_addresses import book_for, is_address, names_record, set_named
from roundgate.api.record_changes import AskField, RecordChanges, TwinOf, number_before
from roundgate.core import values
from roundgate.core.checks.lists import item_problem
from roundgate.core.files import ServerFiles
from roundgate.core.formats.places import NoSuchItem, find_key, near_keys, place_of
from roundgate.core.formats.protocol import Document, Path
from roundgate.core.nearest import nearest
from roundgate.core.next_step import Advice, did_you_mean, typed_command
from roundgate.core.operations.base import Operation
from roundgate.core.operations.lists import AddItem, MoveItem, RemoveItem, items_at
from roundgate.core.rulebook.expansion import setting_at
from roundgate.core.typed import TREES, KindMismatch, is_there, kinds_at, must_match, plain_value, record_of, typed
from roundgate.core.values import ValueProblem
from roundgate.core.values.several import entries_of
from roundgate.host.errors import Trouble, UnknownName, WrongUsage


class ListChanges(KeyChanges):
    """Makes the operations on one list of a server or standalone file."""

    ask: AskField | None = None
    """Asks for a field of a new record that nobody has given."""
    twin_of: TwinOf | None = None
    """Gives a record of another server that a new one should be like."""

    def _list(self, word: str) -> tuple[str, str]:
        """Return a list's name and its file's path: of one that the rulebook knows, or of any by FILE or FILE:PATH."""
        if ":" not in word and (
            word in self.holder.paths() or (self.holder.folder / word).is_file() or self.options.new_file
        ):
            whole = [name for name in self.holder.book.list if self._path(name) == word and not self._at(name)]
            word = whole[0] if whole else f"{word}:"
        if ":" in word:
            target = setting_of(self.holder, word, new_file=self.options.new_file)
            return (f"{target.file}:{target.key}" if target.key else target.file), target.file
        name, _ = list_of(self.holder, word)
        return name, self._path(name)

    def _path(self, name: str) -> str:
        return self.holder.book.file[self.holder.book.list[name].file].path

    def _at(self, name: str) -> str:
        """Return the key of a list of the rulebook that is a part of its file."""
        spec = self.holder.book.list.get(name)
        return spec.at if spec else ""

    def _is_set(self, word: str) -> bool:
        """Return whether a word means a set of records, and neither a list nor a setting."""
        book, word = book_for(self.holder, word)
        known = {*book.list, *book.setting}
        return bool(set_named(book, word)) and not is_address(book, word) and word not in known

    # --- a list in one value ---

    def _value_list(self, word: str) -> tuple[SettingTarget, list[str]] | None:
        """Return a setting whose value is a list, and its entries with what waits already; None for another list."""
        found = "" if ":" in word and self.options.new_file else self._setting_named(word)
        if not found:
            return None
        target = setting_of(self.holder, found)
        assert target.spec is not None
        if target.spec.type not in ("list", "choices"):
            return None
        files = self.holder.read().files
        path = files.path_to_write(target.spec)
        entry = find_key(self.planned(path), target.key)
        entry = entry or files.entry(target.name)
        try:
            held = values.default_of(target.spec) if entry is None else values.read(entry.value, target.spec)
        except ValueProblem as error:
            raise Trouble(
                f"{target.name} is not a valid list now: {error.cause}",
                typed_command("explain", self.holder.name, found),
            ) from error
        return target, list(entries_of(held)) if held is not None else []

    def _setting_named(self, word: str) -> str:
        if ":" in word:
            file, _, key = word.partition(":")
            return setting_at(self.holder.book, file, key) or ""
        name = find_name(self.holder.book, word)
        return name if name in self.holder.book.setting else ""

    def _changed(self, target: SettingTarget, entries: Sequence[str]) -> list[Operation]:
        """Make the operations that give a setting these entries. Raises Trouble where they will not do."""
        assert target.spec is not None
        return self.given(target, self._stored(target, target.spec.separator.join(entries)))

    def added(self, word: str, items: Sequence[str], at: int | None, *, like: str = "") -> list[Operation]:
        """Make the operations that add entries, in their order. Raises Trouble for an entry of the wrong form."""
        if self._is_set(word) and (":" not in word or like or (record_of(items) and not self.options.kind)):
            return RecordChanges(self.holder, self.ask, self.twin_of).added(word, items, like=like, at=at)
        if RecordChanges(self.holder).is_list_field(word):
            return RecordChanges(self.holder).items_added(word, items, at)
        in_value = self._value_list(word)
        if in_value is not None:
            target, entries = in_value
            new = [item for item in items if item not in entries]
            place = len(entries) if at is None else _number(at)
            copies = copies_for(self.holder, target.name, items)
            return [*self._changed(target, [*entries[:place], *new, *entries[place:]]), *copies]
        name, path = self._list(word)
        home = self._home(name, path, items)
        self._whole_record(word, path, home, items)
        made: list[Operation] = []
        for offset, item in enumerate(items):
            self._must_be_known(name, item)
            kind = self._kind_of(word, path, home, item)
            number = None if at is None else _number(at) + offset
            made.append(AddItem(path, name, item, number, kind, at_key=self._at(name)))
        return made

    def removed(self, word: str, items: Sequence[str]) -> list[Operation]:
        """Make the operations that remove entries, or records. Raises Trouble where one is not in the list."""
        if items and RecordChanges(self.holder).is_list_field(word):
            return RecordChanges(self.holder).items_removed(word, items)
        if names_record(self.holder, word):
            changes = RecordChanges(self.holder)
            return [operation for item in (word, *items) for operation in changes.removed(item)]
        in_value = self._value_list(word)
        if in_value is not None:
            target, entries = in_value
            gone = [_of_entries(item, entries, target.name) for item in items]
            return self._changed(target, [entry for entry in entries if entry not in gone])
        name, path = self._list(word)
        return [
            RemoveItem(path, name, self._item_held(word, name, path, item), at_key=self._at(name)) for item in items
        ]

    def moved(self, word: str, items: Sequence[str], to: int | str) -> list[Operation]:
        """Make the operation that moves an entry, or a record, to a number, or before another one.

        Raises Trouble where one of them is not in the list, and WrongUsage for several entries.
        """
        if isinstance(to, int):
            _number(to)
        if len(items) == 1 and RecordChanges(self.holder).is_list_field(word):
            return RecordChanges(self.holder).item_moved(word, items[0], to)
        if names_record(self.holder, word):
            return RecordChanges(self.holder).moved(word, to)
        if len(items) != 1:
            raise WrongUsage(
                "One entry at a time.",
                typed_command("move", "<server>", "<list>", "<entry>", options=("--to", "<number>")),
            )
        item = items[0]
        in_value = self._value_list(word)
        if in_value is not None:
            target, entries = in_value
            moved = _of_entries(item, entries, target.name)
            at = to if isinstance(to, int) else number_before(entries, moved, _of_entries(to, entries, target.name))
            entries.remove(moved)
            entries.insert(at, moved)
            return self._changed(target, entries)
        name, path = self._list(word)
        held = self._item_held(word, name, path, item)
        if isinstance(to, str):
            to = number_before(self._items_now(name, path), held, self._item_held(word, name, path, to))
        return [MoveItem(path, name, held, to, at_key=self._at(name))]

    # --- what is there ---

    def _home(self, name: str, path: str, items: Sequence[str]) -> Path | None:
        """Return the place of a list in its file; None where the file as a whole is the list, or cannot be read.

        Raises UnknownName where it is not there and would not be made.
        """
        file, colon, key = name.partition(":")
        document = self.planned(path)
        if not colon or not key or document is None or file != path:
            return None
        try:
            home = place_of(document, key)
        except NoSuchItem as error:
            raise UnknownName(f"{path}: {error}.", self._look(path)) from error
        if not is_there(document, home) and not self.options.new and not self._may_begin(document, home):
            near = near_keys(document, key, lists=True)
            new = typed_command("add", self.holder.name, name, *items, options=("--new",))
            if not near:
                raise UnknownName(f"{path} has no list '{key}'. --new makes one.", new)
            meant = typed_command("add", self.holder.name, f"{path}:{near[0]}", *items)
            what = f"{path} has no list '{key}'. Did you mean {' or '.join(near)}? To make a new list: {new}"
            raise UnknownName(what, meant if len(near) == 1 else "")
        return home

    @staticmethod
    def _may_begin(document: Document, home: Path) -> bool:
        """Whether a list may be made without asking: what should hold it is there, and no name in it is alike."""
        parent = home[:-1]
        if not home or not isinstance(home[-1], str) or (parent and not is_there(document, parent)):
            return False
        names = {
            entry.path[len(parent)]
            for entry in document.entries()
            if len(entry.path) > len(parent) and entry.path[: len(parent)] == parent
        }
        return not nearest(home[-1], [name for name in names if isinstance(name, str)], least=75)

    def _whole_record(self, word: str, path: str, home: Path | None, items: Sequence[str]) -> None:
        """Refuse FIELD=VALUE arguments for a list of records. Raises WrongUsage with the record that they make."""
        document = self.planned(path)
        record = record_of(items)
        if document is None or home is None or not record or self.options.kind:
            return
        kinds = kinds_at(document, home)
        if kinds and all(kind == "map" for kind in kinds):
            what = f"The entries of {word} are records; one is given whole, as JSON."
            raise WrongUsage(what, typed_command("add", self.holder.name, word, record))

    def _kind_of(self, word: str, path: str, home: Path | None, item: str) -> str:
        """Return the kind of a new entry. Raises Trouble where it does not go with the others."""
        document = self.planned(path)
        format_name = self.holder.read([path]).files.format_name(path)
        if document is None or home is None or format_name not in TREES:
            return ""
        try:
            found = typed(item, self.options.kind, format_name, None)
            if format_name != "xml":
                must_match(plain_value(*found)[0], kinds_at(document, home), item)
        except KindMismatch as error:
            call = typed_command("add", self.holder.name, word, error.meant)
            raise self.unfit(error, call) from error
        return found.kind

    def _must_be_known(self, name: str, item: str) -> None:
        known = self.holder.book.list.get(name)
        kind = self.holder.book.kind[known.item] if known else None
        wrong = item_problem(item, kind) if kind else None
        if wrong and kind:
            is_example = wrong[1] == kind.example and wrong[1] not in kind.catalogue
            do = typed_command("add", self.holder.name, name, wrong[1])
            do = do if wrong[1] and not is_example else typed_command("explain", self.holder.name, name)
            raise Trouble(f"{wrong[0]} Nothing was changed.", do)

    def _items(self, files: ServerFiles, name: str) -> list[str]:
        file, _, key = name.partition(":")
        document = files.document(file)
        if document is None:
            return []
        try:
            return items_at(document, place_of(document, key) if key else ())
        except NoSuchItem:
            return []

    def _items_now(self, name: str, path: str) -> list[str]:
        """Return the entries of a list with what waits on the slate."""
        after = self.holder.outcome(self.waiting, [path]).after
        return list(after.items(name)) if name in self.holder.book.list else self._items(after, name)

    def _item_held(self, word: str, name: str, path: str, item: str) -> str:
        """Return an entry as the list holds it, on disk or with what waits on the slate.

        The sign that ends the entries of some lists (``10.9.9.9 =``) need not be typed. Raises Trouble.
        """
        items = self._items_now(name, path)
        from roundgate.core.formats.lines.document import without_tail  # a format is only loaded where it is needed

        held = item if item in items else next((held for held in items if without_tail(held) == item), None)
        if held is not None:
            return held
        near = nearest(item, items)
        hint: Advice = f"It holds: {', '.join(items[:20])}" if items else "It is empty."
        if items and items[0].startswith("{"):
            hint = typed_command("reset", self.holder.name, f"{word}[<field>=<value>]", hint="takes out the record")
        elif near:
            hint = did_you_mean(item, near)
        of = f" of {self.holder.name}" if self.holder.name else ""
        raise Trouble(f"'{item}' is not in {name}{of}.", hint)


def _number(number: int) -> int:
    if number < 0:
        raise WrongUsage("Entries are numbered from 0: 0 is the first.", "Give a number from 0.")
    return number


def _of_entries(word: str, entries: Sequence[str], name: str) -> str:
    """Return the entry that a word means. Raises UnknownName where none does."""
    found = next((entry for entry in entries if entry == word), "")
    found = found or next((entry for entry in entries if entry.lower() == word.lower()), "")
    if not found:
        near = nearest(word, entries)
        hint = f"Did you mean {near}?" if near else f"Entries: {', '.join(entries) or 'none'}"
        raise UnknownName(f"{name} has no entry '{word}'.", hint)
    return found
