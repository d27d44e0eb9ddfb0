"""Start scripts for sh and for Windows: the command line that starts the server, its flags, and the variables above it.

A path is ``("--slots",)`` for a flag in whatever form it is written (``-x v``, ``-x=v``, ``-x4G``, ``"-x=a;b"``,
``key=value``), ``("--mods", 0)`` for an item of a flag that is a list (dialect ``separator``, else ``;`` or ``,``),
``("$NAME",)`` for a variable that the script sets, ``(0,)`` for the first word that is no flag, and ``("program",)``.
Where a flag's value is a variable that the script sets, that is the value. A flag that stands there without a value
has an empty one."""

from __future__ import annotations

import re
import shlex
from collections.abc import Sequence
from functools import cached_property
from typing import NamedTuple

from roundgate.core.findings import Problem
from roundgate.core.formats.flat import as_text, one_line
from roundgate.core.formats.launch_words import (
    Command,
    Word,
    array_words,
    commands,
    is_batch,
    plain_shell,
    split_words,
)
from roundgate.core.formats.protocol import USUAL, Dialect, Document, Edit, EditRefused, Entry, Kind, Path, Plain
from roundgate.core.text import Splice, Text

_FLAG = re.compile(
    r"(?P<name>[-+]{1,2}[A-Za-z_][\w.:\-]*?)(?:(?P<sign>=)(?P<value>.*)|(?P<attached>(?<=[A-Za-z])\d[\w.]*))?", re.S
)
_PAIR = re.compile(r"(?P<name>[A-Za-z_][\w.]*)=(?P<value>.*)", re.S)
_ASSIGNED = re.compile(r"([A-Za-z_]\w*)\+?=(.*)", re.S)
_ASIDE = frozenset(
    [
        "cd",
        "export",
        "echo",
        "sleep",
        "set",
        "if",
        "then",
        "else",
        "elif",
        "fi",
        "while",
        "until",
        "do",
        "done",
        "for",
        "in",
        "case",
        "esac",
        "mkdir",
        "source",
        ".",
        "trap",
        "read",
        "test",
        "[",
        "[[",
        "unset",
        "local",
        "declare",
        "readonly",
        "ulimit",
        "umask",
        "true",
        "false",
        "return",
        "exit",
        "shift",
        "title",
        "pause",
        "rem",
        "setlocal",
        "endlocal",
        "goto",
        "call",
        "cls",
        "@echo",
        "chcp",
        "timeout",
        "popd",
        "pushd",
        "let",
        "printf",
        "kill",
        "wait",
        "rm",
        "cp",
        "mv",
        "touch",
        "ln",
        "chmod",
        "chown",
        "grep",
        "sed",
        "awk",
        "cat",
        "tar",
        "screen",
        "tmux",
    ]
)
_SAFE = re.compile(r"[\w@%+=:,./^~-]+")
_VARIABLE = re.compile(r"\$(?:(\w+)|\{(\w+)(?:\[@\])?\})|%(\w+)%")


class Flag(NamedTuple):
    """One flag, pair or plain word of the command line: its name, value and form, its words, and the value's word.

    ``form``: ``apart`` (-x v), ``equals`` (-x=v), ``attached`` (-x4), ``alone`` (-x), ``word``.
    """

    name: str | int
    value: str
    form: str
    word: Word
    value_word: Word | None
    outer: Word
    """The word of the script in which it stands: itself, or the assignment whose value is a list of flags."""


class LaunchDocument:
    """A start script, read."""

    def __init__(self, text: Text, dialect: Dialect = USUAL) -> None:
        """Read ``text``."""
        self.text = text
        self.dialect = dialect
        self.batch = is_batch(text.body)

    @cached_property
    def commands(self) -> list[Command]:
        """Every command of the script."""
        return commands(self.text.body, batch=self.batch)

    @cached_property
    def variables(self) -> dict[str, tuple[Word, int]]:
        """For each variable that the script sets: the word that last sets it, and where its value begins."""
        found: dict[str, tuple[Word, int]] = {}
        for command in self.commands:
            words = list(command.words)
            if self.batch:
                self._batch_variable(words, found)
                continue
            while words and words[0].value in ("export", "local", "readonly", "declare"):
                words.pop(0)
            for word in words:
                raw = self.text.body[word.start : word.end]
                assigned = _ASSIGNED.match(raw)
                if not assigned:
                    break
                found[assigned[1]] = (word, word.start + assigned.start(2))
        return found

    def _batch_variable(self, words: list[Word], found: dict[str, tuple[Word, int]]) -> None:
        if len(words) < 2 or words[0].value.lower() != "set":
            return
        raw = self.text.body[words[1].start : words[-1].end]
        assigned = re.match(r"(\"?)([A-Za-z_]\w*)=", raw)
        if assigned:
            whole = Word(words[1].start, words[-1].end, raw)
            found[assigned[2].upper()] = (whole, words[1].start + assigned.end())

    def _value_span(self, name: str) -> tuple[int, int]:
        """Give the span of a variable's value, without quotes around the whole of it."""
        word, start = self.variables[name]
        end = word.end
        raw = self.text.body[start:end]
        if self.batch:
            return start, end - (self.text.body[word.start] == '"' and raw.endswith('"'))
        if len(raw) > 1 and raw[0] == raw[-1] and raw[0] in "\"'" and raw[0] not in raw[1:-1]:
            return start + 1, end - 1
        return start, end

    @cached_property
    def main(self) -> Command | None:
        """The command that starts the server: one after ``exec``, else the one with the most flags."""
        best: Command | None = None
        best_score = 0
        for command in self.commands:
            words = self._arguments(command)
            if not words:
                continue
            begun = command.words[0].value
            flags = sum(1 for word in words if _FLAG.fullmatch(word.value) or _PAIR.fullmatch(word.value))
            score = flags + (100 if begun == "exec" else 1)
            if score >= best_score:
                best, best_score = command, score
        return best

    def _arguments(self, command: Command) -> list[Word]:
        """Give a command's words from its program on, or nothing where it starts no program."""
        words = [word for word in command.words if not word.is_target]
        while words and (
            words[0].value in ("exec", "nohup", "env", "nice", "do", "then", "sudo") or _ASSIGNED.match(words[0].value)
        ):
            words.pop(0)
        if self.batch and words and words[0].value.lower().lstrip("@") in ("start", "call"):
            words.pop(0)
            while words and (
                words[0].value.startswith("/")
                or (self.text.body[words[0].start] == '"' and len(words) > 1 and not _looks_run(words[0].value))
            ):
                words.pop(0)
        if not words or words[0].value.lower().lstrip("@") in _ASIDE or words[0].value.startswith((":", "-")):
            return []
        return words

    # --- flags ---

    @cached_property
    def flags(self) -> list[Flag]:
        """Give the flags, pairs and plain words of the command line, in order."""
        if self.main is None:
            return []
        words: list[tuple[Word, Word]] = []
        for word in self._arguments(self.main)[1:]:
            inner = self._inner(word)
            words += [(one, outer) for one, outer in inner] if inner is not None else [(word, word)]
        return self._flags_of(words)

    def _inner(self, word: Word) -> list[tuple[Word, Word]] | None:
        """Give the words of a variable that holds a list of flags, where a word is one."""
        raw = self.text.body[word.start : word.end].strip('"')
        name = _VARIABLE.fullmatch(raw)
        key = next((one for one in name.groups() if one), "") if name else ""
        key = key.upper() if self.batch else key
        if key not in self.variables:
            return None
        assigned, start = self.variables[key]
        if not self.batch and self.text.body[start : start + 1] == "(":
            return [(one, one) for one in array_words(self.text.body, assigned)]
        inner = split_words(self.text.body, *self._value_span(key))
        return [(one, assigned) for one in inner] if any(_FLAG.fullmatch(one.value) for one in inner) else None

    def _flags_of(self, words: list[tuple[Word, Word]]) -> list[Flag]:
        found: list[Flag] = []
        number, at = 0, 0
        while at < len(words):
            word, outer = words[at]
            at += 1
            flag = _FLAG.fullmatch(word.value)
            pair = _PAIR.fullmatch(word.value)
            if flag and flag["sign"]:
                found.append(Flag(flag["name"], flag["value"], "equals", word, word, outer))
            elif flag and flag["attached"]:
                found.append(Flag(flag["name"], flag["attached"], "attached", word, word, outer))
            elif (
                flag
                and at < len(words)
                and not _FLAG.fullmatch(words[at][0].value)
                and not _PAIR.fullmatch(words[at][0].value)
            ):
                found.append(Flag(flag["name"], words[at][0].value, "apart", word, words[at][0], words[at][1]))
                at += 1
            elif flag:
                found.append(Flag(flag["name"], "", "alone", word, None, outer))
            elif pair:
                found.append(Flag(pair["name"], pair["value"], "equals", word, word, outer))
            else:
                found.append(Flag(number, word.value, "word", word, word, outer))
                number += 1
        return found

    def _flag(self, name: str | int) -> Flag | None:
        several = [one for one in self.flags if one.name == name]
        return several[0 if self.dialect.counts == "first" else -1] if several else None

    def _shared(self, value: str) -> str:
        """Give the name of the variable that a value is, where the script sets it; else nothing."""
        found = _VARIABLE.fullmatch(value)
        name = next((one for one in found.groups() if one), "") if found else ""
        name = name.upper() if self.batch else name
        return name if name in self.variables else ""

    # --- what stands there ---

    def entries(self) -> Sequence[Entry]:
        """Give every variable that the script sets, and every part of the command line."""
        found = [self._variable_entry(name) for name in self.variables]
        for one in self.flags:
            found.append(self._flag_entry((one.name,), one))
        return sorted(found, key=lambda entry: entry.key_start)

    def _variable_entry(self, name: str) -> Entry:
        word, _ = self.variables[name]
        start, end = self._value_span(name)
        raw = self.text.body[start:end]
        value = raw if self.batch or raw[:1] == "(" else plain_shell(self.text.body[self.variables[name][1] : word.end])
        key = word.start + (self.text.body[word.start] == '"')
        return Entry((f"${name}",), value, key, key + len(name), start, end)

    def _flag_entry(self, path: Path, one: Flag) -> Entry:
        name = self._shared(one.value)
        key = (one.word.start, one.word.end if one.form != "equals" else one.word.start + len(str(one.name)))
        if name:
            inner = self._variable_entry(name)
            return Entry(path, inner.value, *key, inner.start, inner.end)
        if one.value_word is None:
            return Entry(path, "", one.word.start, one.word.end, one.word.end, one.word.end)
        start, end = one.value_word.start, one.value_word.end
        if one.form in ("equals", "attached"):
            raw = self.text.body[start:end]
            at = raw.find("=") + 1 if one.form == "equals" else len(str(one.name))
            quoted = raw[:1] in ("'", '"')
            start, end = start + at + (quoted and one.form == "attached"), end - (1 if quoted else 0)
        raw = self.text.body[start:end]
        if len(raw) > 1 and raw[0] == raw[-1] and raw[0] in "\"'":
            start, end = start + 1, end - 1
        return Entry(path, one.value, *key, start, max(start, end))

    def _separator(self, value: str) -> str:
        return self.dialect.separator or next((sign for sign in (";", ",") if sign in value), ";")

    def find(self, path: Path) -> Entry | None:
        """Give a flag, an item of its list, a variable, a plain word, or the program."""
        if path == ("program",) and self.main is not None:
            word = self._arguments(self.main)[0]
            return Entry(path, word.value, word.start, word.start, word.start, word.end)
        if len(path) == 1 and isinstance(path[0], str) and path[0][:1] == "$":
            name = path[0][1:].upper() if self.batch else path[0][1:]
            return self._variable_entry(name) if name in self.variables else None
        one = self._flag(path[0]) if path else None
        if one is None or len(path) > 2:
            return None
        whole = self._flag_entry(path[:1], one)
        if len(path) == 1:
            return whole
        items = whole.value.split(self._separator(whole.value))
        if not isinstance(path[1], int) or path[1] >= len(items):
            return None
        raw = self.text.body[whole.start : whole.end].split(self._separator(whole.value))
        if [plain_shell(one) for one in raw] != items and raw != items:
            return whole._replace(path=path, value=items[path[1]])
        start = whole.start + sum(len(one) + 1 for one in raw[: path[1]])
        return whole._replace(path=path, value=items[path[1]], start=start, end=start + len(raw[path[1]]))

    def resolve(self, key: str) -> Path:
        """Give the path of a flag or a variable; ``--mods[0]`` is an item of its list."""
        found = re.fullmatch(r"(.+)\[(\d+)\]", key)
        if found and self._flag(found[1]):
            return found[1], int(found[2])
        return (int(key[1:-1]),) if re.fullmatch(r"\[\d+\]", key) else (key,)

    def switched_off(self) -> Sequence[Entry]:
        """Give nothing: a flag cannot stand commented out inside a command."""
        return ()

    def problems(self) -> Sequence[Problem]:
        """Say what a person is likely to have got wrong."""
        from roundgate.core.formats.launch_problems import problems_of

        return problems_of(self)

    def plain(self) -> list[str]:
        """Give every word of the script. Raises EditRefused where a quote is not closed."""
        return read_plainly(self.text.body, batch=self.batch)

    # --- edits: all of them replace whole words ---

    def _replaced(self, word: Word, new: str, more: Sequence[Splice] = ()) -> Edit:
        """Replace a word of the script by another text, which may be several words or none."""
        cut = Splice(word.start, word.end, new)
        before = len(read_plainly(self.text.body[: word.start], batch=self.batch))
        old = len(read_plainly(self.text.body[word.start : word.end], batch=self.batch))
        made = read_plainly(new, batch=self.batch)
        plain = self.plain()
        return Edit((cut, *more), [*plain[:before], *made, *plain[before + old :]])

    def _quoted(self, value: str, like: str) -> str:
        """Write a value as a word, in the quotes of what stood there where it had any."""
        one_line(value)
        if self.batch:
            if '"' in value or "%" in value.replace("%%", ""):
                raise EditRefused(f"'{value}' cannot be written in a start script for Windows")
            return f'"{value}"' if like[:1] == '"' or not re.fullmatch(r"[\w@+=:,./\\~-]+", value) else value
        if like[:1] == "'" and "'" not in value:
            return f"'{value}'"
        if like[:1] == '"' or not _SAFE.fullmatch(value) or value.startswith("~"):
            return '"' + re.sub(r'(["\\$`])', r"\\\1", value) + '"'
        return value

    def set(self, path: Path, value: Plain, kind: Kind | None = None, *, on_copy: bool = False) -> Edit:
        """Set a flag, a variable or a word in its place, or put a flag at the end of the command line.

        True puts a flag there without a value, and False takes it out.
        """
        if value is False:
            return self.remove(path)
        new = "" if value is True else as_text(value)
        if len(path) == 2:
            return self._set_item(path, new)
        if path == ("program",):
            if self.main is None or not new:
                raise EditRefused("the script has no command line")
            word = self._arguments(self.main)[0]
            return self._replaced(word, self._quoted(new, self.text.body[word.start]))
        name = path[0] if path else ""
        if isinstance(name, str) and name[:1] == "$":
            return self._set_variable(name[1:].upper() if self.batch else name[1:], new)
        one = self._flag(name)
        if one is None:
            return self._add(name, new, bare=value is True)
        if value is True:
            raise EditRefused(f"{name} stands there already")
        shared = self._shared(one.value)
        if shared:
            uses = len(re.findall(rf"\$\{{?{shared}\b|%{shared}%", self.text.body, re.I if self.batch else 0))
            if uses > 1 and not on_copy:
                raise EditRefused(
                    f"its value is ${shared}, which stands there {uses} times; set ${shared} itself, or ask for a copy"
                )
            if not on_copy:
                return self._set_variable(shared, new)
        return self._set_flag(one, new)

    def _set_variable(self, name: str, new: str) -> Edit:
        if name not in self.variables:
            raise EditRefused(f"the script does not set ${name}")
        word, start = self.variables[name]
        body = self.text.body
        if body[start : start + 1] == "(":
            raise EditRefused(f"${name} is a list of words; edit it by hand")
        if self.batch:
            first, last = self._value_span(name)
            one_line(new)
            if re.search(r'["%&|<>^]', new):
                raise EditRefused(f"'{new}' cannot be written in a start script for Windows")
            return self._replaced(word, body[word.start : first] + new + body[last : word.end])
        return self._replaced(word, body[word.start : start] + self._quoted(new, body[start : start + 1]))

    def _set_flag(self, one: Flag, new: str) -> Edit:
        body = self.text.body
        if one.form == "alone":
            if not new:
                raise EditRefused("it stands there already")
            return self._within(one, one.word, body[one.word.start : one.word.end] + " " + self._fit(one, new, ""))
        assert one.value_word is not None
        raw = body[one.value_word.start : one.value_word.end]
        if one.form in ("apart", "word"):
            if _FLAG.fullmatch(new) or _PAIR.fullmatch(new):
                raise EditRefused(f"'{new}' would be read as a flag of its own")
            return self._within(one, one.value_word, self._fit(one, new, raw[:1]))
        sign = "=" if one.form == "equals" else ""
        if raw[:1] in ("'", '"'):
            return self._within(one, one.value_word, self._fit(one, f"{one.name}{sign}{new}", raw[:1]))
        like = raw.partition("=")[2][:1] if sign else ""
        if one.form == "attached" and not re.fullmatch(r"\d[\w.]*", new):
            raise EditRefused(f"'{new}' cannot be joined to {one.name}: it must begin with a digit")
        return self._within(one, one.value_word, f"{one.name}{sign}" + (self._fit(one, new, like) if new else ""))

    def _fit(self, one: Flag, value: str, like: str) -> str:
        """Write a word of the command line; inside a variable's value there are no quotes."""
        if one.outer is one.word or one.outer is one.value_word:
            return self._quoted(value, like) if value or like not in ("'", '"', "") else '""'
        if not value or not _SAFE.fullmatch(value):
            raise EditRefused(f"'{value}' cannot stand inside a variable's list of flags")
        return value

    def _within(self, one: Flag, word: Word, new: str) -> Edit:
        """Replace a word of the command line where it stands: by itself, or inside a variable's value."""
        if one.outer is word or one.outer is one.word or one.outer is one.value_word:
            return self._replaced(word, new)
        outer, body = one.outer, self.text.body
        whole = body[outer.start : word.start] + new + body[word.end : outer.end]
        edit = self._replaced(outer, whole)
        return Edit((Splice(word.start, word.end, new),), edit.expected)

    def _set_item(self, path: Path, new: str) -> Edit:
        whole = self.find(path[:1])
        if whole is None or not isinstance(path[1], int):
            raise EditRefused("there is no such flag")
        sign = self._separator(whole.value)
        items = whole.value.split(sign) if whole.value else []
        if path[1] >= len(items) or sign in new or not new:
            raise EditRefused(f"the list has items 0 to {len(items) - 1}, parted by {sign}")
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
        equals = [one for one in self.flags if one.form == "equals"]
        apart = [one for one in self.flags if one.form == "apart"]
        words = [name] if bare or not new else [name, self._quoted(new, "")]
        if is_pair or (len(equals) > len(apart) and not bare and new):
            like = self.text.body[equals[-1].word.start] if equals else ""
            words = [self._quoted(f"{name}={new}", like) if like in ("'", '"') else f"{name}={self._quoted(new, '')}"]
        elif new and (_FLAG.fullmatch(new) or _PAIR.fullmatch(new)):
            raise EditRefused(f"'{new}' would be read as a flag of its own")
        return self._at_end(" ".join(words))

    def _at_end(self, text: str) -> Edit:
        assert self.main is not None
        inside = [word for word in self.main.words if not word.is_target]
        last = inside[-1]
        line = self.text.body[self.text.line_around(last.start)[0] : last.start]
        own_line = [
            one for one in inside if not self.text.body[self.text.line_around(one.start)[0] : one.start].strip()
        ]
        sign = "^" if self.batch else "\\"
        follows = len(own_line) > 1 or (own_line and own_line[0] is not inside[0])
        gap = f" {sign}{self.text.newline}{line[: len(line) - len(line.lstrip())]}" if follows else " "
        raw = self.text.body[last.start : last.end]
        return self._replaced(last, raw + gap + text)

    def remove(self, path: Path) -> Edit:
        """Take a flag with its value out, or an item of its list; a line of its own goes with it."""
        if len(path) == 2:
            return self._remove_item(path)
        one = self._flag(path[0]) if path else None
        if one is None:
            raise EditRefused("there is no such flag; a variable is taken out by hand")
        words = [one.word, *([one.value_word] if one.value_word and one.value_word is not one.word else [])]
        if one.outer not in words:
            span = (words[0].start, words[-1].end)
            start, end = self._blanks_with(*span)
            whole = self.text.body[one.outer.start : start] + self.text.body[end : one.outer.end]
            return Edit((Splice(start, end, ""),), self._replaced(one.outer, whole).expected)
        plain = self.plain()
        before = len(read_plainly(self.text.body[: words[0].start], batch=self.batch))
        count = len(read_plainly(self.text.body[words[0].start : words[-1].end], batch=self.batch))
        start, end = self._blanks_with(words[0].start, words[-1].end)
        return Edit((Splice(start, end, ""),), [*plain[:before], *plain[before + count :]])

    def _blanks_with(self, start: int, end: int) -> tuple[int, int]:
        """Take the blanks and the continued line before a word along; at the beginning of a value those behind it."""
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
        """Give a flag another name."""
        one = self._flag(path[0]) if len(path) == 1 else None
        if one is None or isinstance(one.name, int) or self._flag(name) is not None:
            raise EditRefused("there is no such flag, or the new name is taken")
        if not re.fullmatch(r"[-+]{1,2}[A-Za-z_][\w.:\-]*|[A-Za-z_][\w.]*", name) or (name[0] in "-+") != (
            one.name[0] in "-+"
        ):
            raise EditRefused(f"'{name}' cannot take its place")
        raw = self.text.body[one.word.start : one.word.end]
        if one.form == "attached" and not name[-1].isalpha():
            raise EditRefused(f"'{name}' cannot be joined to its value")
        return self._within(one, one.word, raw.replace(one.name, name, 1))

    def insert(self, path: Path, value: Plain, kind: Kind | None = None) -> Edit:
        """Put an item into a flag's list."""
        whole = self.find(path[:1]) if path else None
        new = as_text(value)
        if whole is None or len(path) != 2 or not isinstance(path[1], int):
            raise EditRefused("there is no such list; set the flag first")
        sign = self._separator(whole.value)
        items = whole.value.split(sign) if whole.value else []
        if sign in new or not new:
            raise EditRefused(f"an item can hold no {sign}")
        items.insert(path[1], new)
        return self.set(path[:1], sign.join(items))

    def move(self, path: Path, to: int) -> Edit:
        """Move an item of a flag's list."""
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
        """Refuse: a comment inside a command would cut it in two."""
        raise EditRefused("a flag cannot be commented out; remove it instead")


def _looks_run(value: str) -> bool:
    return re.search(r"\.(?:exe|bat|cmd|jar|sh)$|[\\/]", value, re.I) is not None


class LaunchFormat:
    """The registry's entry for start scripts."""

    name = "launch"

    def read(self, text: Text, dialect: Dialect = USUAL) -> LaunchDocument:
        """Read a text. Never raises."""
        return LaunchDocument(text, dialect)

    def confirms(self, document: Document, expected: object) -> bool:
        """Let the standard library's shell reader split the new text into words."""
        try:
            return bool(document.plain() == expected)
        except EditRefused:
            return False


def read_plainly(body: str, *, batch: bool) -> list[str]:
    """Give the words of a script: by the standard library for sh, by one pattern for Windows. Raises EditRefused."""
    if batch:
        joined = re.sub(r"\^\r?\n", " ", body)
        return re.findall(r'(?:"[^"\r\n]*"?|[^\s"])+', joined)
    try:
        reader = shlex.shlex(body.replace("\\\r\n", " ").replace("\\\n", " "), posix=True, punctuation_chars=True)
        reader.wordchars += "%@:,+^{}[]!$"
        return list(reader)
    except ValueError as error:
        raise EditRefused("a quote in the script is not closed; mend that first (roundgate check)") from error


FORMAT = LaunchFormat()
