"""What a slate will mean, in plain values: each change in words, the consequences, and the difference as text."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from msgspec import Struct
from msgspec.structs import replace

from roundgate.core.differences import lines_of, unified
from roundgate.core.files import ServerFiles, say
from roundgate.core.formats.protocol import Entry
from roundgate.core.mends import EditText, Mend
from roundgate.core.rulebook.model import Rulebook, Setting
from roundgate.core.secrets import (
    HIDDEN,
    hidden_line,
    hidden_paths,
    is_secret,
    may_be_named_elsewhere,
    secret_entries,
    secret_names,
    without_secrets,
    without_sounding,
)
from roundgate.core.slate import Change, MoveItem, Outcome, Rename, SetValue, Switch, Unset
from roundgate.core.text import LARGE, Text

_LONG = 72
"""A longer value is cut short where it is only named; the difference below shows the whole of it."""


class ChangeWords(Struct, frozen=True):
    """One change as a person reads it."""

    name: str
    file: str
    before: str
    after: str
    then: str = ""
    """What it was when it was put on the slate, where that is no longer what it is now."""
    is_nothing: bool = False


class Review(Struct, frozen=True):
    """The whole review of a slate."""

    changes: tuple[ChangeWords, ...]
    consequences: tuple[str, ...]
    diff: str


def review_of(outcome: Outcome) -> Review:
    """Say what an outcome means."""
    return Review(changes_in_words(outcome), tuple(_consequences(outcome)), diff_of(outcome))


def changes_in_words(outcome: Outcome) -> tuple[ChangeWords, ...]:
    """Say what each operation of an outcome did."""
    return tuple(
        _in_words(_masked(change) if _is_named_elsewhere(change, outcome) else change, outcome.before.book)
        for change in outcome.changes
    )


def _is_named_elsewhere(change: Change, outcome: Outcome) -> bool:
    """Tell whether another field of its record says that a change's value is a secret."""
    operation = change.operation
    if not isinstance(operation, SetValue | Unset | Switch) or not may_be_named_elsewhere(operation.key):
        return False
    for files in (outcome.before, outcome.after):
        document = files.document(change.file)
        if document is not None:
            path = document.resolve(operation.key)
            if path in hidden_paths(files.book, change.file, document):
                return True
    return False


def _masked(change: Change) -> Change:
    before, after = (None if one is None else HIDDEN for one in (change.before, change.after))
    return replace(change, before=before, after="(hidden, new)" if after and change.before != change.after else after)


def spec_of(change: Change, book: Rulebook) -> Setting | None:
    """Give the setting that a change is about, where the rulebook knows it."""
    return book.setting.get(change.name) if isinstance(change.operation, SetValue | Unset | Switch) else None


def say_stored(stored: str | None, change: Change, book: Rulebook) -> str:
    """Say a value of a change: as its setting says it, hidden where it is secret."""
    spec = spec_of(change, book)
    if spec:
        default = f" (default {say(str(spec.default), spec)})" if stored is None and spec.default is not None else ""
        return say(stored, spec) if stored is not None else f"not set{default}"
    if stored is None:
        return "not set"
    operation = change.operation
    if isinstance(operation, Mend | EditText):
        return stored
    key = operation.key if isinstance(operation, SetValue | Unset | Switch) else ""
    if is_secret(book, change.file, key):
        return "(set, hidden)"
    lines = [line.strip() for line in without_sounding(stored, secret_names(book, change.file)).splitlines()]
    if not "".join(lines):
        return "(empty)"
    shown = lines[0] if len(lines[0]) <= _LONG else f"{lines[0][: _LONG - 1].rstrip()}…"
    return shown if len(lines) == 1 else f"{shown} … ({len(lines)} lines)"


def _in_words(change: Change, book: Rulebook) -> ChangeWords:
    operation = change.operation
    if isinstance(operation, SetValue | Unset):
        then = say_stored(operation.then, change, book) if change.has_moved_on else ""
        before, after = say_stored(change.before, change, book), say_stored(change.after, change, book)
        return ChangeWords(change.name, change.file, before, after, then, change.is_nothing)
    if isinstance(operation, Switch):
        before, after = (_switch_words(one, change, book) for one in (change.before, change.after))
        return ChangeWords(change.name, change.file, before, after, "", change.is_nothing)
    if isinstance(operation, Rename):
        before, after = f"called {change.before}", f"called {change.after}"
        return ChangeWords(change.name, change.file, before, after, "", change.is_nothing)
    if isinstance(operation, Mend | EditText):
        return ChangeWords(change.name, change.file, change.before or "", change.after or "", "", change.is_nothing)
    before, after = _list_words(change, book)
    return ChangeWords(change.name, change.file, before, after, "", change.is_nothing)


def _switch_words(stored: str | None, change: Change, book: Rulebook) -> str:
    return "commented out" if stored is None else say_stored(stored, change, book)


def _list_words(change: Change, book: Rulebook) -> tuple[str, str]:
    operation, before, after = change.operation, change.items_before, change.items_after
    if is_secret(book, change.file, change.name.partition(":")[2]):
        return f"{len(before)} entries", f"{len(after)} entries (hidden)"
    count = f"{len(before)} entries"
    if isinstance(operation, MoveItem) and operation.item in before:
        old, new = before.index(operation.item) + 1, after.index(operation.item) + 1
        return f"'{operation.item}' is number {old}", f"number {new}"
    added = [item for item in after if after.count(item) > before.count(item)]
    gone = [item for item in before if before.count(item) > after.count(item)]
    words = [f"+ {item} (number {after.index(item) + 1})" for item in added[-1:]] + [f"- {item}" for item in gone[:1]]
    return count, ", ".join(words) + f", {len(after)} entries" if words else count


def _consequences(outcome: Outcome) -> Iterator[str]:
    book = outcome.before.book
    real = [change for change in outcome.changes if not change.is_nothing]
    for takes, words in _TAKES.items():
        names = [change.name for change in real if _takes(change, book) == takes]
        if names:
            yield words.format(names=", ".join(dict.fromkeys(names)))
    for change in real:
        spec = spec_of(change, book)
        if spec and spec.advice:
            yield f"{change.name}: {spec.advice}"
    unknown = [
        change.name
        for change in real
        if isinstance(change.operation, SetValue | Unset | Switch) and not spec_of(change, book)
    ]
    if unknown:
        yield f"{', '.join(unknown)}: the rulebook does not know this key; it is written, but not checked or proven."


_TAKES = {
    "live": "{names}: could also be set without a restart, with 'apply --live'; lasts once it is in the file.",
    "restart": "{names}: takes effect when the server restarts; everybody on it is put off for that time.",
    "new-world": "{names}: fixed when a world is made; takes effect in a new world only.",
}


def _takes(change: Change, book: Rulebook) -> str:
    spec = spec_of(change, book)
    if spec:
        is_live = spec.live and spec.live.set and spec.takes == "live" and not isinstance(change.operation, Switch)
        return "live" if is_live else "restart" if spec.takes == "live" else spec.takes
    known = book.list.get(change.name)
    return known.takes if known else "restart"


def diff_of(outcome: Outcome) -> str:
    """Give the difference of every file that changes, secrets blanked out, in unified form."""
    pieces = []
    for path in outcome.touched:
        names = (f"{path} (on disk)", f"{path} (after)")
        texts = [files.texts.get(path, Text("")) for files in (outcome.before, outcome.after)]
        hidden = partial(hidden_line, names=secret_names(outcome.after.book, path))
        if max(len(text.body) for text in texts) > LARGE:  # reading all of it to find its secrets would take too long
            old, new = (lines_of(text.body) for text in texts)
        else:
            old, new = _shown(outcome, path, old=True), _shown(outcome, path, old=False)
        pieces.append("\n".join(unified(old, new, names, shown=hidden)))
    return "\n".join(pieces)


def lines_shown(files: ServerFiles, path: str, text: Text) -> list[str]:
    """Give the lines of a text of one of a server's files, secrets blanked out."""
    kind, names = files.format(path), secret_names(files.book, path)
    if len(text.body) <= LARGE and kind:
        text = without_secrets(text, secret_entries(files.book, path, kind.read(text, files.dialect(path))))
    lines = lines_of(text.body)
    return [hidden_line(lines, number, names) for number in range(len(lines))]


def _shown(outcome: Outcome, path: str, *, old: bool) -> list[str]:
    files = outcome.before if old else outcome.after
    document = files.document(path)
    if document is None:
        return []
    book, other = files.book, (outcome.after if old else outcome.before).document(path)
    text = document.text
    changed: list[Entry] = []
    same: list[Entry] = []
    for entry in secret_entries(book, path, document):
        there = other.find(entry.path) if other else None
        (same if there and there.value == entry.value else changed).append(entry)
    word = "(hidden, old)" if old else "(hidden, new)"
    blanked = {entry.start: "(hidden)" for entry in same} | {entry.start: word for entry in changed}
    for entry in sorted((*same, *changed), key=lambda one: one.start, reverse=True):
        text = without_secrets(text, [entry], blanked[entry.start])
    return lines_of(text.body)
