"""Reading YAML files: what stands where, and what it says. ``yaml`` edits them."""

from __future__ import annotations

import re
from bisect import bisect
from collections.abc import Iterator, Sequence
from functools import cached_property

from roundgate.core.formats.protocol import USUAL, Dialect, EditRefused, Entry, Path
from roundgate.core.formats.yaml.events import Event, Member, Stream, YamlError
from roundgate.core.formats.yaml.writer import kind_of
from roundgate.core.patterns import lazy
from roundgate.core.text import Text, line_start

_OFF = lazy(
    r"^(?P<lead> *)(?P<mark>#[ \t]?)(?P<key>[\w.\-]+|\"[^\"\\\r\n]*\"|'[^'\r\n]*')(?P<sep>:(?:[ \t]+|$))"
    r"(?P<value>(?:[^\s#][^\r\n]*?)?)[ \t]*(?:(?<=[ \t])#[^\r\n]*)?$",
    re.M,
)


class YamlReading:
    """A YAML file, read: what stands where."""

    def __init__(self, text: Text, dialect: Dialect = USUAL) -> None:
        """Read ``text``; libyaml is only asked when something is."""
        self.text = text
        self.dialect = dialect

    @cached_property
    def _result(self) -> Stream | YamlError:
        try:
            return Stream(self.text.body)
        except YamlError as error:
            return error

    @property
    def error(self) -> YamlError | None:
        """Why libyaml does not read the text, or None where it does."""
        return self._result if isinstance(self._result, YamlError) else None

    @property
    def stream(self) -> Stream:
        """The events. Raises EditRefused where the text cannot be read."""
        if isinstance(self._result, YamlError):
            raise EditRefused("the file has mistakes; fix them first (roundgate check)")
        return self._result

    def plain(self) -> list[Event]:
        """Return all that the file says."""
        return self.stream.events

    def resolve(self, key: str) -> Path:
        """Read a path as people write it; a whole key with dots in it is taken where the file has one."""
        from roundgate.core.formats.shared.paths import parse_path

        if not self.error and "." in key and self.stream.locate((key,)):
            return (key,)
        return parse_path(key)

    # --- what stands there ---

    def _entry(self, path: Path, member: Member) -> Entry:
        stream = self.stream
        events = stream.events[member.value]
        start, end = stream.bare(member.value)
        kind = kind_of(events)
        if kind in ("list", "map"):
            end = stream.content_end(member.value)
        value = events[1] if events[0] == "S" else self.text.body[start:end]
        key = stream.spans[member.key] if member.key >= 0 else (start, start)
        return Entry(path, value, *key, start, max(start, end), kind)

    def entries(self) -> Sequence[Entry]:
        """Return every value that holds no other, of every document."""
        if self.error:
            return []
        several = len(self.stream.roots) > 1
        found: list[Entry] = []
        for number, root in enumerate(self.stream.roots):
            found += self._walk((f"#{number + 1}",) if several else (), Member("", -1, root))
        return found

    def _walk(self, path: Path, here: Member) -> Iterator[Entry]:
        members = list(self.stream.members(here.value))
        if not members and path:  # what is the whole file has no name by which it could be set
            yield self._entry(path, here)
        for member in members:
            yield from self._walk((*path, member.step), member)

    def find(self, path: Path) -> Entry | None:
        """Return what stands at a path, or None; None too where the file cannot be read."""
        way = None if self.error else self.stream.locate(path)
        return self._entry(path, way[-1]) if way else None

    def switched_off(self) -> Sequence[Entry]:
        """Return ``# name: value`` lines: what stands commented out in each map, as far as its indentation tells."""
        return [entry for entry in self.names_off() if entry.value]

    def names_off(self) -> list[Entry]:
        """Return the names that stand commented out, those too whose values would be on the lines below."""
        found = []
        names = None
        for off in _OFF.finditer(self.text.body.replace("\r", " ")):
            names = self._names() if names is None else names
            home = self._home(names, off.start("mark"), len(off["lead"]))
            value, start = off["value"], off.start("value")
            name = off["key"][1:-1] if off["key"][0] in "\"'" else off["key"]
            end = start + len(value)
            found.append(Entry((*home, name), value.strip("\"'"), *off.span("key"), start, end))
        return found

    def _names(self) -> list[tuple[int, int, Path]]:
        """Give, for each name in a block of the first document, where it stands, its column and its path."""
        if self.error or not self.stream.roots:
            return []
        stream, found = self.stream, []
        waiting: list[tuple[Path, int]] = [((), stream.roots[0])]
        while waiting:
            path, event = waiting.pop()
            is_flow = stream.events[event][0] in "[{" and stream.is_flow(event)
            for member in () if is_flow else stream.members(event):
                waiting.append(((*path, member.step), member.value))
                if member.key >= 0:
                    start = stream.spans[member.key][0]
                    found.append((start, start - line_start(self.text.body, start), (*path, member.step)))
        return sorted(found)

    def _home(self, names: Sequence[tuple[int, int, Path]], at: int, column: int) -> Path:
        """Return the path of the map to which a line belongs that stands at an index, in a column."""
        for number in range(bisect(names, (at,)) - 1, -1, -1):
            _, other, path = names[number]
            if other <= column:
                return path[:-1] if other == column else path
        return ()
