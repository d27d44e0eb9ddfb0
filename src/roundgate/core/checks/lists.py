"""Are the lists long enough, free of doubles, and is every entry of the right form?"""

from __future__ import annotations

import re
from collections.abc import Iterator

from roundgate.core.checks.context import Subject
from roundgate.core.findings import Code, Finding, Place
from roundgate.core.nearest import nearest
from roundgate.core.rulebook.model import Kind, ListOf

CODES = (
    Code(
        "list-short",
        "error",
        "A list with too few entries",
        "An empty map rotation, for one, keeps the server from starting. "
        "Add the new entry first, then remove the old one.",
    ),
    Code("list-long", "error", "A list with too many entries", "The server reads only the first ones."),
    Code("item-twice", "warning", "The same entry twice in a list", "Each entry should be there once."),
    Code(
        "item-form",
        "error",
        "A list entry of the wrong form",
        "It is none of the built-in names, and does not look like anything else that may be there. Case counts.",
        "harbour mile",
        "Harbour Mile",
    ),
)


def item_problem(item: str, kind: Kind) -> tuple[str, str] | None:
    """Tell cause and likely meaning where an entry will not do, or None where it will."""
    if item in kind.catalogue or (kind.pattern and re.fullmatch(kind.pattern, item)):
        return None
    if not kind.catalogue and not kind.pattern:
        return None
    near = nearest(item, kind.catalogue, least=70)
    hint = f" Did you mean {near}?" if near else f" An example: {kind.example}." if kind.example else ""
    return f"'{item}' is not known.{hint}", near or kind.example


def check_lists(subject: Subject) -> Iterator[Finding]:
    """Check every list of the rulebook whose file exists."""
    for name, spec in subject.book.list.items():
        path = subject.book.file[spec.file].path
        if subject.files.document(path) is not None:
            yield from _count(subject, name, spec, path)
            yield from _items(subject, name, spec, path)


def _count(subject: Subject, name: str, spec: ListOf, path: str) -> Iterator[Finding]:
    count = len(subject.files.items(name))
    if count < spec.least:
        have = "it is empty" if count == 0 else f"it has {count}"
        cause = (
            f"The list needs at least {spec.least} entries; {have}."
            if spec.least > 1
            else f"The list needs at least one entry; {have}."
        )
        example = subject.book.kind[spec.item].example
        yield subject.finding("list-short", "error", Place(path), cause, subject.command("add", name, example), name)
    if spec.most is not None and count > spec.most:
        cause = f"The list may have {spec.most} entries; it has {count}."
        yield subject.finding("list-long", "error", Place(path), cause, f"Remove {count - spec.most} of them.", name)


def _items(subject: Subject, name: str, spec: ListOf, path: str) -> Iterator[Finding]:
    document = subject.files.document(path)
    seen: set[str] = set()
    for entry in document.entries() if document else ():
        wrong = item_problem(entry.value, subject.book.kind[spec.item])
        if wrong:
            place = subject.entry_place(path, entry)
            do = f"Write {wrong[1]} instead." if wrong[1] else "Mend or remove the entry."
            yield subject.finding("item-form", "error", place, wrong[0], do, name)
        if spec.unique and entry.value in seen:
            place = subject.entry_place(path, entry)
            do = "Delete one of the two."
            yield subject.finding("item-twice", "warning", place, f"{entry.value} is in the list already.", do, name)
        seen.add(entry.value)
