"""Where in a YAML file something can be put, and in which style; what it shares is not to be touched."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import cached_property

from roundgate.core.formats.protocol import Edit, EditRefused, EntryKind, Path, PlainData
from roundgate.core.formats.shared.bracket_edits import Brackets, Span
from roundgate.core.formats.shared.key_value import closed_before, line_span
from roundgate.core.formats.yaml.events import Member
from roundgate.core.formats.yaml.reader import YamlReading
from roundgate.core.patterns import lazy
from roundgate.core.text import Splice, Text

_DASH = lazy(r"(?:[ \t\r\n]|#[^\r\n]*)*-")


class YamlPlaces(YamlReading):
    """A YAML file, read, with what an edit asks of its surroundings."""

    def alone(self, text: Text) -> YamlPlaces:
        """Read another text as this one was read."""
        raise NotImplementedError

    def remove(self, path: Path) -> Edit:
        """See Document."""
        raise NotImplementedError

    def set(self, path: Path, value: PlainData, kind: EntryKind | None = None, *, on_copy: bool = False) -> Edit:
        """See Document."""
        raise NotImplementedError

    @property
    def ascii_only(self) -> bool:
        """True where the encoding has few letters, so that others are written by their numbers."""
        return self.text.encoding in ("latin-1", "cp1252")

    def refuse_shared(self, way: Sequence[Member]) -> None:
        """Raise EditRefused where a way leads through what the file shares between several places."""
        for member in way:
            events = self.stream.events[member.value]
            if events[0] == "*":
                line = self.text.place(self.stream.spans[self.stream.meant(member.value)][0])[0]
                raise EditRefused(
                    f"there is a *{events[1]} here: it shares what line {line} holds; change it there, "
                    "or here alone with --here-only"
                )
            shared = self.stream.aliases(events[2], member.value) if events[2] else []
            if shared:
                lines = ", ".join(str(self.text.place(self.stream.spans[at][0])[0]) for at in shared[:5])
                raise EditRefused(
                    f"it is marked &{events[2]}, and line {lines} shares it; change it here alone with --here-only"
                )

    def in_flow(self, way: Sequence[Member]) -> bool:
        """Return whether a way leads through brackets."""
        return any(
            self.stream.events[member.value][0] in "[{" and self.stream.is_flow(member.value) for member in way[:-1]
        )

    def into_nothing(self, way: Sequence[Member], at: int, text: str) -> str:
        """Return what to put where a value has no width: after a colon or a dash, or where there is not even those.

        Raises EditRefused.
        """
        before, after = self.text.body[at - 1 : at], self.text.body[at : at + 1]
        in_flow = self.in_flow(way)
        if (
            before not in (":", "-")
            and not in_flow
            and len(way) > 1
            and not self.text.body[:at].rstrip(" ").endswith((":", "-"))
        ):
            raise EditRefused("the name has no colon, in the long form; write its value by hand")
        if before in (" ", "\t", "") and at:
            lead = ""
        elif before in (":", "-", "?") or at == 0 or before in ("\n", "\r"):
            lead = " " if before in (":", "-", "?") else ""
        elif self.in_flow(way) and way[-1].key >= 0:
            lead = ": "
        else:
            lead = " "
        return lead + text + (" " if after not in ("", " ", "\t", "\r", "\n", ",", "]", "}") else "")

    @cached_property
    def unit(self) -> str:
        """One step of the file's indentation."""
        found = re.search(r"^( +)(?=[^\s#])", self.text.body, re.MULTILINE)
        return found[1] if found else "  "

    def column(self, index: int) -> int:
        """Return how far into its line an index is, from 0."""
        return index - self.text.line_around(index)[0]

    def line_behind(self, end: int, line: str) -> Splice:
        """Put lines in after the line on which something ends."""
        at = end if closed_before(self.text, end) and end else line_span(self.text, end)[1]
        if closed_before(self.text, at):
            return Splice(at, at, line + self.text.newline)
        return Splice(at, at, self.text.newline + line)

    def brackets(self, event: int) -> Brackets:
        """Return the items of a list or map in brackets, as the editor of brackets takes them."""
        stream = self.stream
        spans = [
            Span(stream.spans[member.key if member.key >= 0 else member.value][0], stream.content_end(member.value))
            for member in stream.members(event)
        ]
        close = stream.spans[stream.closing[event]][1] - 1
        comment = r"(?<=[ \t\r\n])#[^\r\n]*"
        return Brackets(
            self.text.body, stream.bare_start(event) + 1, close, spans, self.text.newline, comment, ",", self.unit
        )

    def list_at(self, path: Path) -> tuple[list[Member], list[Member]]:
        """Return the way to the list that a path ends in, and its items. Raises EditRefused."""
        way = self.stream.locate(path[:-1]) if path else None
        if way is None or self.plain()[way[-1].value][0] != "[" or not isinstance(path[-1], int):
            raise EditRefused("there is no list there")
        self.refuse_shared(way)
        return way, list(self.stream.members(way[-1].value))

    def dashes(self, event: int, items: Sequence[Member]) -> list[int]:
        """Return the index of each item's dash. Raises EditRefused."""
        found = []
        at = self.stream.bare_start(event)
        if self.text.body[at : at + 1] != "-":
            at = self.stream.spans[event][0]
        for item in items:
            dash = _DASH.match(self.text.body, at)
            if dash is None:
                raise EditRefused("the list is written in a way that cannot be edited")
            found.append(dash.end() - 1)
            at = self.stream.content_end(item.value)
            at = max(at, dash.end())
            rest = re.compile(r"[^\r\n]*").match(self.text.body, at)
            at = rest.end() if rest else at
        return found

    def emptied(self, parent: int, start: int, end: int) -> Splice:
        """Take the last member out of a group: brackets without anything keep it a list or a map."""
        empty = "[]" if self.plain()[parent][0] == "[" else "{}"
        colon = re.compile(r":[ \t]*(?:[ \t]#[^\r\n]*)?(?:\r\n|\r|\n)(?:[ \t]*(?:\r\n|\r|\n))*[ \t]*\Z")
        before = colon.search(self.text.body, max(0, start - 400), start)
        if before and "#" not in before[0] and self.text.body[before.start() + 1 : start].strip() == "":
            return Splice(before.start() + 1, end, f" {empty}")
        return Splice(start, end, empty)
