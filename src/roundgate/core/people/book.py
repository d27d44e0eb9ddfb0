"""The people book: a TOML file of the site that says who is who, and what they are meant to be where."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from datetime import date

import msgspec
from msgspec import Struct, field

from roundgate.core.formats import FORMATS, apply_edit
from roundgate.core.formats.protocol import Document, EditRefused, Path, PlainData
from roundgate.core.patterns import lazy
from roundgate.core.people.ids import identity
from roundgate.core.rulebook.model import ItemKind
from roundgate.core.text import Text

HEADER = "# Who is who. 'roundgate people' reads and writes this file; you may edit it too.\n"


class Person(Struct, frozen=True, forbid_unknown_fields=True):
    """One person: the name, ids by their kind, other names, a note, and what they are meant to be on which servers."""

    name: str
    ids: dict[str, tuple[str, ...]] = {}
    also: tuple[str, ...] = ()
    note: str = ""
    wanted: dict[str, str] = {}
    """Where (a server, @tag or @all), and which roster and rank: ``officers:marshal``."""
    until: dict[str, str] = {}
    """When a time on a roster ends, where the server's file has no place for it: ``WHERE/ROSTER`` to a date."""
    user: str = ""
    """The person's own name as a user of this machine."""

    def all_ids(self) -> set[str]:
        """Return the ids of all kinds."""
        return {person_id for several in self.ids.values() for person_id in several}


class BookProblem(ValueError):
    """The people book cannot be read; the message says why, and where: the line and the column from 1, 0 if unknown."""

    def __init__(self, cause: str, line: int = 0, column: int = 0) -> None:
        """Keep the cause and the place."""
        super().__init__(cause)
        self.line = line
        self.column = column


class People(Struct, frozen=True):
    """The book as it was read, and its text to change."""

    text: Text
    people: dict[str, Person]
    _owners: dict[str, tuple[ItemKind | None, dict[str, str]]] = field(default_factory=dict)
    """By the name of a kind of ids: the kind, and what all spellings of an id have in common to the key of its owner.

    Worked out when it is first asked for.
    """
    _kinds: list[str] = field(default_factory=list)
    """The names of the kinds of ids that people have."""

    def find(self, word: str) -> list[str]:
        """Give the people that a word means: by their key as it is written, their name, another name, or an id."""
        lowered = word.lower()
        if word in self.people:
            return [word]
        by_name = [key for key, person in self.people.items() if person.name.lower() == lowered]
        by_other = [key for key, person in self.people.items() if lowered in (called.lower() for called in person.also)]
        by_id = [
            key
            for key, person in self.people.items()
            if any(lowered == person_id.lower() for ids in person.ids.values() for person_id in ids)
        ]
        by_key = [lowered] if lowered in self.people else []
        return by_name or by_key or by_other or by_id

    def named(self, identifier: str, kinds: Mapping[str, ItemKind]) -> str:
        """Return the key of whoever has an id; empty where nobody has."""
        if not self._kinds:
            self._kinds.extend(dict.fromkeys(kind for person in self.people.values() for kind in person.ids))
        for name in self._kinds:
            kind = kinds.get(name)
            known = self._owners.get(name)
            if known is None or known[0] is not kind:
                known = self._owners[name] = (kind, self._owners_of(name, kind))
            found = known[1].get(identity(identifier, kind) if kind is not None else identifier)
            if found:
                return found
        return ""

    def _owners_of(self, name: str, kind: ItemKind | None) -> dict[str, str]:
        owners: dict[str, str] = {}
        for key, person in self.people.items():
            for person_id in person.ids.get(name, ()):
                owners.setdefault(identity(person_id, kind) if kind is not None else person_id, key)
        return owners


def read_people(text: Text) -> People:
    """Read the book. Raises BookProblem."""
    import tomllib  # most commands look at people without their book

    try:
        raw = tomllib.loads(text.body)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise _syntax_problem(text, str(error)) from error
    people = raw.pop("person", {})
    if raw or not isinstance(people, dict):
        name = next(iter(raw), "person")
        raise _problem(text, (name,), f"'{name}' is not a table of the book: they are called [person.NAME]")
    return People(text, {key: _person(text, key, table) for key, table in people.items()})


def _syntax_problem(text: Text, cause: str) -> BookProblem:
    kind = FORMATS["toml"]
    wrong = next((mistake for mistake in kind.problems(kind.read(text)) if mistake.level == "error"), None)
    return BookProblem(cause) if wrong is None else BookProblem(wrong.cause, *text.place(wrong.start))


def _person(text: Text, key: str, table: object) -> Person:
    try:
        person = msgspec.convert(table, Person)
    except msgspec.ValidationError as error:
        cause, _, where = str(error).partition(" - at `$")
        field = re.search(r"unknown field `([^`]*)`", cause) or re.match(r"\.?([\w-]*)", where)
        path = ("person", key, field[1]) if field else ("person", key)
        raise _problem(text, path, f"{key}: {cause[:1].lower()}{cause[1:]}") from error
    for where, end in person.until.items():
        if "/" not in where or not _is_date(end):
            form = '"SERVER/ROSTER" = "YYYY-MM-DD"'
            cause = f"{key}: '{where}' = '{end}': the end of a time on a roster is written as {form}"
            raise _problem(text, ("person", key, "until", where), cause)
    return person


_DATE = lazy(r"\d{4}-\d\d-\d\d")


def _is_date(text: str) -> bool:
    try:
        date.fromisoformat(text)
    except ValueError:
        return False
    return _DATE.fullmatch(text) is not None


def _problem(text: Text, path: Path, cause: str) -> BookProblem:
    """Describe where something is wrong: at the value, else at the first value of the nearest table around it."""
    document = FORMATS["toml"].read(text)
    for length in range(len(path), 0, -1):
        inside = next((entry for entry in document.entries() if entry.path[:length] == path[:length]), None)
        if inside is not None:
            start = inside.key_start if inside.key_end > inside.key_start else inside.start
            return BookProblem(cause, *text.place(start))
    return BookProblem(cause)


def key_for(name: str, taken: Mapping[str, Person]) -> str:
    """Choose a key for a new person: the name in small letters, with a number where that is taken."""
    stem = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-") or "somebody"
    key, number = stem, 1
    while key in taken:
        number += 1
        key = f"{stem}-{number}"
    return key


def with_values(text: Text, changes: Sequence[tuple[Path, PlainData]]) -> Text:
    """Return the book's text with values set, or taken out where they are None; all else stays as it is written.

    Raises EditRefused.
    """
    kind = FORMATS["toml"]
    document: Document = kind.read(text)
    for path, value in changes:
        edit = document.remove(path) if value is None else document.set(path, value)
        document = apply_edit(kind, document, edit)
    return document.text


def with_table(text: Text, path: Path, old: Mapping[str, PlainData], new: Mapping[str, PlainData]) -> Text:
    """Return the book's text with a table of a person made another, however it is written. Raises EditRefused."""
    if not old:
        return with_values(text, [(path, dict(new))]) if new else text
    try:
        if not new:
            return with_values(text, [(path, None)])
    except EditRefused:  # its keys stand alone, as in ids.sailor = [...]
        pass
    changed = [((*path, name), value) for name, value in new.items() if old.get(name) != value]
    return with_values(text, [*changed, *(((*path, name), None) for name in old if name not in new)])


def with_person(text: Text, key: str, name: str, ids: Mapping[str, Sequence[str]]) -> Text:
    """Return the book's text with one more person at its end, in a table of its own."""
    from roundgate.core.formats.toml.writer import key_text, value_text  # many commands read the book, few write it

    body = text.body or HEADER
    lines = [f"[person.{key_text((key,))}]", f"name = {value_text(name)}"]
    lines += [f"ids.{key_text((kind,))} = {value_text(list(several))}" for kind, several in ids.items()]
    gap = "\n" if body.endswith("\n") else "\n\n"
    return text.with_body(body + gap + "\n".join(lines) + "\n")
