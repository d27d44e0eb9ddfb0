"""A server's files as they were read at one moment, and the values that the rulebook finds in them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, MutableMapping
from decimal import Decimal
from functools import cached_property
from typing import Any, NamedTuple

from roundgate.core import values
from roundgate.core.facts import FACTS, NO_FACTS, Facts
from roundgate.core.formats import FORMATS, format_name
from roundgate.core.formats.detect import format_for
from roundgate.core.formats.places import find_key, key_of, list_entries
from roundgate.core.formats.protocol import USUAL, Dialect, Document, Entry, Format, Path
from roundgate.core.rulebook.expansion import above
from roundgate.core.rulebook.model import File, Rulebook, Setting
from roundgate.core.text import Text
from roundgate.core.values import Value, ValueProblem


class Unreadable(NamedTuple):
    """Why a file could not be read as text: the finding code and the cause."""

    code: str
    cause: str


class ServerFiles:
    """The texts of a server's files by path, read as the rulebook says. Never changed once made."""

    def __init__(
        self,
        book: Rulebook,
        texts: Mapping[str, Text],
        known: MutableMapping[str, Document] | None = None,
        facts: Facts = NO_FACTS,
    ) -> None:
        """Keep the texts of those files that exist.

        ``known`` holds documents that were read earlier by their path, for those files whose text is still the same;
        ``facts`` is what holds of the server beside its files.
        """
        self.book = book
        self.facts = facts
        self.texts = dict(texts)
        self._documents: dict[str, Document] = {}
        self._formats: dict[str, str] = {}
        self._known = {} if known is None else known

    def format_name(self, path: str) -> str:
        """Return the name of a file's format: the rulebook's word, then what the file's name says."""
        by_book = next((file.format for file in self.book.file.values() if file.path == path), "")
        if by_book or path not in self.texts:
            return by_book or format_name(path)
        if path not in self._formats:
            self._formats[path] = format_for(path, self.texts[path].body)
        return self._formats[path]

    def format(self, path: str) -> Format | None:
        """Return the format of a file, or None where it is not known."""
        return FORMATS.get(self.format_name(path))

    def dialect(self, path: str) -> Dialect:
        """Return how the server reads a file, by the rulebook's word."""
        return next((file.dialect for file in self.book.file.values() if file.path == path), USUAL)

    def document(self, path: str) -> Document | None:
        """Return a file, read; None where it does not exist or its format is not known."""
        if path not in self._documents:
            kind = self.format(path) if path in self.texts else None  # a format is loaded where it is needed
            if kind is None:
                return None
            text, dialect = self.texts[path], self.dialect(path)
            known = self._known.get(path)
            if known is None or known.text != text or known.dialect != dialect:
                known = self._known[path] = kind.read(text, dialect)
            self._documents[path] = known
        return self._documents[path]

    def with_document(self, path: str, document: Document) -> ServerFiles:
        """Return the same files with one of them changed."""
        changed = ServerFiles(self.book, {**self.texts, path: document.text}, None, self.facts)
        changed._documents = {**self._documents, path: document}
        changed._formats = dict(self._formats)
        return changed

    def path_of(self, spec: Setting) -> str:
        """Return the path of the file whose value for a setting counts.

        That is the topmost of those that override its own and have the key; else, of its own and the files included
        there, the one that is read last, or first where the game goes by the first.
        """
        book = self.book
        for name in reversed(above(book, spec.file)):
            if find_key(self.document(book.file[name].path), spec.key) is not None:
                return book.file[name].path
        file = book.file[spec.file]
        return self._by_order(spec, file) if file.includes else file.path

    def _by_order(self, spec: Setting, file: File) -> str:
        """Return which of a file and those that it includes has the value of a setting that counts."""
        document = self.document(file.path)
        own = find_key(document, spec.key)
        places = [(own.start, file.path)] if own else []
        for path, start in self._included(file):
            if find_key(self.document(path), spec.key) is not None:
                places.append((start, path))
        if not places:
            return file.path
        return (min if file.dialect.counts == "first" else max)(places)[1]

    def _included(self, file: File) -> list[tuple[str, int]]:
        """Return the files that a file includes, and where in it."""
        document = self.document(file.path)
        entries = document.entries() if document else ()
        return [(entry.value, entry.start) for entry in entries if key_of(entry.path[:1]) == file.includes]

    def path_to_write(self, spec: Setting) -> str:
        """Return the path of the file that a change of a setting goes to; the game's own only where it must be."""
        book = self.book
        counting = self.path_of(spec)
        names = [spec.file, *above(book, spec.file)]
        held = next((name for name in names if book.file[name].path == counting), spec.file)
        if book.file[held].owner != "game":
            return counting
        return next((book.file[name].path for name in above(book, held) if book.file[name].owner != "game"), counting)

    def entry(self, name: str) -> Entry | None:
        """Return the entry of a setting that counts, or None where no file has it."""
        spec = self.book.setting[name]
        return find_key(self.document(self.path_of(spec)), spec.key)

    def is_in_use(self, name: str) -> bool:
        """Return whether the server reads the file of a setting: of files by pattern, it may read one of them only."""
        chosen_by = self.book.file[self.book.setting[name].file].chosen_by
        return not chosen_by or self.counting_text(chosen_by) == name.partition("@")[2]

    def overridden_entry(self, name: str) -> tuple[str, Entry] | None:
        """Return the path and the entry of a setting that another file overrides; None where none does."""
        spec = self.book.setting[name]
        own = self.book.file[spec.file].path
        entry = find_key(self.document(own), spec.key)
        return (own, entry) if entry is not None and self.path_of(spec) != own else None

    def stored(self, name: str) -> str | None:
        """Return what the file holds for a setting, or None."""
        entry = self.entry(name)
        return entry.value if entry else None

    def items(self, list_name: str) -> list[str]:
        """Return the entries of a list."""
        return [entry.value for entry in self.list_entries(list_name)]

    def list_entries(self, list_name: str) -> list[Entry]:
        """Return the entries of a list with their places in its file."""
        spec = self.book.list[list_name]
        document = self.document(self.book.file[spec.file].path)
        return list_entries(document, spec.at) if document else []

    def paths_of_lists(self, path: str) -> set[Path]:
        """Return the paths of the entries of lists that are a part of a file."""
        mine = [name for name, spec in self.book.list.items() if spec.at and self.book.file[spec.file].path == path]
        return {entry.path for name in mine for entry in self.list_entries(name)}

    def counting(self, name: str) -> Value | None:
        """Return the value that counts: the file's where it is valid, else the default."""
        return value_of(self.stored(name), self.book.setting[name])

    def counting_text(self, name: str) -> str:
        """Return the value that counts as text; an empty one where there is none."""
        value = self.counting(name)
        return "" if value is None else str(value)

    @cached_property
    def names(self) -> Mapping[str, Any]:
        """Every setting's and list's value, for the rules; worked out when asked for."""
        return _Names(self)


class _Names(Mapping[str, Any]):
    """A view of the files as the rules see them."""

    def __init__(self, files: ServerFiles) -> None:
        self._files = files

    def __getitem__(self, name: str) -> Any:
        book = self._files.book
        if name in book.list:
            return self._files.items(name)
        if name in FACTS:
            return self._files.facts.value(name)
        if name in book.records and name not in book.setting:
            from roundgate.core.records.sets import rows_with_named  # few commands look at records

            return rows_with_named(book, name, self._files.document)
        if name not in book.setting:  # all indexes of one setting
            members = [other for other in book.setting if other.startswith(f"{name}[")]
            if not members:
                raise KeyError(name)
            return [self[member] for member in members]
        value = self._files.counting(name)
        return "" if value is None else values.number_behind(value, book.setting[name])

    def __iter__(self) -> Any:
        return iter((*self._files.book.setting, *self._files.book.list, *FACTS))

    def __len__(self) -> int:
        return len(self._files.book.setting) + len(self._files.book.list) + len(FACTS)


def value_of(stored: str | None, spec: Setting) -> Value | None:
    """Return the value of what a file holds: the default where that is nothing, or nothing valid."""
    try:
        return values.default_of(spec) if stored is None else values.read(stored, spec)
    except ValueProblem:
        return values.default_of(spec)


def plain_form(book: Rulebook, name: str, stored: str | None) -> str:
    """Return a value in a form that does not depend on spelling: a server that rewrites 0.50 as 0.5 changes nothing."""
    spec = book.setting.get(name)
    if spec is None:
        return repr(stored)
    value = value_of(stored, spec)
    return format(value.normalize(), "f") if isinstance(value, Decimal) else str(value)


def differing(before: ServerFiles, after: ServerFiles) -> list[str]:
    """Name the settings and lists that have another value; a list whose file was not there before is left out."""
    book = after.book
    settings = [name for name in book.setting if before.counting(name) != after.counting(name)]
    known = [name for name, spec in book.list.items() if before.document(book.file[spec.file].path) is not None]
    return settings + [name for name in known if before.items(name) != after.items(name)]


def format_value(stored: str | None, spec: Setting) -> str:
    """Describe what a file holds as people say it; what is not a valid value is said as it stands."""
    if stored is None:
        return "-"
    try:
        return values.show(values.read(stored, spec), spec)
    except ValueProblem:
        return "(set, not valid)" if values.is_hidden(spec) else stored


def format_default(spec: Setting) -> str:
    """Format a setting's default as people say it; ``-`` where it has none."""
    return "-" if spec.default is None else format_value(values.as_stored(spec.default, spec), spec)


def describe_value(files: ServerFiles, name: str) -> str:
    """Describe what a name in an expression means: a setting's value, the number of a list's entries, or a fact."""
    if name in files.book.list:
        return f"{len(files.items(name))} entries"
    spec = files.book.setting.get(name)
    if spec is None and name in files.book.records:
        return f"{len(files.names[name])} records"
    if spec is None:
        value = files.names[name]
        return ", ".join(map(str, value)) if isinstance(value, list) else str(value)
    stored = files.stored(name)
    return format_value(stored, spec) if stored is not None else f"{format_default(spec)} by default"


def describe_values(files: ServerFiles, names: Iterable[str]) -> str:
    """Describe what several names stand for: ``tide.mode is spring``."""
    return ", ".join(f"{name} is {describe_value(files, name)}" for name in names)
