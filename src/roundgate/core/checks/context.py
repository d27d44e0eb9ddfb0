"""What every family of checks is given, and how a finding gets its place with secrets blanked out."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from roundgate.core.files import ServerFiles, Unreadable
from roundgate.core.findings import Finding, Level, Place
from roundgate.core.formats.protocol import Entry
from roundgate.core.formats.shared.key_value import KeyFile
from roundgate.core.next_step import Advice, Command, typed_command
from roundgate.core.rulebook.model import Rulebook
from roundgate.core.secrets import apart, secret_entries, secret_names, shown_line, sounding_secret


class CheckContext:
    """A server under check: its files, and what could not be read as text (path to cause)."""

    def __init__(self, server: str, files: ServerFiles, unreadable: Mapping[str, Unreadable]) -> None:
        """Keep what is checked."""
        self.server = server
        self.files = files
        self.unreadable = unreadable
        self._secrets: dict[str, list[Entry]] = {}

    @property
    def book(self) -> Rulebook:
        """The server's rulebook."""
        return self.files.book

    def place(self, path: str, start: int, end: int, *, is_broken: bool = False) -> Place:
        """Return place of a span of characters in a file, its line shown without secrets; ``is_broken`` as below."""
        document = self.files.document(path)
        if document is None:
            return Place(path)
        line, _ = document.text.place(start)
        secrets = self.secrets_on_line(path, start, is_broken=is_broken)
        source, column, length = shown_line(document.text, start, end, secrets)
        return Place(path, line, column, length, source)

    def shown(self, place: Place) -> Place:
        """Return a place that has only line and column, with its line shown without secrets."""
        document = self.files.document(place.file)
        if document is None or not place.line:
            return place
        start = document.text.index(place.line, place.column)
        return self.place(place.file, start, start + place.length)

    def secrets_on_line(self, path: str, index: int, *, is_broken: bool = False) -> list[Entry]:
        """Return what must not be shown of the line that holds an index; in a file that cannot be read, by its looks.

        ``is_broken``: of a line with a mistake, its looks count too, whatever the reader made of it.
        """
        document = self.files.document(path)
        if document is None:
            return []
        if path not in self._secrets:
            self._secrets[path] = secret_entries(self.book, path, document)
        start, end = document.text.line_around(index)
        known = [entry for entry in self._secrets[path] if start <= entry.start < end]
        if not is_broken and (known or isinstance(document, KeyFile)):
            return known
        looks = sounding_secret(document.text, index, secret_names(self.book, path), is_broken=is_broken)
        return apart([*known, *looks])

    def entry_place(self, path: str, entry: Entry, *, key: bool = False) -> Place:
        """Return the place of an entry's value, or of its key."""
        if key:
            return self.place(path, entry.key_start, entry.key_end)
        return self.place(path, entry.start, max(entry.end, entry.start + 1))

    def finding(self, code: str, level: Level, place: Place, cause: str, do: Advice = "", setting: str = "") -> Finding:
        """Make a finding about this server."""
        return Finding(code, level, place, cause, do, self.server, setting)

    def command(self, verb: str, *arguments: str | int, options: Sequence[str] = ()) -> Command:
        """Write a command for this server as it is typed."""
        return typed_command(verb, self.server, *arguments, options=options)
