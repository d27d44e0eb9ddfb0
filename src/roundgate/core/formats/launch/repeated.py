"""Flags that make a list by being repeated, as in ``--mod tides --mod wind``: put one in, and move one."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from roundgate.core.formats.launch.reader import Flag, refuse_flag_as_value
from roundgate.core.formats.launch.tokens import Word
from roundgate.core.formats.protocol import Edit, EditRefused, EntryKind, Path, PlainData
from roundgate.core.text import Splice, Text


class Script(Protocol):
    """What is asked of a start script."""

    text: Text

    def several(self, name: str | int) -> list[Flag]:
        """Return every flag of a name, in order."""
        ...

    def plain(self) -> list[str]:
        """Return every word of the script."""
        ...

    def set(self, path: Path, value: PlainData, kind: EntryKind | None = None, *, on_copy: bool = False) -> Edit:
        """Give a flag a value."""
        ...

    def set_flag(self, flag: Flag, new: str) -> Edit:
        """Return a flag that is there another value."""
        ...

    def quoted(self, value: str, like: str) -> str:
        """Write a value as a word."""
        ...

    def replaced(self, word: Word, new: str, more: Sequence[Splice] = ()) -> Edit:
        """Replace a word of the script by another text."""
        ...


def insert_repeated(document: Script, name: str, number: int, new: str) -> Edit:
    """Put one more of a repeated flag in, before number ``number`` or after the last one. Raises EditRefused."""
    several = document.several(name)
    if not several:
        return document.set((name,), new)
    like = several[min(number, len(several) - 1)]
    if like.outer is not like.word and like.outer is not like.value_word:
        raise EditRefused(f"{name} is in a variable's list of flags; edit it by hand")
    body, word = document.text.body, like.word
    last = like.value_word or word
    if like.form == "equals":
        raw = body[word.start : word.end]
        text = document.quoted(f"{name}={new}", raw) if raw[:1] in "\"'" else f"{name}={document.quoted(new, '')}"
    else:
        refuse_flag_as_value(new)
        text = f"{name} {document.quoted(new, body[last.start])}"
    if number < len(several):
        return document.replaced(word, f"{text} {body[word.start : word.end]}")
    return document.replaced(last, f"{body[last.start : last.end]} {text}")


def move_repeated(document: Script, name: str, number: int, to: int) -> Edit:
    """Move one of a repeated flag: the values change places. Raises EditRefused."""
    several = document.several(name)
    if not (number < len(several) and 0 <= to < len(several)):
        raise EditRefused(f"the list has items 0 to {len(several) - 1}")
    values = [flag.value for flag in several]
    values.insert(to, values.pop(number))
    plain = document.plain()
    expected, cuts = list(plain), list[Splice]()
    for flag, value in zip(several, values, strict=True):
        if flag.value == value:
            continue
        edit = document.set_flag(flag, value)
        if len(edit.expected) != len(plain):
            raise EditRefused(f"the values of {name} cannot change places")
        cuts += edit.splices
        for at, word in enumerate(edit.expected):
            if word != plain[at]:
                expected[at] = word
    return Edit(tuple(cuts), expected)
