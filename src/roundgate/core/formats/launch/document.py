"""Start scripts for sh and for Windows: the command line that starts the server, its flags, and the variables above it.

A path is ``("--slots",)`` for a flag in whatever form it is written (``-x v``, ``-x=v``, ``-x4G``, ``"-x=a;b"``,
``key=value``), ``("--mods", 0)`` for an item of a flag that is a list (dialect ``separator``, else ``;`` or ``,``), or
for the first of a flag that makes a list by being repeated (dialect ``repeated``),
``("$NAME",)`` for a variable that the script sets, ``(0,)`` for the first word that is no flag; ``("program",)``.
Where a flag's value is a variable that the script sets, that is the value. A flag that stands there without a value
has an empty one."""

from __future__ import annotations

import re
from collections.abc import Sequence

from roundgate.core.formats.launch.reader import Flag, LaunchReading, read_plainly, refuse_flag_as_value
from roundgate.core.formats.launch.repeated import insert_repeated, move_repeated
from roundgate.core.formats.launch.tokens import (
    Word,
    plain_shell,
)
from roundgate.core.formats.protocol import Edit, EditRefused, EntryKind, Path, PlainData
from roundgate.core.formats.shared.key_value import as_text, single_line
from roundgate.core.patterns import lazy
from roundgate.core.text import Splice

_SAFE = lazy(r"[\w@%+=:,./^~-]+")


class LaunchDocument(LaunchReading):
    """A start script, read."""

    format_name = "launch"

    def replaced(self, word: Word, new: str, more: Sequence[Splice] = ()) -> Edit:
        """Replace a word of the script by another text, which may be several words or none."""
        cut = Splice(word.start, word.end, new)
        before = len(read_plainly(self.bare[: word.start], batch=self.batch))
        old = len(read_plainly(self.bare[word.start : word.end], batch=self.batch))
        made = read_plainly(new, batch=self.batch)
        plain = self.plain()
        return Edit((cut, *more), [*plain[:before], *made, *plain[before + old :]])

    def quoted(self, value: str, like: str) -> str:
        """Write a value as a word, in the quotes of what stood there where it had any. Raises EditRefused."""
        single_line(value)
        if self.batch:
            if '"' in value or "%" in value.replace("%%", ""):
                raise EditRefused(f"'{value}' cannot be written in a start script for Windows")
            return f'"{value}"' if like[:1] == '"' or not re.fullmatch(r"[\w@+=:,./\\~-]+", value) else value
        if like[:1] == "'" and "'" not in value:
            return f"'{value}'"
        if like[:1] == '"' or not _SAFE.fullmatch(value) or value.startswith("~"):
            return '"' + re.sub(r'(["\\$`])', r"\\\1", value) + '"'
        return value

    def set(self, path: Path, value: PlainData, kind: EntryKind | None = None, *, on_copy: bool = False) -> Edit:
        """Set a flag, a variable or a word in its place, or put a flag at the end of the command line.

        True puts a flag there without a value, and False takes it out.

        Raises EditRefused.
        """
        if value is False:
            return self.remove(path)
        new = "" if value is True else as_text(value)
        if len(path) == 2 and self.is_repeated(path[0]):
            return self.set_flag(self._numbered(path), new)
        if len(path) == 2:
            return self._set_item(path, new)
        if path == ("program",):
            if self.main is None or not new:
                raise EditRefused("the script has no command line")
            word = self._arguments(self.main)[0]
            return self.replaced(word, self.quoted(new, self.text.body[word.start]))
        name = path[0] if path else ""
        if isinstance(name, str) and name[:1] == "$":
            return self._set_variable(name[1:].upper() if self.batch else name[1:], new)
        flag = self._flag(name)
        if flag is None:
            return self._add(name, new, bare=value is True)
        if value is True:
            raise EditRefused(f"{name} already exists")
        shared = self._shared(flag.value)
        if shared:
            uses = len(re.findall(rf"\$\{{?{shared}\b|%{shared}%", self.text.body, re.I if self.batch else 0))
            # The other uses would change with it, and they may be another server's.
            if uses > 1 and not on_copy:
                raise EditRefused(
                    f"its value is ${shared}, which is used {uses} times; set ${shared} itself, "
                    "or this flag alone with --here-only"
                )
            if not on_copy:
                return self._set_variable(shared, new)
        return self.set_flag(flag, new)

    def _set_variable(self, name: str, new: str) -> Edit:
        if name not in self.variables:
            raise EditRefused(f"the script does not set ${name}")
        word, start = self.variables[name]
        body = self.text.body
        places = [
            body.count("\n", 0, assignment.start) + 1 for assignment in self.assignments if assignment.name == name
        ]
        # Which assignment counts may hang on a condition that only the running script knows.
        if len(places) > 1:
            where = ", ".join(map(str, places))
            raise EditRefused(f"the script sets ${name} in {len(places)} places (lines {where}); edit it by hand")
        if body[start : start + 1] == "(":
            raise EditRefused(f"${name} is a list of words; edit it by hand")
        if self.batch:
            first, last = self._value_span(name)
            single_line(new)
            # The command interpreter of Windows replaces and splits at these even inside quotes.
            if re.search(r'["%&|<>^]', new):
                raise EditRefused(f"'{new}' cannot be written in a start script for Windows")
            return self.replaced(word, body[word.start : first] + new + body[last : word.end])
        old = plain_shell(body[start : word.end])
        is_list = old[:1] == "-" or (" " in old and "$(" not in old)
        # Without quotes the shell splits the value at blanks, and takes * and ? for names of files.
        if re.search(r"[\s*?\[]", new) and not is_list and self.splits(name):
            raise EditRefused(
                f"the script uses ${name} without quotes, so '{new}' would become several words; "
                f'write "${name}" there first'
            )
        return self.replaced(word, body[word.start : start] + self.quoted(new, body[start : start + 1]))

    def set_flag(self, flag: Flag, new: str) -> Edit:
        """Give a flag another value. Raises EditRefused."""
        body = self.text.body
        if flag.form in ("alone", "apart", "word"):
            refuse_flag_as_value(new)
        if flag.form == "alone":
            if not new:
                raise EditRefused("it already exists")
            return self._within(flag, flag.word, body[flag.word.start : flag.word.end] + " " + self._fit(flag, new, ""))
        assert flag.value_word is not None
        raw = body[flag.value_word.start : flag.value_word.end]
        if flag.form in ("apart", "word"):
            return self._within(flag, flag.value_word, self._fit(flag, new, raw[:1]))
        sign = "=" if flag.form == "equals" else ""
        if raw[:1] in ("'", '"'):
            return self._within(flag, flag.value_word, self._fit(flag, f"{flag.name}{sign}{new}", raw[:1]))
        like = raw.partition("=")[2][:1] if sign else ""
        if flag.form == "attached" and not re.fullmatch(r"\d[\w.]*", new):
            raise EditRefused(f"'{new}' cannot be joined to {flag.name}: it must begin with a digit")
        return self._within(flag, flag.value_word, f"{flag.name}{sign}" + (self._fit(flag, new, like) if new else ""))

    def _fit(self, flag: Flag, value: str, like: str) -> str:
        """Write a word of the command line; inside a variable's value there are no quotes."""
        if flag.outer is flag.word or flag.outer is flag.value_word:
            return self.quoted(value, like) if value or like not in ("'", '"', "") else '""'
        if not value or not _SAFE.fullmatch(value):
            raise EditRefused(f"'{value}' cannot be part of a variable's list of flags")
        return value

    def _within(self, flag: Flag, word: Word, new: str) -> Edit:
        """Replace a word of the command line where it stands: by itself, or inside a variable's value."""
        if flag.outer is word or flag.outer is flag.word or flag.outer is flag.value_word:
            return self.replaced(word, new)
        outer, body = flag.outer, self.text.body
        whole = body[outer.start : word.start] + new + body[word.end : outer.end]
        edit = self.replaced(outer, whole)
        return Edit((Splice(word.start, word.end, new),), edit.expected)

    def _set_item(self, path: Path, new: str) -> Edit:
        whole = self.find(path[:1])
        if whole is None or not isinstance(path[1], int):
            raise EditRefused("there is no such flag")
        sign = self._separator(whole.value)
        items = whole.value.split(sign) if whole.value else []
        if path[1] >= len(items) or sign in new or not new:
            raise EditRefused(f"the list has items 0 to {len(items) - 1}, separated by {sign}")
        items[path[1]] = new
        return self.set(path[:1], sign.join(items))

    def _add(self, name: str | int, new: str, *, bare: bool) -> Edit:
        if self.main is None:
            raise EditRefused("the script has no command line")
        if isinstance(name, int):
            raise EditRefused("there are not so many words in the command line")
        is_pair = re.fullmatch(r"[A-Za-z_][\w.]*", name) is not None
        if not is_pair and not re.fullmatch(r"[-+]{1,2}[A-Za-z_][\w.:\-]*", name):
            raise EditRefused(f"'{name}' cannot be a flag's name")
        equals = [flag for flag in self.flags if flag.form == "equals"]
        apart = [flag for flag in self.flags if flag.form == "apart"]
        words = [name] if bare else [name, self.quoted(new, "")]
        if is_pair or (len(equals) > len(apart) and not bare):
            like = self.text.body[equals[-1].word.start] if equals else ""
            words = [self.quoted(f"{name}={new}", like) if like in ("'", '"') else f"{name}={self.quoted(new, '')}"]
        else:
            refuse_flag_as_value(new)
        return self._at_end(" ".join(words))

    def _at_end(self, text: str) -> Edit:
        assert self.main is not None
        inside = [word for word in self.main.words if not word.is_target]
        last = inside[-1]
        line = self.text.body[self.text.line_around(last.start)[0] : last.start]
        own_line = [
            word for word in inside if not self.text.body[self.text.line_around(word.start)[0] : word.start].strip()
        ]
        sign = "^" if self.batch else "\\"
        follows = len(own_line) > 1 or (own_line and own_line[0] is not inside[0])
        gap = f" {sign}{self.text.newline}{line[: len(line) - len(line.lstrip())]}" if follows else " "
        raw = self.text.body[last.start : last.end]
        return self.replaced(last, raw + gap + text)

    def remove(self, path: Path) -> Edit:
        """Take a flag with its value out, or an item of its list; a line of its own goes with it.

        Raises EditRefused.
        """
        if len(path) == 2 and not self.is_repeated(path[0]):
            return self._remove_item(path)
        flag = self._numbered(path) if len(path) == 2 else self._flag(path[0]) if path else None
        if flag is None:
            raise EditRefused("there is no such flag; a variable is taken out by hand")
        if len(path) == 1 and self.is_repeated(path[0]) and len(self.several(path[0])) > 1:
            raise EditRefused(f"{path[0]} is there more than once; specify which by its number, from 0: {path[0]}[0]")
        words = [flag.word, *([flag.value_word] if flag.value_word and flag.value_word is not flag.word else [])]
        if flag.outer not in words:
            span = (words[0].start, words[-1].end)
            start, end = self._blanks_with(*span)
            whole = self.text.body[flag.outer.start : start] + self.text.body[end : flag.outer.end]
            return Edit((Splice(start, end, ""),), self.replaced(flag.outer, whole).expected)
        plain = self.plain()
        before = len(read_plainly(self.bare[: words[0].start], batch=self.batch))
        count = len(read_plainly(self.bare[words[0].start : words[-1].end], batch=self.batch))
        start, end = self._blanks_with(words[0].start, words[-1].end)
        return Edit((Splice(start, end, ""),), [*plain[:before], *plain[before + count :]])

    def _numbered(self, path: Path) -> Flag:
        """Return the repeated flag of a number. Raises EditRefused."""
        several = self.several(path[0])
        if not isinstance(path[1], int) or not 0 <= path[1] < len(several):
            raise EditRefused(f"{path[0]} is there {len(several)} times, numbered from 0")
        return several[path[1]]

    def _blanks_with(self, start: int, end: int) -> tuple[int, int]:
        """Take the spaces and the continued line before a word along; at the beginning of a value those after it."""
        blank = r"(?:[ \t]|\^\r?\n)*\Z" if self.batch else r"(?:[ \t]|\\\r?\n)*\Z"
        before = re.search(blank, self.text.body[:start])
        begun = before.start() if before else start
        if begun == start or self.text.body[begun - 1 : begun] in ("\n", "\r", "("):
            after = re.compile(r"[ \t]*").match(self.text.body, end)
            return start, after.end() if after else end
        return begun, end

    def _remove_item(self, path: Path) -> Edit:
        whole = self.find(path[:1])
        sign = self._separator(whole.value) if whole else ";"
        items = whole.value.split(sign) if whole and whole.value else []
        if whole is None or not isinstance(path[1], int) or path[1] >= len(items):
            raise EditRefused("there is no such item")
        if len(items) == 1:
            return self.remove(path[:1])
        del items[path[1]]
        return self.set(path[:1], sign.join(items))

    def rename(self, path: Path, name: str) -> Edit:
        """Give a flag another name. Raises EditRefused."""
        flag = self._flag(path[0]) if len(path) == 1 else None
        if flag is None or isinstance(flag.name, int) or self._flag(name) is not None:
            raise EditRefused("there is no such flag, or the new name is taken")
        if not re.fullmatch(r"[-+]{1,2}[A-Za-z_][\w.:\-]*|[A-Za-z_][\w.]*", name) or (name[0] in "-+") != (
            flag.name[0] in "-+"
        ):
            raise EditRefused(f"'{name}' cannot take its place")
        raw = self.text.body[flag.word.start : flag.word.end]
        if flag.form == "attached" and not name[-1].isalpha():
            raise EditRefused(f"'{name}' cannot be joined to its value")
        return self._within(flag, flag.word, raw.replace(flag.name, name, 1))

    def insert(self, path: Path, value: PlainData, kind: EntryKind | None = None) -> Edit:
        """Put an item into a flag's list. Raises EditRefused."""
        new = as_text(value)
        if len(path) == 2 and self.is_repeated(path[0]) and isinstance(path[1], int):
            return insert_repeated(self, str(path[0]), path[1], new)
        whole = self.find(path[:1]) if path else None
        if whole is None or len(path) != 2 or not isinstance(path[1], int):
            raise EditRefused("there is no such list; set the flag first")
        sign = self._separator(whole.value)
        items = whole.value.split(sign) if whole.value else []
        if sign in new or not new:
            raise EditRefused(f"an item can hold no {sign}")
        items.insert(path[1], new)
        return self.set(path[:1], sign.join(items))

    def move(self, path: Path, to: int) -> Edit:
        """Move an item of a flag's list. Raises EditRefused."""
        if len(path) == 2 and self.is_repeated(path[0]) and isinstance(path[1], int):
            return move_repeated(self, str(path[0]), path[1], to)
        whole = self.find(path[:1]) if path else None
        if whole is None or len(path) != 2 or not isinstance(path[1], int):
            raise EditRefused("there is no such list")
        sign = self._separator(whole.value)
        items = whole.value.split(sign)
        if not (path[1] < len(items) and 0 <= to < len(items)):
            raise EditRefused(f"the list has items 0 to {len(items) - 1}")
        items.insert(to, items.pop(path[1]))
        return self.set(path[:1], sign.join(items))

    def switch(self, path: Path, *, on: bool) -> Edit:
        """Refuse: a comment inside a command would cut it in two. Raises EditRefused."""
        raise EditRefused("a flag cannot be commented out; remove it instead")
