"""Addresses of records: what ``SET``, ``SET/RECORD`` and ``SET/RECORD.FIELD`` mean."""

from __future__ import annotations

from msgspec import Struct

from roundgate.core.records.model import Record
from roundgate.core.rulebook.model import RecordSet, Rulebook
from roundgate.host.workspace import Holder


class RecordAddress(Struct, frozen=True):
    """What ``SET/RECORD.FIELD`` means: the set, its records, and the field, empty where none is named."""

    name: str
    spec: RecordSet
    records: tuple[Record, ...]
    field: str = ""


def set_named(book: Rulebook, word: str) -> str:
    """Return the set of records that the beginning of a word names, before a ``/``; empty where it names none."""
    lowered = f"{word.lower()}/"
    return next((name for name in book.records if lowered.startswith(f"{name.lower()}/")), "")


def is_address(book: Rulebook, word: str) -> bool:
    """Return whether a word is the address of a record or of one of its fields."""
    name = set_named(book, word)
    return bool(name) and word[len(name) : len(name) + 1] == "/"


def book_for(holder: Holder, word: str) -> tuple[Rulebook, str]:
    """Return the rulebook in which a word names records, and the word in its terms: FILE:PATH may name a set too."""
    file, colon, _ = word.partition(":")
    if not colon or not (file in holder.paths() or (holder.folder / file).is_file()):
        return holder.book, word
    from roundgate.core.records.looks import with_looks

    return with_looks(holder.book, holder.outcome(holder.operations, [file]).after, word)


def names_record(holder: Holder, word: str) -> bool:
    """Return whether a word is the address of a record, of one of its fields, or of a set that only its looks show."""
    book, word = book_for(holder, word)
    return is_address(book, word)


def names_records(holder: Holder, word: str) -> bool:
    """Return whether a word means a set of records, or one of them."""
    book, word = book_for(holder, word)
    return is_address(book, word) or word.lower() in {name.lower() for name in book.records}
