"""Command files: ``KEY value``, ``set KEY value``, ``+option value``, several commands on a line with ``;`` between.

A path is ``(key,)``; of a command that stands several times the last one counts (dialect ``counts``), and ``(key,
0)`` is the first of them. ``set`` and its like are no part of a key: ``("sv_wind",)`` for ``set sv_wind 3``. In the
dialect ``pairs`` the first argument of some commands is a part of the key: ``("tune wind",)`` for ``tune wind 0.5``.
A new command goes before those of the dialect ``closing``, with the dialect's ``verb`` before it. What
begins with ``+`` or ``-`` is an option, and keeps its sign: ``("+map",)``. Comments begin with ``//`` or ``#``
(dialect ``marks``) and run to the line's end. In the dialect ``case = false`` the case of a key does not count."""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence

from roundgate.core.formats.directives.reader import _OPTION, VERBS, Command, DirectivesReading
from roundgate.core.formats.protocol import Edit, EditRefused, Entry, EntryKind, Pairs, Path, PlainData
from roundgate.core.formats.shared.key_value import as_text, closed_before, line_span, mark_in_use, single_line
from roundgate.core.formats.shared.scalars import is_number
from roundgate.core.text import LINE_END, Splice


class DirectivesDocument(DirectivesReading):
    """A command file, read."""

    format_name = "directives"

    def _written(self, value: str, *, was_quoted: bool) -> str:
        single_line(value)
        if self.dialect.quotes in ("none", "escaped"):
            return self._written_by_dialect(value, was_quoted=was_quoted)
        if '"' in value:
            outside = "".join(value.split('"')[::2])
            plain = (
                not was_quoted and value.count('"') % 2 == 0 and not self.is_quoted(value) and value == value.strip()
            )
            if plain and ";" not in outside and not any(mark in outside for mark in self.marks):
                return value
            raise EditRefused("a value with a quote in it cannot be written in this kind of file")
        if not was_quoted and not value:
            return '""'
        marked = any(mark in value for mark in self.marks)
        needs = was_quoted or marked or re.search(r"[;\t]|^ | $|  ", value) is not None
        return f'"{value}"' if needs else value

    def _written_by_dialect(self, value: str, *, was_quoted: bool) -> str:
        """Write a value where quotes are letters, or where a backslash makes them letters."""
        marked = any(mark in value for mark in self.marks) or ";" in value
        blanks = not value or value != value.strip() or re.search(r"\t|  ", value) is not None
        if self.dialect.quotes == "none":
            if marked or blanks:
                raise EditRefused("this kind of file has no quotes, and the value could not be read without them")
            return value
        if was_quoted or marked or blanks or '"' in value or "\\" in value:
            return '"' + value.replace("\\", "\\\\").replace('"', '\\"') + '"'
        return value

    def set(self, path: Path, value: PlainData, kind: EntryKind | None = None, *, on_copy: bool = False) -> Edit:
        """Set in place, else switch on the commented-out line, else add a line near its relatives.

        A value of the kind ``code`` is written as it is, several words without quotes. Raises EditRefused.
        """
        near = self._near(path)
        if near:
            return near.whole(near.document.set(near.path, value, kind), self.text)
        new = as_text(value)
        at = self._number_at(path)
        if at is not None:
            return self._replace(at, new, is_raw=kind == "code")
        if len(path) != 1:
            raise EditRefused("there is no such command in the file")
        off = [entry for entry in self._off if entry.path == path]
        return self._switch_on(off[-1], new) if off else self._add(str(path[0]), new, is_raw=kind == "code")

    def _raw(self, value: str) -> str:
        """Return several arguments as they are. Raises EditRefused where they would be read as something else."""
        if '"' not in self._written(value.replace("  ", " "), was_quoted=False) or '"' in value:
            return single_line(value)
        raise EditRefused(f"'{value}' cannot be written without quotes")

    def _replace(self, at: int, new: str, *, is_raw: bool = False) -> Edit:
        command = self.commands[at]
        raw = self.text.body[command.value_start : command.value_end]
        written = self._written(new, was_quoted=self.is_quoted(raw) or (not raw and not new))
        if (command.key[:1] in "+-" and _OPTION.match(written)) or (
            not self.is_quoted(raw) and " " in new and " " not in raw and '"' not in new
        ):
            written = self._written(new, was_quoted=True)
        if is_raw:
            written = self._raw(new)
        expected = self.plain()
        expected[at] = (command.key, self.plain_of(written))
        gap = " " if command.value_start == command.key_end else ""
        return Edit((Splice(command.value_start, command.value_end, gap + written),), expected)

    def _insertion(self, index: int, pair: tuple[str, str]) -> Pairs:
        before = sum(1 for command in self.commands if command.start < index)
        plain = self.plain()
        return [*plain[:before], pair, *plain[before:]]

    def _switch_on(self, off: Entry, new: str) -> Edit:
        start = self.text.line_around(off.key_start)[0]
        lead = re.compile(r"[ \t]*").match(self.text.body, start)
        mark_start = lead.end() if lead else start
        mark = next(mark for mark in self.marks if self.text.body.startswith(mark, mark_start))
        mark_end = mark_start + len(mark)
        mark_end += self.text.body[mark_end : mark_end + 1] in (" ", "\t")
        was_quoted = self.text.body[off.start : off.start + 1] == '"'
        written = self._written(new, was_quoted=was_quoted or " " in new)
        cuts = (Splice(mark_start, mark_end, ""), Splice(off.start, off.end, written))
        return Edit(cuts, self._insertion(mark_start, (str(off.path[0]), self.plain_of(written))))

    def _add(self, key: str, new: str, *, is_raw: bool = False) -> Edit:
        first, _, second = key.partition(" ")
        name = second if second and self.is_paired(first) else key
        if not re.fullmatch(r'[^\s;"]+', name) or key.startswith(self.marks) or key.lower() in VERBS:
            raise EditRefused(f"'{key}' cannot be a command's name")
        like = self._relative(key)
        line = self._like(like, key, new, is_raw=is_raw)
        at = line_span(self.text, like.end)[1] if like else len(self.text.body)
        at = min([at, *self._closing_starts])
        newline = self.text.newline
        text = line + newline if closed_before(self.text, at) else newline + line
        return Edit((Splice(at, at, text),), self._insertion(at, (key, new)))

    @property
    def _closing_starts(self) -> list[int]:
        """Where the lines of commands begin that must stay behind all others."""
        closing = set(map(self._named, self.dialect.closing))
        return [
            line_span(self.text, command.start)[0] for command in self.commands if self._named(command.key) in closing
        ]

    def _relative(self, key: str) -> Command | None:
        """Find the command after which a new one belongs: the last one that begins alike."""
        best, best_shared = None, -1
        with_values = [command for command in self.commands if command.value_end > command.value_start]
        single = [value for value in with_values if len(self._by_key[self._named(value.key)]) == 1]
        for number in single or with_values or self.commands:  # one without a value may be an action that ends the file
            shared = 0
            for a, b in zip(key.lower(), number.key.lower(), strict=False):
                if a != b:
                    break
                shared += 1
            if shared >= max(best_shared, 2) or best is None or (best_shared < 2 and shared < 2):
                best, best_shared = number, shared
        return best

    @property
    def _bare_numbers(self) -> bool:
        """Whether the file has numbers without quotes."""
        return any(is_number(self.text.body[command.value_start : command.value_end]) for command in self.commands)

    def _like(self, like: Command | None, key: str, new: str, *, is_raw: bool = False) -> str:
        """Write a command as its neighbour is written: verb, spaces, quotes."""
        is_more = like is not None and self._named(like.key) == self._named(key)
        own_verb = self.dialect.verb and not is_more
        own_verb = own_verb and not self.is_paired(key.partition(" ")[0]) and key[:1] not in "+-"
        if like is None:
            lead = f"{self.dialect.verb} {key}" if own_verb else key
            return f"{lead} {new}" if is_raw else f"{lead} {self._written(new, was_quoted=' ' in new)}"
        body = self.text.body
        lead = body[self.text.line_around(like.start)[0] : like.start]
        verb = body[like.start : like.key_start] if key[:1] not in "+-" else ""
        verb = f"{self.dialect.verb} " if own_verb else "" if self.is_paired(key.partition(" ")[0]) else verb
        gap = body[like.key_end : like.value_start] if like.value_start > like.key_end else " "
        quoted = '"' not in new and (
            (self.is_quoted(body[like.value_start : like.value_end]) and not (is_number(new) and self._bare_numbers))
            or " " in new
            or (key[:1] in "+-" and _OPTION.match(new))
        )
        gap = gap if not gap.strip() else " "
        written = self._raw(new) if is_raw else self._written(new, was_quoted=bool(quoted))
        return (lead if not lead.strip() else "") + verb + key + gap + written

    def remove(self, path: Path) -> Edit:
        """Take out every command of a key, or the one of a number; a line that says nothing more goes too.

        Raises EditRefused.
        """
        at = self._number_at(path)
        gone = self._several(path) if len(path) == 1 else [at] if at is not None else []
        if not gone:
            raise EditRefused(f"{path[0]} is not in the file")
        cuts = [self._cut(number, gone) for number in gone]
        expected = [pair for number, pair in enumerate(self.plain()) if number not in gone]
        return Edit(tuple(_joined(cuts)), expected)

    def _cut(self, number: int, gone: Collection[int]) -> Splice:
        command = self.commands[number]
        start, stop = line_span(self.text, command.start)
        mates = [at for at, other in enumerate(self.commands) if start <= other.start < stop]
        if all(at in gone for at in mates):
            return Splice(start, stop, "")
        following = [at for at in mates if at > number]
        if following:
            return Splice(command.start, self.commands[following[0]].start, "")
        before = self.commands[max(at for at in mates if at < number)]
        return Splice(before.end, command.end, "")

    def rename(self, path: Path, name: str) -> Edit:
        """Give a command another name, its repetitions too. Raises EditRefused."""
        several = self._several(path)
        if not several:
            raise EditRefused("there is no such command in the file")
        if self._named(name) in self._by_key or not re.fullmatch(r'[^\s;"]+', name) or name.startswith(self.marks):
            raise EditRefused(f"'{name}' already exists, or cannot be a command's name")
        if name.lower() in VERBS or (_OPTION.fullmatch(name) is None) != (str(path[0])[:1] not in "+-"):
            raise EditRefused(f"'{name}' would be read as another kind of command")
        cuts = [Splice(self.commands[at].key_start, self.commands[at].key_end, name) for at in several]
        pairs = [(name if at in several else key, value) for at, (key, value) in enumerate(self.plain())]
        return Edit(tuple(cuts), pairs)

    def insert(self, path: Path, value: PlainData, kind: EntryKind | None = None) -> Edit:
        """Put one more line in for a command that stands several times. Raises EditRefused."""
        new = as_text(value)
        several = self._several(path)
        if len(path) != 2 or not isinstance(path[1], int):
            raise EditRefused("there is no such list")
        if not several:
            return self._add(str(path[0]), new, is_raw=kind == "code")
        like = self.commands[several[min(path[1], len(several) - 1)]]
        line = self._like(like, like.key, new, is_raw=kind == "code")
        start, stop = line_span(self.text, like.start)
        at = start if path[1] < len(several) else stop
        newline = self.text.newline
        text = line + newline if closed_before(self.text, at) else newline + line
        return Edit((Splice(at, at, text),), self._insertion(at, (like.key, new)))

    def move(self, path: Path, to: int) -> Edit:
        """Move one of the lines of a command that stands several times; the values change places.

        Raises EditRefused.
        """
        several = self._several(path)
        if len(path) != 2 or not isinstance(path[1], int) or not (path[1] < len(several) and 0 <= to < len(several)):
            raise EditRefused(f"the list has items 0 to {len(several) - 1}")
        order = list(several)
        order.insert(to, order.pop(path[1]))
        expected, cuts = self.plain(), []
        for slot, source in zip(several, order, strict=True):
            here, there = self.commands[slot], self.commands[source]
            if slot != source:
                raw = self.text.body[there.value_start : there.value_end]
                cuts.append(Splice(here.value_start, here.value_end, raw))
                expected[slot] = (here.key, self._value(there))
        return Edit(tuple(cuts), expected)

    def switch(self, path: Path, *, on: bool) -> Edit:
        """Comment a command's lines out, or set the commented-out one as it stands. Raises EditRefused."""
        if on:
            return self._as_it_stood(path)
        at = self._number_at(path)
        gone = self._several(path) if len(path) == 1 else [at] if at is not None else []
        lines = {line_span(self.text, self.commands[number].start) for number in gone}
        mates = {at for at, command in enumerate(self.commands) for line in lines if line[0] <= command.start < line[1]}
        if not gone:
            raise EditRefused(f"{path[0]} is not in the file")
        if len(gone) > 1:
            raise EditRefused(f"{path[0]} is there more than once; specify which by its number, from 0: {path[0]}[0]")
        if mates != set(gone):
            raise EditRefused("only a command that has its line to itself can be commented out")
        mark = mark_in_use(self.text, self.marks)
        cuts = tuple(Splice(self.commands[number].start, self.commands[number].start, f"{mark} ") for number in gone)
        return Edit(cuts, [pair for number, pair in enumerate(self.plain()) if number not in gone])

    def _as_it_stood(self, path: Path) -> Edit:
        """Set a command again that stands commented out on a line of its own."""
        if self._number_at(path) is None:
            for mark in self.marks:
                line = re.compile(rf"^[ \t]*(?P<mark>{re.escape(mark)}[ \t]?)(?P<left>[^\r\n]*)", re.M)
                for off in reversed(list(line.finditer(LINE_END.sub(lambda end: "\n" * len(end[0]), self.text.body)))):
                    read_back = DirectivesDocument(self.text.with_body(off["left"]), self.dialect).plain()
                    if len(read_back) == 1 and (self._named(read_back[0][0]),) == (self._named(str(path[0])),):
                        cut = Splice(*off.span("mark"), "")
                        return Edit((cut,), self._insertion(off.start(), read_back[0]))
        raise EditRefused(f"{path[0]} is not commented out in the file")


def _joined(cuts: Sequence[Splice]) -> list[Splice]:
    """Make one of cuts that touch or overlap: neighbours on a line that go together."""
    joined: list[Splice] = []
    for cut in sorted(cuts, key=lambda splice: (splice.start, splice.end)):
        if joined and cut.start <= joined[-1].end:
            joined[-1] = Splice(joined[-1].start, max(joined[-1].end, cut.end), "")
        else:
            joined.append(cut)
    return joined
