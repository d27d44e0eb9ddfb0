"""Reading start scripts: what stands where, and what it says. ``launch`` edits them."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import cached_property
from typing import NamedTuple

from roundgate.core.formats.launch.tokens import (
    Command,
    Word,
    array_words,
    commands,
    is_batch,
    plain_shell,
    split_words,
    without_documents,
)
from roundgate.core.formats.protocol import USUAL, Dialect, EditRefused, Entry, Path
from roundgate.core.patterns import lazy
from roundgate.core.text import LINE_END, Text

_FLAG = lazy(
    r"(?P<name>[-+]{1,2}[A-Za-z_][\w.:\-]*?)(?:(?P<sign>=)(?P<value>.*)|(?P<attached>(?<=[A-Za-z])\d[\w.]*))?", re.S
)


_PAIR = lazy(r"(?P<name>[A-Za-z_][\w.]*)=(?P<value>.*)", re.S)


def refuse_flag_as_value(value: str) -> None:
    """Refuse a value that, as a word of its own, would be read as another flag. Raises EditRefused."""
    if _FLAG.fullmatch(value) or _PAIR.fullmatch(value):
        raise EditRefused(f"'{value}' would be read as a separate flag")


_ASSIGNED = lazy(r"([A-Za-z_]\w*)\+?=(.*)", re.S)


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


_QUOTED = lazy(r"\"(?:[^\"\\]|\\.)*\"|'[^']*'", re.DOTALL)
_VARIABLE = lazy(r"\$(?:(\w+)|\{(\w+)(?:\[@\])?\})|%(\w+)%")


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


class Assignment(NamedTuple):
    """One place where a script sets a variable: its name, the word, and where the value begins."""

    name: str
    word: Word
    start: int


class LaunchReading:
    """A start script, read: what stands where."""

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
        return {assignment.name: (assignment.word, assignment.start) for assignment in self.assignments}

    @cached_property
    def assignments(self) -> list[Assignment]:
        """Every place where the script sets a variable, in order."""
        found: list[Assignment] = []
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
                found.append(Assignment(assigned[1], word, word.start + assigned.start(2)))
        return found

    def splits(self, name: str, seen: frozenset[str] = frozenset()) -> bool:
        """Return whether the shell would make several words of a variable's value, if it had spaces.

        It does where the variable is used outside double quotes, itself or by way of another variable.
        """
        used = re.compile(rf"\$(?:{name}\b|\{{{name}\b)")
        setting = {assignment.word: assignment.name for assignment in self.assignments}
        for word in (word for command in self.commands for word in command.words):
            raw = self.text.body[word.start : word.end]
            if not used.search(raw):
                continue
            if word in setting:
                other = setting[word]
                if other != name and other not in seen and self.splits(other, seen | {name}):
                    return True
            elif used.search(_QUOTED.sub("", raw)):
                return True
        return False

    def _batch_variable(self, words: list[Word], found: list[Assignment]) -> None:
        if len(words) < 2 or words[0].value.lower() != "set":
            return
        raw = self.text.body[words[1].start : words[-1].end]
        assigned = re.match(r"(\"?)([A-Za-z_]\w*)=", raw)
        if assigned:
            whole = Word(words[1].start, words[-1].end, raw)
            found.append(Assignment(assigned[2].upper(), whole, words[1].start + assigned.end()))

    def _value_span(self, name: str) -> tuple[int, int]:
        """Return the span of a variable's value, without quotes around the whole of it."""
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
            if not words or self._is_followed_by_pattern_end(command):
                continue
            begun = command.words[0].value
            flags = sum(1 for word in words if _FLAG.fullmatch(word.value) or _PAIR.fullmatch(word.value))
            score = flags + (100 if begun == "exec" else 1)
            if score >= best_score:
                best, best_score = command, score
        return best

    def _is_followed_by_pattern_end(self, command: Command) -> bool:
        """Return whether what looks like a command is a pattern of a ``case``: a lone bracket closes it."""
        if self.batch or not self.text.body.startswith(")", command.end):
            return False
        line = self.text.body[self.text.line_around(command.end)[0] : command.end]
        return line.count(")") >= line.count("(")

    def _is_pattern(self, word: Word) -> bool:
        """Return whether a word ends in a bracket that nothing in it opens: a pattern of a ``case``."""
        raw = self.text.body[word.start : word.end]
        return not self.batch and raw.endswith(")") and raw.count("(") < raw.count(")")

    def _arguments(self, command: Command) -> list[Word]:
        """Return a command's words from its program on, or nothing where it starts no program."""
        words = [word for word in command.words if not word.is_target]
        if not self.batch and words and self._is_pattern(words[0]):
            words.pop(0)  # of a case: start) exec ...
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
        if any(self._is_pattern(word) for word in words):
            return []
        if not words or words[0].value.lower().lstrip("@") in _ASIDE or words[0].value.startswith((":", "-")):
            return []
        return words

    # --- flags ---

    @cached_property
    def flags(self) -> list[Flag]:
        """Return the flags, pairs and plain words of the command line, in order."""
        if self.main is None:
            return []
        words: list[tuple[Word, Word]] = []
        for word in self._arguments(self.main)[1:]:
            inner = self._inner(word)
            words += [(word, outer) for word, outer in inner] if inner is not None else [(word, word)]
        return self._flags_of(words)

    def _inner(self, word: Word) -> list[tuple[Word, Word]] | None:
        """Return the words of a variable that holds a list of flags, where a word is one."""
        raw = self.text.body[word.start : word.end].strip('"')
        name = _VARIABLE.fullmatch(raw)
        key = next((group for group in name.groups() if group), "") if name else ""
        key = key.upper() if self.batch else key
        if key not in self.variables:
            return None
        assigned, start = self.variables[key]
        if not self.batch and self.text.body[start : start + 1] == "(":
            return [(word, word) for word in array_words(self.text.body, assigned)]
        inner = split_words(self.text.body, *self._value_span(key))
        return [(word, assigned) for word in inner] if any(_FLAG.fullmatch(word.value) for word in inner) else None

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

    def is_repeated(self, name: str | int) -> bool:
        """Return whether a flag makes a list by being repeated."""
        return name in self.dialect.repeated

    def several(self, name: str | int) -> list[Flag]:
        """Return every flag of a name, in order."""
        return [flag for flag in self.flags if flag.name == name]

    def _flag(self, name: str | int) -> Flag | None:
        several = self.several(name)
        return several[0 if self.dialect.counts == "first" else -1] if several else None

    def _shared(self, value: str) -> str:
        """Return the name of the variable that a value is, where the script sets it; else nothing."""
        found = _VARIABLE.fullmatch(value)
        name = next((group for group in found.groups() if group), "") if found else ""
        name = name.upper() if self.batch else name
        return name if name in self.variables else ""

    # --- what stands there ---

    def entries(self) -> Sequence[Entry]:
        """Return every variable that the script sets, and every part of the command line."""
        found = [self._variable_entry(name) for name in self.variables]
        numbers: dict[str | int, int] = {}
        for flag in self.flags:
            number = numbers[flag.name] = numbers.get(flag.name, -1) + 1
            path = (flag.name, number) if self.is_repeated(flag.name) else (flag.name,)
            found.append(self._flag_entry(path, flag))
        return sorted(found, key=lambda entry: entry.key_start)

    def _variable_entry(self, name: str) -> Entry:
        word, _ = self.variables[name]
        start, end = self._value_span(name)
        raw = self.text.body[start:end]
        value = raw if self.batch or raw[:1] == "(" else plain_shell(self.text.body[self.variables[name][1] : word.end])
        key = word.start + (self.text.body[word.start] == '"')
        return Entry((f"${name}",), value, key, key + len(name), start, end)

    def _flag_entry(self, path: Path, flag: Flag) -> Entry:
        name = self._shared(flag.value)
        key = (flag.word.start, flag.word.end if flag.form != "equals" else flag.word.start + len(str(flag.name)))
        if name:
            inner = self._variable_entry(name)
            return Entry(path, inner.value, *key, inner.start, inner.end)
        if flag.value_word is None:
            return Entry(path, "", flag.word.start, flag.word.end, flag.word.end, flag.word.end)
        start, end = flag.value_word.start, flag.value_word.end
        if flag.form in ("equals", "attached"):
            raw = self.text.body[start:end]
            at = raw.find("=") + 1 if flag.form == "equals" else len(str(flag.name))
            quoted = raw[:1] in ("'", '"')
            start, end = start + at + (quoted and flag.form == "attached"), end - (1 if quoted else 0)
        raw = self.text.body[start:end]
        if len(raw) > 1 and raw[0] == raw[-1] and raw[0] in "\"'":
            start, end = start + 1, end - 1
        return Entry(path, flag.value, *key, start, max(start, end))

    def _separator(self, value: str) -> str:
        return self.dialect.separator or next((sign for sign in (";", ",") if sign in value), ";")

    def find(self, path: Path) -> Entry | None:
        """Return a flag, an item of its list, a variable, a plain word, or the program."""
        if path == ("program",) and self.main is not None:
            word = self._arguments(self.main)[0]
            return Entry(path, word.value, word.start, word.start, word.start, word.end)
        if len(path) == 1 and isinstance(path[0], str) and path[0][:1] == "$":
            name = path[0][1:].upper() if self.batch else path[0][1:]
            return self._variable_entry(name) if name in self.variables else None
        flag = self._flag(path[0]) if path else None
        if flag is None or len(path) > 2:
            return None
        if len(path) == 2 and self.is_repeated(path[0]):
            several = self.several(path[0])
            is_there = isinstance(path[1], int) and 0 <= path[1] < len(several)
            return self._flag_entry(path, several[int(path[1])]) if is_there else None
        whole = self._flag_entry(path[:1], flag)
        if len(path) == 1:
            return whole
        items = whole.value.split(self._separator(whole.value))
        if not isinstance(path[1], int) or path[1] >= len(items):
            return None
        raw = self.text.body[whole.start : whole.end].split(self._separator(whole.value))
        if [plain_shell(word) for word in raw] != items and raw != items:
            return whole._replace(path=path, value=items[path[1]])
        start = whole.start + sum(len(word) + 1 for word in raw[: path[1]])
        return whole._replace(path=path, value=items[path[1]], start=start, end=start + len(raw[path[1]]))

    def resolve(self, key: str) -> Path:
        """Return the path of a flag or a variable; ``--mods[0]`` is an item of its list."""
        found = re.fullmatch(r"(.+)\[(\d+)\]", key)
        if found and self._flag(found[1]):
            return found[1], int(found[2])
        return (int(key[1:-1]),) if re.fullmatch(r"\[\d+\]", key) else (key,)

    def switched_off(self) -> Sequence[Entry]:
        """Return nothing: a flag cannot stand commented out inside a command."""
        return ()

    def plain(self) -> list[str]:
        """Return every word of the script. Raises EditRefused where a quote is not closed."""
        return read_whole(self.text.body, batch=self.batch)

    @cached_property
    def bare(self) -> str:
        """The script with the texts that it feeds to commands blanked out; as long as the script."""
        return self.text.body if self.batch else without_documents(self.text.body)


def _looks_run(value: str) -> bool:
    return re.search(r"\.(?:exe|bat|cmd|jar|sh)$|[\\/]", value, re.I) is not None


def read_whole(body: str, *, batch: bool) -> list[str]:
    """Return every word of a script, then each line of the texts that it feeds to commands. Raises EditRefused."""
    if batch:
        return read_plainly(body, batch=True)
    bare = without_documents(body)
    lines = zip(LINE_END.split(body), LINE_END.split(bare), strict=True)
    return [*read_plainly(bare, batch=False), *(line for line, blank in lines if line != blank)]


def read_plainly(body: str, *, batch: bool) -> list[str]:
    """Return the words of a script: by the standard library for sh, by one pattern for Windows. Raises EditRefused."""
    if batch:
        joined = re.sub(r"\^\r?\n", " ", body)
        return re.findall(r'(?:"[^"\r\n]*"?|[^\s"])+', joined)
    import shlex  # only an edit has need of a second reader

    try:
        reader = shlex.shlex(body.replace("\\\r\n", " ").replace("\\\n", " "), posix=True, punctuation_chars=True)
        reader.wordchars += "%@:,+^{}[]!$"
        return list(reader)
    except ValueError as error:
        raise EditRefused("a quote in the script is not closed; fix that first (roundgate check)") from error
