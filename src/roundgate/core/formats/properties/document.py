"""Properties files: ``key=value``, ``key: value`` or ``key value``, one to a line.

Read as the Java platform documents it (java.util.Properties.load): ``#`` and ``!`` start a comment line, a backslash at
the end of a line continues it, ``\\uXXXX`` and a few letters are escapes, and of two equal keys the last one counts.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import NamedTuple

from roundgate.core.formats.properties.escapes import escape, runs_on, unescape
from roundgate.core.formats.protocol import USUAL, Dialect, Edit, EditRefused, Entry, EntryKind, Pairs, Path, PlainData
from roundgate.core.formats.shared.key_value import KeyFile, as_text
from roundgate.core.formats.shared.window import Window, around, is_large, lines_with, runs_on_into
from roundgate.core.patterns import lazy
from roundgate.core.text import LINE_END, Splice, Text, line_start

_ESCAPE = r"\\(?:\r\n?[ \t\f]*|\n[ \t\f]*|[^\r\n]|\Z)"
_BLANK = r"(?:[ \t\f]|\\(?:\r\n?|\n|\Z)[ \t\f]*)"
_LINE = lazy(
    rf"(?P<lead>{_BLANK}*+)"
    rf"(?P<key>(?:[^\\ \t\f\r\n=:]++|{_ESCAPE})*+)(?P<sep>{_BLANK}*+(?:[=:]{_BLANK}*+)?)"
    rf"(?P<value>(?:[^\\\r\n]++|{_ESCAPE})*+)"
    r"(?P<end>\r\n|\r|\n|\Z)"
)
_COMMENT_LINE = lazy(r"(?P<lead>[ \t\f]*+)[#!][^\r\n]*+(?:\r\n|\r|\n|\Z)")
_SWITCHED_OFF = lazy(r"(?P<mark>[#!][ \t]?)(?P<key>[^\s=:#!\\]+)(?P<sep>[ \t]*[=:][ \t]*)(?P<value>[^\r\n]*)")
_ESCAPED_KEY = lazy(r"^[ \t\f]*+[^=:\s#!\\]*+\\", re.MULTILINE)
_DANGLING = lazy(r"(?<!\\)(?:\\\\)*\\(?:\r\n?|\n)?[ \t\f]*\Z")


class Line(NamedTuple):
    """One logical line: its spans in the text, and the number of its kind."""

    start: int
    lead_end: int
    key_end: int
    value_start: int
    value_end: int
    end: int
    is_comment: bool
    is_blank: bool


class PropertiesDocument(KeyFile):
    """A properties file, read."""

    format_name = "properties"

    is_part = False
    """True for a few lines of a file, read by themselves."""

    def __init__(self, text: Text, dialect: Dialect = USUAL) -> None:
        """Read ``text``; spans are kept for every logical line."""
        self.text = text
        self.dialect = dialect

    @cached_property
    def lines(self) -> list[Line]:
        """Every logical line, comments and blank lines included, in order."""
        return list(_lines(self.text.body))

    @cached_property
    def _entries(self) -> list[Entry]:
        body = self.text.body
        return [
            Entry(
                (unescape(body[line.lead_end : line.key_end]),),
                unescape(body[line.value_start : line.value_end]),
                line.lead_end,
                line.key_end,
                line.value_start,
                line.value_end,
            )
            for line in self.lines
            if not (line.is_comment or line.is_blank)
        ]

    @cached_property
    def _last_of(self) -> dict[Path, Entry]:
        return {entry.path: entry for entry in self._entries}

    def entries(self) -> Sequence[Entry]:
        """Return every entry in order, duplicates included."""
        return self._entries

    def find(self, path: Path) -> Entry | None:
        """Return the entry that counts: the last one of equal keys."""
        # Once the whole file has been read, a look around the key would only be more work.
        near = self._near(path) if "_last_of" not in self.__dict__ else None
        if near:
            return near.entry(path)
        return self._last_of.get(path)

    def _near(self, path: Path) -> Window | None:
        """Return the lines around a key of a large file, where its letters alone tell which lines are its own."""
        body = self.text.body
        if self.is_part or not is_large(self.text) or len(path) != 1 or _ESCAPED_KEY.search(body):
            return None
        here: tuple[int, int] | None = None
        for start, end in lines_with(body, str(path[0])) or ():
            first = start
            while runs_on_into(body, first):
                first = line_start(body, first - 1)
            line = next((line for line in _lines(body, first) if line.end > start), None)
            if line and line.start == start and self._key_of(line) == path:
                here = start, max(end, line.value_end)
        if here is None:
            return None
        start, end = around(body, *here)
        # A line that ends with an odd number of backslashes goes on on the next one, so a part must not begin there.
        while runs_on_into(body, start):
            start = line_start(body, start - 1)
        while end < len(body) and runs_on_into(body, end):
            end = body.find("\n", end) + 1 or len(body)
        part = PropertiesDocument(self.text.with_body(body[start:end]), self.dialect)
        part._ascii_only = self._ascii_only
        part.is_part = True
        return Window(start, end, part, path)

    def resolve(self, key: str) -> Path:
        """Return the path of a key: the whole of it is one name, dots and all."""
        return (key,)

    def plain(self) -> Pairs:
        """Return keys and values in order."""
        return [(str(entry.path[0]), entry.value) for entry in self._entries]

    @cached_property
    def _off(self) -> list[Entry]:
        found = []
        for line in self.lines:
            match = _SWITCHED_OFF.match(self.text.body, line.lead_end, line.end) if line.is_comment else None
            if match:
                key, value = match.span("key"), match.span("value")
                found.append(Entry((match["key"],), unescape(match["value"]), *key, *value))
        return found

    def switched_off(self) -> Sequence[Entry]:
        """Return ``#key=value`` lines: settings that stand commented out."""
        return self._off

    def set(self, path: Path, value: PlainData, kind: EntryKind | None = None, *, on_copy: bool = False) -> Edit:
        """Set in place, else switch on the commented-out line, else add a line near its relatives."""
        near = self._near(path)
        if near:
            return near.whole(near.document.set(near.path, value, kind), self.text)
        value = as_text(value)
        here = self.find(path)
        if here:
            return self._replace(here, value)
        off = [entry for entry in self._off if entry.path == path]
        return self._switch_on(off[-1], value) if off else self._add(str(path[0]), value)

    def _replace(self, here: Entry, value: str) -> Edit:
        number = next(at for at, entry in enumerate(self._entries) if entry is here)
        expected = self.plain()
        expected[number] = (expected[number][0], value)
        written = escape(value, ascii_only=self._ascii_only)
        separator = "=" if here.key_end == here.start else ""
        body = self.text.body
        open_end = here.start == len(body) and runs_on(body[here.key_start :])  # a last backslash would escape it
        return Edit((Splice(here.start - open_end, here.end, separator + written),), expected)

    def _switch_on(self, off: Entry, value: str) -> Edit:
        mark = max(self.text.body.rfind("#", 0, off.key_start), self.text.body.rfind("!", 0, off.key_start))
        expected = self._with_pair(off.key_start, (str(off.path[0]), value))
        written = escape(value, ascii_only=self._ascii_only)
        return Edit((Splice(mark, off.key_start, ""), Splice(off.start, off.end, written)), expected)

    def _with_pair(self, index: int, pair: tuple[str, str]) -> Pairs:
        before = sum(1 for entry in self._entries if entry.key_start < index)
        pairs = self.plain()
        return [*pairs[:before], pair, *pairs[before:]]

    def _add(self, key: str, value: str) -> Edit:
        model = self._relative(key)
        lead, sep = self._style_of(model)
        sep = sep if key or sep.strip() else "="  # spaces alone before an empty key are only indentation
        ascii_only = self._ascii_only
        line = lead + escape(key, is_key=True, ascii_only=ascii_only) + sep + escape(value, ascii_only=ascii_only)
        body, newline = self.text.body, self.text.newline
        at = model.end if model else len(body)
        closed = at == 0 or LINE_END.search(body, at - 1, at)
        new = self._end_dangling(at) + (line + newline if closed else newline + line)
        return Edit((Splice(at, at, new),), self._with_pair(at, (key, value)))

    def _end_dangling(self, at: int) -> str:
        """A last line that promises a continuation would swallow what is put after it: give it an empty one."""
        last = self.lines[-1] if self.lines else None
        if last is None or at < len(self.text.body) or last.is_comment:
            return ""
        newline = "\r" if self.text.body.endswith("\r") else self.text.newline  # "\n" would only complete the "\r"
        return newline if _DANGLING.search(self.text.body, last.start) else ""

    def _relative(self, key: str) -> Line | None:
        """Find the line after which a new key belongs: the last one that shares the most leading words."""
        steps = key.split(".")
        best, best_shared = None, 0
        for line in self.lines:
            if line.is_comment or line.is_blank:
                continue
            other = self.text.body[line.lead_end : line.key_end].split(".")
            shared = next((n for n, (a, b) in enumerate(zip(steps, other, strict=False)) if a != b), len(steps))
            if shared >= max(best_shared, 1):
                best, best_shared = line, shared
        return best

    def _style_of(self, model: Line | None) -> tuple[str, str]:
        """Return the indentation and separator of a neighbour, or of the last line."""
        plain = [line for line in self.lines if not (line.is_comment or line.is_blank)]
        line = model or (plain[-1] if plain else None)
        if line is None:
            return "", "="
        lead = self.text.body[line.start : line.lead_end]
        sep = self.text.body[line.key_end : line.value_start]
        return ("" if "\\" in lead else lead), ("=" if "\\" in sep or not sep else sep)

    def remove(self, path: Path) -> Edit:
        """Take out every line of the key, with the comment that is its alone. Raises EditRefused."""
        gone = [at for at, line in enumerate(self.lines) if self._key_of(line) == path]
        if not gone:
            raise EditRefused(f"{path[0]} is not in the file")
        cuts = [Splice(self._own_start(at), self.lines[at].end, "") for at in gone]
        return Edit(tuple(cuts), [pair for pair in self.plain() if (pair[0],) != path])

    def _key_of(self, line: Line) -> Path | None:
        if line.is_comment or line.is_blank:
            return None
        return (unescape(self.text.body[line.lead_end : line.key_end]),)

    def _own_start(self, at: int) -> int:
        """Return where an entry starts when the comment above it, with blank lines around both, is its alone."""
        top = at
        while top > 0 and self.lines[top - 1].is_comment:
            top -= 1
        off = {entry.key_start for entry in self._off}
        above = self.lines[top:at]
        shared = at + 1 < len(self.lines) and not self.lines[at + 1].is_blank and not self.lines[at + 1].is_comment
        holds_setting = any(line.start <= index < line.end for line in above for index in off)
        return self.lines[at].start if top == 0 or shared or holds_setting else self.lines[top].start

    def rename(self, path: Path, name: str) -> Edit:
        """Give the key that counts another name, and its doubles too. Raises EditRefused."""
        if self.find((name,)) is not None:
            raise EditRefused(f"{name} is already in the file")
        here = [entry for entry in self._entries if entry.path == path]
        if not here or not name:
            raise EditRefused(f"{path[0]} is not in the file")
        if any(entry.start == entry.key_start for entry in here):
            raise EditRefused("a key of no characters cannot be renamed")
        written = escape(name, is_key=True, ascii_only=self._ascii_only)
        cuts = [Splice(entry.key_start, entry.key_end, written) for entry in here]
        return Edit(tuple(cuts), [(name if (key,) == path else key, value) for key, value in self.plain()])

    def switch(self, path: Path, *, on: bool) -> Edit:
        """Comment the entry out, or set the commented-out one as it stands. Raises EditRefused."""
        if on:
            off = [entry for entry in self._off if entry.path == path]
            if self.find(path) is not None or not off:
                raise EditRefused(f"{path[0]} is not commented out in the file")
            return self._as_it_stood(off[-1])
        here = [line for line in self.lines if self._key_of(line) == path]
        if not here:
            raise EditRefused(f"{path[0]} is not in the file")
        # A comment does not go on over a backslash: its second line would become a key.
        if any(LINE_END.search(self.text.body, line.start, line.value_end) for line in here):
            raise EditRefused(f"{path[0]} runs over several lines and cannot be commented out in one")
        return Edit(
            tuple(Splice(line.lead_end, line.lead_end, "#") for line in here),
            [pair for pair in self.plain() if (pair[0],) != path],
        )

    def _as_it_stood(self, off: Entry) -> Edit:
        body = self.text.body
        read_back = PropertiesDocument(self.text.with_body(body[off.key_start : off.end])).plain()
        if len(read_back) != 1:
            raise EditRefused(f"{off.path[0]} cannot be read where it is commented out")
        mark = max(body.rfind("#", 0, off.key_start), body.rfind("!", 0, off.key_start))
        return Edit((Splice(mark, off.key_start, ""),), self._with_pair(off.key_start, read_back[0]))

    @cached_property
    def _ascii_only(self) -> bool:
        """Write ``\\uXXXX`` unless the file already shows that its server reads plain characters as UTF-8."""
        # Classic readers of this format take bytes above 127 for Latin-1, whatever the rest of the system uses.
        return self.text.encoding == "latin-1" or (not self.text.bom and self.text.body.isascii())


def _lines(body: str, at: int = 0) -> Iterator[Line]:
    length = len(body)
    while at < length:
        comment = _COMMENT_LINE.match(body, at)
        if comment:
            lead = comment.end("lead")
            yield Line(at, lead, lead, lead, comment.end(), comment.end(), True, False)
            at = comment.end()
            continue
        match = _LINE.match(body, at)
        if match is None:  # cannot happen: every part of the pattern may be empty and it stops at a line end
            raise AssertionError(f"no line at {at}")
        blank = match.end("lead") == match.start("end")
        key, value = match.span("key"), match.span("value")
        yield Line(at, key[0], key[1], value[0], value[1], match.end(), False, blank)
        at = match.end()
