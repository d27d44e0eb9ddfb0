"""Files of statements: ``key = value;``, lists in braces, ``class NAME { };`` blocks, ``//`` and ``/* */`` comments.

A path is the names of the classes and the key, and numbers for the items of a list: ``Harbour.slots``, ``motd[0]``. A
``[]`` after a key is not part of its name.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from roundgate.core.formats.protocol import Edit, EditRefused, Entry, EntryKind, Path, PlainData
from roundgate.core.formats.shared import bracket_edits as bracketed
from roundgate.core.formats.shared.bracket_edits import Brackets, Span
from roundgate.core.formats.shared.key_value import closed_before, line_span
from roundgate.core.formats.shared.scalars import Number, fitted
from roundgate.core.formats.statements.reader import Reader, Statement, StatementError, StatementsReading, Value
from roundgate.core.patterns import lazy
from roundgate.core.text import LINE_END, Splice, line_start

_COMMENT = r"//[^\r\n]*|/\*(?:[^*\r\n]|\*(?!/))*\*/"
_OFF = lazy(r"^[ \t]*//[ \t]?(?P<said>(?P<key>[A-Za-z_]\w*)(?:\[\])?[ \t]*=[^\r\n;]*;)[ \t]*$", re.MULTILINE)

Group = list[tuple[Path, str]]
"""What one item of a list says: its raw values, each with its path inside the item."""


class StatementsDocument(StatementsReading):
    """A file of statements, read."""

    format_name = "statements"

    # --- edits ---

    def _written(self, value: PlainData) -> str:
        if isinstance(value, Number):
            return str(value)
        if isinstance(value, bool):
            return "true" if value else "false"
        if isinstance(value, int | float):
            return str(value)
        if isinstance(value, list):
            return "{" + ", ".join(self._written(item) for item in value) + "}"
        if not isinstance(value, str):
            raise EditRefused("this kind of file holds texts, numbers and lists: no records and no null")
        if LINE_END.search(value):
            raise EditRefused("a text in this kind of file cannot have a line break")
        return '"' + value.replace('"', '""') + '"'

    def _with_items(self, path: Path, change: Callable[[list[Group]], None]) -> list[tuple[Path, str]]:
        """Return what the file says once ``change`` has been made to the items of a list, each with what is in it."""
        plain, depth = self.plain(), len(path)
        first = next(number for number, (where, _) in enumerate(plain) if where == path)
        inner = [(where[depth], (where[depth + 1 :], raw)) for where, raw in plain if where[:depth] == path != where]
        groups = [[pair for at, pair in inner if at == number] for number in dict.fromkeys(at for at, _ in inner)]
        change(groups)
        items = [((*path, at, *rest), raw) for at, group in enumerate(groups) for rest, raw in group]
        return [*plain[: first + 1], *items, *plain[first + 1 + len(inner) :]]

    def set(self, path: Path, value: PlainData, kind: EntryKind | None = None, *, on_copy: bool = False) -> Edit:
        """Replace a value in its place, let a commented-out one count, or add a statement beside its neighbours.

        Raises EditRefused.
        """
        found = self.value_at(path)
        if found is None:
            if self.statement(path) is not None:
                raise EditRefused("there is a class here, and a single value cannot replace it")
            return self._add(path, value, kind)
        present = found[1].kind
        if present == "list" and not isinstance(value, list):
            raise EditRefused("there is a list here, and a single value cannot replace it")
        if kind is None and present == "code" and isinstance(value, str):
            new: str = value if re.fullmatch(r"[^;{}\"\r\n,=]+", value) else self._written(value)
        else:
            new = self._written(fitted(value, kind, None if present in ("list", "code") else present))
        expected = self._with(path, new, value if isinstance(value, list) else None)
        return Edit((Splice(found[1].start, found[1].end, new),), expected)

    def _with(self, path: Path, new: str, items: list[PlainData] | None) -> list[tuple[Path, str]]:
        """Return what the file says once a value is replaced."""
        plain = self.plain()
        first = next(number for number, (where, _) in enumerate(plain) if where == path)
        inside = sum(1 for where, _ in plain if where[: len(path)] == path)
        return [*plain[:first], *self._pairs(path, new, items), *plain[first + inside :]]

    def _pairs(self, path: Path, new: str, items: list[PlainData] | None) -> list[tuple[Path, str]]:
        if items is None:
            return [(path, new)]
        found: list[tuple[Path, str]] = [(path, "{}")]
        for number, item in enumerate(items):
            inner = item if isinstance(item, list) else None
            found += self._pairs((*path, number), self._written(item), inner)
        return found

    def _add(self, path: Path, value: PlainData, kind: EntryKind | None) -> Edit:
        if any(isinstance(step, int) for step in path) or not path:
            raise EditRefused("there is no such list; set it as a whole first")
        if not re.fullmatch(r"[A-Za-z_]\w*", str(path[-1])) or path[-1] == "class":
            raise EditRefused(f"'{path[-1]}' cannot be a name in this kind of file")
        home = self.statement(path[:-1]) if len(path) > 1 else None
        if len(path) > 1 and (home is None or home.value is not None):
            raise EditRefused(f"there is no class {'.'.join(map(str, path[:-1]))} to put it into")
        off = [entry for entry in self.switched_off() if entry.path == path]
        new = fitted(value, kind, None)
        if off and not isinstance(new, list):
            return self._switched_on(off[-1], self._written(new))
        name = f"{path[-1]}[]" if isinstance(new, list) else str(path[-1])
        assignment = f"{name} = {self._written(new)};"
        at, text = self._place(home, path[:-1], assignment)
        return self._promised_with((Splice(at, at, text),), at, self._pairs(path, self._written(new), self._items(new)))

    @staticmethod
    def _items(new: PlainData) -> list[PlainData] | None:
        return new if isinstance(new, list) else None

    def _promised_with(self, cuts: Sequence[Splice], at: int, pairs: list[tuple[Path, str]]) -> Edit:
        """Promise that the file says all it said, and ``pairs`` between what is before and after an index."""
        before = [pair for statement in self.statements if statement.start < at for pair in self._plain(statement)]
        after = [pair for statement in self.statements if statement.start >= at for pair in self._plain(statement)]
        return Edit(tuple(cuts), [*before, *pairs, *after])

    def _place(self, home: Statement | None, path: Path, assignment: str) -> tuple[int, str]:
        """Return where a new statement goes, and its line: after the last of its own class."""
        newline = self.text.newline
        mates = [statement for statement in self.statements if statement.path[:-1] == path]
        own = [mate for mate in mates if mate.value is not None] or mates
        if own:
            last = own[-1]
            lead = self._indent(last.start)
            end = line_span(self.text, last.end - 1)[1]
            if self.text.body[last.end : end].strip(" \t\r\n") and not self._is_comment(last.end, end):
                return last.end, f" {assignment}"
            return end, f"{lead}{assignment}{newline}" if closed_before(
                self.text, end
            ) else f"{newline}{lead}{assignment}"
        if home is None:
            at = len(self.text.body)
            return at, f"{assignment}{newline}" if closed_before(self.text, at) else f"{newline}{assignment}{newline}"
        lead = self._indent(home.start)
        inner = self.text.body[home.inner : home.close]
        unit = bracketed.unit_of(self.text.body)
        if not LINE_END.search(inner):
            return home.close, f" {assignment} " if not inner.strip() else f"{assignment} "
        at = line_start(self.text.body, home.close)
        return at, f"{lead}{unit}{assignment}{newline}"

    def _is_comment(self, start: int, end: int) -> bool:
        return re.fullmatch(rf"[ \t]*(?:{_COMMENT})[ \t\r\n]*", self.text.body[start:end]) is not None

    def _indent(self, at: int) -> str:
        start = line_start(self.text.body, at)
        blanks = re.compile(r"[ \t]*").match(self.text.body, start)
        return blanks.group() if blanks else ""

    def remove(self, path: Path) -> Edit:
        """Take out a statement, a class or an item of a list, with its line and its comment. Raises EditRefused."""
        statement = self.statement(path)
        if statement is None:
            return self._remove_item(path)
        if sum(1 for other in self.statements if other.path == path) > 1:
            raise EditRefused("it is there more than once; delete the ones that should not count first")
        start, end = statement.start, statement.end
        first, last = line_start(self.text.body, start), line_span(self.text, end - 1)[1]
        whole = not self.text.body[first:start].strip() and (
            not self.text.body[end:last].strip() or self._is_comment(end, last)
        )
        cut = Splice(first, last, "") if whole else Splice(start, end, "")
        gone = len(path)
        return Edit((cut,), [pair for pair in self.plain() if pair[0][:gone] != path])

    def _remove_item(self, path: Path) -> Edit:
        where, at = self._list_at(path)
        if not 0 <= at < len(where.items):
            raise EditRefused("it is not in the file")
        expected = self._with_items(path[:-1], lambda groups: groups.__delitem__(at))
        return Edit(tuple(bracketed.removed(where, at)), expected)

    def _list_at(self, path: Path) -> tuple[Brackets, int]:
        found = self.value_at(path[:-1]) if path else None
        if found is None or found[1].kind != "list" or not isinstance(path[-1], int):
            raise EditRefused("there is no list to put it into")
        value: Value = found[1]
        spans = [Span(item.start, item.end) for item in value.items]
        unit = bracketed.unit_of(self.text.body)
        inner = (value.start + 1, value.end - 1)
        return Brackets(self.text.body, *inner, spans, self.text.newline, _COMMENT, ",", unit), path[-1]

    def rename(self, path: Path, name: str) -> Edit:
        """Give a statement or class another name. Raises EditRefused."""
        same = [statement for statement in self.statements if statement.path == path]
        if not same:
            raise EditRefused("there is no name to change")
        if self.statement((*path[:-1], name)) is not None:
            raise EditRefused(f"{name} already exists")
        if not re.fullmatch(r"[A-Za-z_]\w*", name) or name == "class":
            raise EditRefused(f"'{name}' cannot be a name in this kind of file")
        depth = len(path) - 1
        pairs = [
            ((*where[:depth], name, *where[depth + 1 :]) if where[: depth + 1] == path else where, raw)
            for where, raw in self.plain()
        ]
        return Edit(tuple(Splice(statement.key_start, statement.key_end, name) for statement in same), pairs)

    def insert(self, path: Path, value: PlainData, kind: EntryKind | None = None) -> Edit:
        """Put an item into a list."""
        where, at = self._list_at(path)
        found = self.value_at(path[:-1])
        items = found[1].items if found else ()
        present = items[0].kind if items and items[0].kind in ("text", "number", "bool") else None
        item = fitted(value, kind, present)
        new, at = self._written(item), min(at, len(items))
        assignment = self._pairs((), new, self._items(item))
        expected = self._with_items(path[:-1], lambda groups: groups.insert(at, assignment))
        return Edit(tuple(bracketed.added(where, at, new)), expected)

    def move(self, path: Path, to: int) -> Edit:
        """Move an item of a list."""
        where, at = self._list_at(path)
        cuts = bracketed.moved(where, at, to)
        return Edit(tuple(cuts), self._with_items(path[:-1], lambda groups: groups.insert(to, groups.pop(at))))

    def switched_off(self) -> Sequence[Entry]:
        """Return the statements that are commented out, each on a line of its own, with the class that they are in."""
        if self.error:
            return []
        found = []
        for off in _OFF.finditer(self.text.body):
            try:
                (statement,) = Reader(off["said"]).read()
            except (StatementError, ValueError):
                continue
            if statement.value is None:
                continue
            inner = StatementsDocument(self.text.with_body(off["said"]))
            entry = inner._entry(statement.path, statement, statement.value)
            start = off.start("said")
            home = self._home_of(start)
            found.append(
                Entry(
                    (*home, off["key"]),
                    entry.value,
                    start + entry.key_start,
                    start + entry.key_end,
                    start + entry.start,
                    start + entry.end,
                    entry.kind,
                )
            )
        return found

    def _home_of(self, at: int) -> Path:
        """Return the path of the innermost class that an index is inside of."""
        inside = [
            statement
            for statement in self.statements
            if statement.value is None and statement.inner <= at <= statement.close
        ]
        return inside[-1].path if inside else ()

    def _switched_on(self, off: Entry, new: str) -> Edit:
        start = line_start(self.text.body, off.key_start)
        mark = self.text.body.index("//", start)
        mark_end = mark + 2 + (self.text.body[mark + 2 : mark + 3] in (" ", "\t"))
        quotes = off.kind == "text"
        span = (off.start - quotes, off.end + quotes)
        cuts = (Splice(mark, mark_end, ""), Splice(*span, new))
        alone = StatementsDocument(self.text.with_body(f"x = {new};")).plain()
        return self._promised_with(cuts, mark, [((*off.path, *where[1:]), raw) for where, raw in alone])

    def switch(self, path: Path, *, on: bool) -> Edit:
        """Comment a statement out that has its line to itself, or let one count again as it stands.

        Raises EditRefused.
        """
        if on:
            off = next((entry for entry in reversed(self.switched_off()) if entry.path == path), None)
            if off is None:
                raise EditRefused("it is not commented out in the file")
            quotes = off.kind == "text"
            raw = self.text.body[off.start - quotes : off.end + quotes]
            return self._switched_on(off, raw)
        statement = self.statement(path)
        if statement is None or statement.value is None:
            raise EditRefused("only a statement can be commented out")
        start, end = self.text.line_around(statement.start)
        if (
            self.text.body[start : statement.start].strip()
            or not statement.end <= end
            or self.text.body[statement.end : end].strip()
        ):
            raise EditRefused("only a statement that has its line to itself can be commented out")
        cut = Splice(statement.start, statement.start, "// ")
        gone = len(path)
        return Edit((cut,), [pair for pair in self.plain() if pair[0][:gone] != path])
