"""A drafted rulebook, put together and written as TOML with a remark at every guess that is not sure."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from typing import NamedTuple

from roundgate.core.draft.comments import Described, described
from roundgate.core.draft.guesses import Field, Guess, guess
from roundgate.core.draft.hints import hints_in
from roundgate.core.files import ServerFiles
from roundgate.core.formats.places import key_of
from roundgate.core.formats.protocol import Dialect, Document
from roundgate.core.formats.toml.writer import key_text, value_text

_MOST_SETTINGS = 5000


class Counts(NamedTuple):
    """What a draft got."""

    files: int
    settings: int
    sure: int
    """Settings whose type and fields follow from the value and its comment."""
    described: int
    """Settings of which a comment says what they mean."""
    lists: int
    left_out: int
    """Values inside lists and records, which a draft leaves alone."""
    unreadable: tuple[str, ...]
    """Files that could not be looked at."""

    @property
    def unsure(self) -> int:
        """Settings that a person should look at first."""
        return self.settings - self.sure


class Draft(NamedTuple):
    """A drafted rulebook."""

    text: str
    counts: Counts


class _Setting(NamedTuple):
    name: str
    file: str
    key: str
    about: str
    guess: Guess
    others: tuple[str, ...]
    """Values that other servers of the same game have for it."""


def draft(name: str, files: ServerFiles, unreadable: Iterable[str], others: Mapping[str, ServerFiles]) -> Draft:
    """Draft a rulebook from a server's files; ``others`` are the files of more servers of the same game, by name."""
    parts = [_head(name)]
    taken: set[str] = set()
    settings: list[_Setting] = []
    lists = left_out = 0
    ids = _file_ids(files.texts)
    for path in files.texts:
        document = files.document(path)
        if document is None:
            continue
        parts.append(_file(ids[path], path, files.format_name(path), files.dialect(path)))
        if files.format_name(path) == "lines":
            parts.append(_list(ids[path], document))
            lists += 1
            continue
        found, rest = _settings(ids[path], path, document, taken, others)
        settings += found
        left_out += rest
        parts += [_setting_text(setting, is_compared=bool(others)) for setting in found]
    parts.append(_SERVER)
    sure = sum(1 for setting in settings if not setting.guess.unsure)
    about = sum(1 for setting in settings if setting.about)
    counts = Counts(len(ids), len(settings), sure, about, lists, left_out, tuple(unreadable))
    return Draft("\n\n".join(parts) + "\n", counts)


def _head(name: str) -> str:
    return "\n".join(
        (
            "# A first rulebook, drafted from a server's files. Remarks with UNSURE mark guesses: look at those first.",
            "# When it is as you want it: roundgate rulebook check, then name it as 'rulebook' in roundgate.toml.",
            "[rulebook]",
            f"name = {value_text(name)}",
            f"title = {value_text(f'{name} (draft)')}",
        )
    )


_SERVER = """[server]
# How the server says that it is ready, stops, and speaks: a round cannot be proven well without them.
# ready = 'Server started'          # a pattern of its log
# stop = "stop"                     # the console's command; without one it is stopped by signals
# failures = ['^ERROR']             # log lines that mean that it does not come up"""


def _file_ids(paths: Iterable[str]) -> dict[str, str]:
    """Give each file a short name of its own."""
    ids: dict[str, str] = {}
    for path in paths:
        stem = re.sub(r"[^a-z0-9]+", "-", path.rpartition("/")[2].partition(".")[0].lower()).strip("-") or "file"
        name, number = stem, 1
        while name in ids.values():
            number += 1
            name = f"{stem}-{number}"
        ids[path] = name
    return ids


def _file(name: str, path: str, format_name: str, dialect: Dialect) -> str:
    notes = ("dialect = { notes = true }   # UNSURE: remarks follow values",) if dialect.notes else ()
    return "\n".join(
        (
            f"[{key_text(('file', name))}]",
            f"path = {value_text(path)}",
            f"format = {value_text(format_name)}",
            *notes,
            '# rewritten = "at-stop"   # UNSURE: does the server write it itself? at-start, at-stop or while-running',
        )
    )


def _list(name: str, document: Document) -> str:
    entries = [entry.value for entry in document.entries()]
    example = f"\nexample = {value_text(entries[0])}" if entries else ""
    return (
        f"[{key_text(('kind', name))}]\nabout = {value_text(f'an entry of {name}')}   # UNSURE{example}\n\n"
        f"[{key_text(('list', name))}]\nfile = {value_text(name)}\nitem = {value_text(name)}"
    )


def _settings(
    file: str, path: str, document: Document, taken: set[str], others: Mapping[str, ServerFiles]
) -> tuple[list[_Setting], int]:
    """Return the settings of a file, and how many values in lists were left out."""
    found: list[_Setting] = []
    left_out = 0
    for described_key in described(document):
        if any(isinstance(step, int) for step in described_key.entry.path) or len(found) >= _MOST_SETTINGS:
            left_out += 1
            continue
        key = key_of(described_key.entry.path)
        is_worked_out = document.format_name == "launch" and (
            "$(" in described_key.entry.value or "`" in described_key.entry.value
        )
        if not key or document.resolve(key) != described_key.entry.path or is_worked_out:
            left_out += 1
            continue
        name = _name(described_key, file, taken)
        comment = re.sub(r"\A!.*\n?", "", described_key.comment)  # the first line of a script names its shell
        hints = hints_in(comment, described_key.entry.value)
        kind = described_key.entry.kind or "text"
        made = guess(key, described_key.entry.value, kind, hints, comment, is_off=described_key.is_off)
        if document.format_name == "launch" and not described_key.entry.value and key[:1] in "-+":
            made = Guess({"type": "flag"}, ())
        found.append(_Setting(name, file, key, hints.about, made, _values_elsewhere(described_key, path, others)))
    return found, left_out


def _name(described: Described, file: str, taken: set[str]) -> str:
    """Give a setting a name of its own, out of its key; the file's name goes before it where it is taken."""
    parts = [re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "-", str(step)).lower() for step in described.entry.path]
    plain = ".".join(re.sub(r"[^a-z0-9._-]+", "-", word).strip("-.") or "x" for word in parts)
    name, number = plain, 1
    if name in taken:
        name = f"{file}.{plain}"
    while name in taken:
        number += 1
        name = f"{file}.{plain}-{number}"
    taken.add(name)
    return name


def _values_elsewhere(described: Described, path: str, others: Mapping[str, ServerFiles]) -> tuple[str, ...]:
    """Describe what other servers have, where that is something else: what differs is worth knowing."""
    found = []
    for name, files in others.items():
        document = files.document(path)
        entry = document.find(described.entry.path) if document is not None else None
        held = entry.value if entry is not None else None
        if held is not None and held != described.entry.value:
            found.append(f"{name}: {held}")
    return tuple(found)


def _setting_text(setting: _Setting, *, is_compared: bool) -> str:
    """Write a setting; where servers are compared, what is the same on all of them is for those who look closely."""
    lines = [f"[{key_text(('setting', setting.name))}]"]
    lines += [f"file = {value_text(setting.file)}", f"key = {value_text(setting.key)}"]
    lines += [f"{name} = {_field(value)}" for name, value in setting.guess.fields.items()]
    if setting.about:
        lines.append(f"about = {value_text(setting.about)}")
    if setting.others and setting.guess.fields["type"] != "secret":
        lines.append(_remark(f"differs between servers, so it is worth knowing: {'; '.join(setting.others)}"))
    elif is_compared:
        lines.append('tier = "advanced"')
    lines += [_remark(f"UNSURE: {why}") for why in setting.guess.unsure]
    return "\n".join(lines)


def _field(value: Field) -> str:
    return value_text(value)


def _remark(text: str) -> str:
    """Write a remark on one line; a value in it may hold anything."""
    return "# " + "".join(char if char.isprintable() else " " for char in text)[:300]
