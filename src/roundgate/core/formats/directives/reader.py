"""Reading command files: what stands where, and what it says. ``directives`` edits them."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import NamedTuple

from roundgate.core.formats.protocol import USUAL, Dialect, Entry, Pairs, Path
from roundgate.core.formats.shared.window import Window, around, is_large, lines_with
from roundgate.core.patterns import lazy
from roundgate.core.text import LINE_END, Text

VERBS = ("set", "seta", "sets", "setu", "setp")


_TOKEN = lazy(r'"(?:[^"\r\n])*"|[^\s;"]+')


_OPTION = lazy(r"[+\-][A-Za-z_][\w.\-]*")


class Command(NamedTuple):
    """One command: its key and value with their spans, and the span of the whole of it."""

    key: str
    start: int
    key_start: int
    key_end: int
    value_start: int
    value_end: int
    end: int


class DirectivesReading:
    """A command file, read: what stands where."""

    is_part = False
    """True for a few lines of a file, read by themselves."""

    def __init__(self, text: Text, dialect: Dialect = USUAL) -> None:
        """Read ``text``."""
        self.text = text
        self.dialect = dialect
        self.marks = tuple(dialect.marks.split()) or ("//", "#")
        self.read_as = _masked(text.body, dialect.quotes)
        """The text with every quote that is a letter masked, so that all indexes hold in both."""

    @cached_property
    def commands(self) -> list[Command]:
        """Every command, in order."""
        found: list[Command] = []
        at, body = 0, self.read_as
        while at < len(body):
            end = LINE_END.search(body, at)
            stop = end.start() if end else len(body)
            found += self._line(at, self._comment_start(at, stop))
            at = end.end() if end else len(body)
        return found

    def _comment_start(self, start: int, stop: int) -> int:
        """Return where a line's comment begins, or where the line ends. A mark counts at a word's beginning only."""
        line = self.read_as[start:stop]
        begun = [self._mark_in(line, mark) for mark in self.marks if mark in line]
        return start + min((at for at in begun if at >= 0), default=stop - start)

    def _mark_in(self, line: str, mark: str) -> int:
        at = line.find(mark)
        while at >= 0:
            if (at == 0 or line[at - 1] in " \t;") and line.count('"', 0, at) % 2 == 0:
                return at
            at = line.find(mark, at + 1)
        return -1

    def _line(self, start: int, stop: int) -> Iterator[Command]:
        """Yield the commands of a line without its comment."""
        at, body = start, self.read_as
        if body.find(";", start, stop) < 0:
            yield from self._command(start, stop)
            return
        while at < stop:
            end, in_quotes = at, False
            while end < stop and (in_quotes or body[end] != ";"):
                in_quotes ^= body[end] == '"'
                end += 1
            yield from self._command(at, end)
            at = end + 1

    def _command(self, start: int, end: int) -> Iterator[Command]:
        tokens = list(_TOKEN.finditer(self.read_as, start, end))
        if not tokens:
            return
        if _OPTION.fullmatch(tokens[0][0]):
            yield from self._options(tokens, end)
            return
        first = self.plain_of(tokens[0][0])
        if len(tokens) > 1 and self.is_paired(first):
            key_span, values = (tokens[0].start(), tokens[1].end()), tokens[2:]
            key = f"{first} {self.plain_of(self.text.body[slice(*tokens[1].span())])}"
        else:
            skip = 1 if len(tokens) > 1 and tokens[0][0].lower() in VERBS else 0
            key_span, values = tokens[skip].span(), tokens[skip + 1 :]
            key = self.plain_of(self.text.body[slice(*key_span)])
        span = (values[0].start(), values[-1].end()) if values else (key_span[1], key_span[1])
        yield Command(key, tokens[0].start(), *key_span, *span, tokens[-1].end())

    def is_paired(self, word: str) -> bool:
        """Return whether a command's first argument is a part of its key."""
        return self._named(word) in map(self._named, self.dialect.pairs)

    def _options(self, tokens: list[re.Match[str]], end: int) -> Iterator[Command]:
        """Yield the options of a line: each begins with a sign and a letter, and runs to the next."""
        begun = [at for at, token in enumerate(tokens) if _OPTION.fullmatch(token[0])]
        for number, at in enumerate(begun):
            stop = begun[number + 1] if number + 1 < len(begun) else len(tokens)
            name = tokens[at][0]
            parts = 2 if stop > at + 1 and self.is_paired(name) else 1
            key_span = (tokens[at].start(), tokens[at + parts - 1].end())
            values = tokens[at + parts : stop]
            span = (values[0].start(), values[-1].end()) if values else (key_span[1], key_span[1])
            second = self.plain_of(self.text.body[slice(*tokens[at + 1].span())]) if parts == 2 else ""
            yield Command(f"{name} {second}".rstrip(), key_span[0], *key_span, *span, max(key_span[1], span[1]))

    # --- what stands there ---

    def _named(self, key: str) -> str:
        return key if self.dialect.case else key.lower()

    def _value(self, command: Command) -> str:
        return self.plain_of(self.text.body[command.value_start : command.value_end])

    def is_quoted(self, raw: str) -> bool:
        """Return whether a piece of the text is one text in quotes."""
        return _is_quoted(_masked(raw, self.dialect.quotes))

    def plain_of(self, raw: str) -> str:
        """Return what a piece of the text says, its quotes and escapes undone."""
        if not self.is_quoted(raw):
            return raw
        return _ESCAPED.sub(r"\1", raw[1:-1]) if self.dialect.quotes == "escaped" else raw[1:-1]

    @cached_property
    def _entries(self) -> list[Entry]:
        found = []
        for command in self.commands:
            raw = self.text.body[command.value_start : command.value_end]
            quotes = 1 if self.is_quoted(raw) else 0
            span = (command.value_start + quotes, command.value_end - quotes)
            found.append(Entry((command.key,), self.plain_of(raw), command.key_start, command.key_end, *span))
        return found

    def entries(self) -> Sequence[Entry]:
        """Return every command, in order, repeated ones included."""
        return self._entries

    @cached_property
    def _by_key(self) -> dict[str, list[int]]:
        found: dict[str, list[int]] = {}
        for at, command in enumerate(self.commands):
            found.setdefault(self._named(command.key), []).append(at)
        return found

    def _several(self, path: Path) -> list[int]:
        return self._by_key.get(self._named(str(path[0])), []) if path else []

    def _number_at(self, path: Path) -> int | None:
        several = self._several(path)
        if len(path) == 2 and isinstance(path[1], int):
            return several[path[1]] if path[1] < len(several) else None
        if len(path) != 1 or not several:
            return None
        return several[0 if self.dialect.counts == "first" else -1]

    def find(self, path: Path) -> Entry | None:
        """Return the command that counts, or the one of a number."""
        near = self._near(path) if "_by_key" not in self.__dict__ else None
        if near:
            return near.entry(path)
        at = self._number_at(path)
        return self._entries[at]._replace(path=path) if at is not None else None

    def _near(self, path: Path) -> Window | None:
        """Return the lines around a command of a large file, or around the one of a number."""
        numbered = len(path) == 2 and isinstance(path[1], int)
        if not (len(path) == 1 or numbered) or not self.dialect.case:
            return None
        if self.is_part or not is_large(self.text):
            return None
        body, key = self.text.body, str(path[0])
        hits: list[tuple[int, int]] = []
        for start, end in lines_with(body, key.rpartition(" ")[2]) or ():
            commands = type(self)(self.text.with_body(body[start:end].rstrip("\r")), self.dialect).commands
            hits += [(start, end) for command in commands if command.key == key]
        number = int(path[1]) if numbered else 0 if self.dialect.counts == "first" else len(hits) - 1
        if not 0 <= number < len(hits):
            return None
        start, end = around(body, *hits[number])
        before = sum(1 for hit in hits if hit[0] < start)
        part = type(self)(self.text.with_body(body[start:end]), self.dialect)
        part.is_part = True
        return Window(start, end, part, (key, number - before) if numbered else path)

    def resolve(self, key: str) -> Path:
        """Return the path of a key; ``key[0]`` is the first of several."""
        from roundgate.core.formats.shared.paths import parse_path

        if self._near((key,)) or self._named(key) in self._by_key:
            return (key,)
        path = parse_path(key)
        return path if len(path) == 2 and isinstance(path[1], int) else (key,)

    @cached_property
    def _off(self) -> list[Entry]:
        marks = "|".join(re.escape(mark) for mark in self.marks)
        pairs = "".join(rf"{re.escape(word)}[ \t]+[\w.]+|" for word in self.dialect.pairs)
        off = re.compile(
            rf"^[ \t]*(?:{marks})[ \t]?(?:set[a-z]?[ \t]+)?(?P<key>{pairs}[a-z_][\w.]*)[ \t]+"
            r'(?P<value>"[^"\r\n]*"|[\w.\-]+)[ \t]*$',
            re.M,
        )
        body = self.text.body.replace("\r", " ")
        return [
            Entry(
                (" ".join(match["key"].split()),),
                self.plain_of(match["value"]),
                *match.span("key"),
                *match.span("value"),
            )
            for match in off.finditer(body)
        ]

    def switched_off(self) -> Sequence[Entry]:
        """Return ``// key value`` lines of one value: what may stand commented out."""
        return self._off

    def plain(self) -> Pairs:
        """Return keys and values, in order."""
        return [(command.key, self._value(command)) for command in self.commands]


_ESCAPED = lazy(r'\\(["\\])')


def _masked(body: str, quotes: str) -> str:
    """Put another letter in the place of each quote that is one by the dialect; the text keeps its length."""
    if quotes == "none":
        return body.replace('"', "\ue000")
    return _ESCAPED.sub("\ue000\ue000", body) if quotes == "escaped" else body


def _is_quoted(raw: str) -> bool:
    return len(raw) > 1 and raw[0] == raw[-1] == '"' and '"' not in raw[1:-1]
