"""A server's files as they were read at one moment, and the values that the rulebook finds in them."""

from __future__ import annotations

from collections.abc import Mapping, MutableMapping
from decimal import Decimal
from functools import cached_property
from typing import Any, NamedTuple

from roundgate.core import values
from roundgate.core.formats import FORMATS, format_name
from roundgate.core.formats.detect import format_for
from roundgate.core.formats.places import find_key
from roundgate.core.formats.protocol import USUAL, Dialect, Document, Entry, Format
from roundgate.core.rulebook.model import Rulebook, Setting
from roundgate.core.text import Text
from roundgate.core.values import Value, ValueProblem


class Unreadable(NamedTuple):
    """Why a file could not be read as text: the finding code and the cause."""

    code: str
    cause: str


class ServerFiles:
    """The texts of a server's files by path, read as the rulebook says. Never changed once made."""

    def __init__(
        self, book: Rulebook, texts: Mapping[str, Text], known: MutableMapping[str, Document] | None = None
    ) -> None:
        """Keep the texts of those files that exist.

        ``known`` holds documents that were read earlier by their path, for those files whose text is still the same.
        """
        self.book = book
        self.texts = dict(texts)
        self._documents: dict[str, Document] = {}
        self._formats: dict[str, str] = {}
        self._known = {} if known is None else known

    def format_name(self, path: str) -> str:
        """Tell the name of a file's format: the rulebook's word, then what the file's name says."""
        by_book = next((file.format for file in self.book.file.values() if file.path == path), "")
        if by_book or path not in self.texts:
            return by_book or format_name(path)
        if path not in self._formats:
            self._formats[path] = format_for(path, self.texts[path].body)
        return self._formats[path]

    def format(self, path: str) -> Format | None:
        """Tell the format of a file, or None where it is not known."""
        return FORMATS.get(self.format_name(path))

    def dialect(self, path: str) -> Dialect:
        """Tell how the server reads a file, by the rulebook's word."""
        return next((file.dialect for file in self.book.file.values() if file.path == path), USUAL)

    def document(self, path: str) -> Document | None:
        """Give a file, read; None where it does not exist or its format is not known."""
        if path not in self._documents:
            kind = self.format(path)
            if path not in self.texts or kind is None:
                return None
            text, dialect = self.texts[path], self.dialect(path)
            known = self._known.get(path)
            if known is None or known.text != text or known.dialect != dialect:
                known = self._known[path] = kind.read(text, dialect)
            self._documents[path] = known
        return self._documents[path]

    def with_document(self, path: str, document: Document) -> ServerFiles:
        """Give the same files with one of them changed."""
        changed = ServerFiles(self.book, {**self.texts, path: document.text})
        changed._documents = {**self._documents, path: document}
        changed._formats = dict(self._formats)
        return changed

    def path_of(self, spec: Setting) -> str:
        """Tell the path of the file that holds a setting."""
        return self.book.file[spec.file].path

    def entry(self, name: str) -> Entry | None:
        """Give the entry of a setting, or None where it is not in the file."""
        spec = self.book.setting[name]
        document = self.document(self.path_of(spec))
        return find_key(document, spec.key)

    def stored(self, name: str) -> str | None:
        """Give what the file holds for a setting, or None."""
        entry = self.entry(name)
        return entry.value if entry else None

    def items(self, list_name: str) -> list[str]:
        """Give the entries of a list."""
        document = self.document(self.book.file[self.book.list[list_name].file].path)
        return [entry.value for entry in document.entries()] if document else []

    def counting(self, name: str) -> Value | None:
        """Give the value that counts: the file's where it is valid, else the default."""
        return value_of(self.stored(name), self.book.setting[name])

    @cached_property
    def names(self) -> Mapping[str, Any]:
        """Every setting's and list's value, for the rules; worked out when asked for."""
        return _Names(self)


class _Names(Mapping[str, Any]):
    """A view of the files as the rules see them."""

    def __init__(self, files: ServerFiles) -> None:
        self._files = files

    def __getitem__(self, name: str) -> Any:
        if name in self._files.book.list:
            return self._files.items(name)
        value = self._files.counting(name)
        return "" if value is None else values.number_behind(value, self._files.book.setting[name])

    def __iter__(self) -> Any:
        return iter((*self._files.book.setting, *self._files.book.list))

    def __len__(self) -> int:
        return len(self._files.book.setting) + len(self._files.book.list)


def value_of(stored: str | None, spec: Setting) -> Value | None:
    """Give the value of what a file holds: the default where that is nothing, or nothing valid."""
    try:
        return values.default_of(spec) if stored is None else values.read(stored, spec)
    except ValueProblem:
        return values.default_of(spec)


def plain_form(book: Rulebook, name: str, stored: str | None) -> str:
    """Give a value in a form that does not hang on its spelling: a server that rewrites 0.50 as 0.5 changes nothing."""
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
    """Say what a file holds as people say it; what is no valid value is said as it stands."""
    if stored is None:
        return "-"
    try:
        return values.show(values.read(stored, spec), spec)
    except ValueProblem:
        return "(set, not valid)" if values.is_hidden(spec) else stored
