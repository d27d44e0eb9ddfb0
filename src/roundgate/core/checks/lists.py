"""Are the lists long enough, free of doubles, and is every entry of the right form?"""

from __future__ import annotations

from collections.abc import Iterator

from roundgate.core.checks.context import CheckContext
from roundgate.core.findings import Finding, FindingCode, Place
from roundgate.core.nearest import nearest
from roundgate.core.patterns import fits
from roundgate.core.rulebook.model import ItemKind, ListOf

CODES = (
    FindingCode(
        "list-short",
        "error",
        "A list with too few entries",
        "An empty map rotation, for one, keeps the server from starting. "
        "Add the new entry first, then remove the old one.",
    ),
    FindingCode("list-long", "error", "A list with too many entries", "The server reads only the first ones."),
    FindingCode("item-twice", "warning", "The same entry twice in a list", "Each entry should be there once."),
    FindingCode(
        "item-form",
        "error",
        "A list entry of the wrong form",
        "It is not one of the built-in names, and does not look like anything else that may be there. Case counts.",
        "harbour mile",
        "Harbour Mile",
    ),
)


def item_problem(item: str, kind: ItemKind) -> tuple[str, str] | None:
    """Return cause and likely meaning where an entry will not do, or None where it will."""
    if item in kind.catalogue or (kind.pattern and fits(kind.pattern, item)):
        return None
    if not kind.catalogue and not kind.pattern:
        return None
    near = nearest(item, kind.catalogue, least=70)
    hint = f" Did you mean {near}?" if near else f" An example: {kind.example}." if kind.example else ""
    return f"'{item}' is not known.{hint}", near or kind.example


def check_lists(context: CheckContext) -> Iterator[Finding]:
    """Check every list of the rulebook whose file exists."""
    for name, spec in context.book.list.items():
        path = context.book.file[spec.file].path
        if context.files.document(path) is not None:
            yield from _count(context, name, spec, path)
            yield from _items(context, name, spec, path)


def _count(context: CheckContext, name: str, spec: ListOf, path: str) -> Iterator[Finding]:
    count = len(context.files.items(name))
    if count < spec.least:
        have = "it is empty" if count == 0 else f"it has {count}"
        cause = (
            f"The list needs at least {spec.least} entries; {have}."
            if spec.least > 1
            else f"The list needs at least one entry; {have}."
        )
        yield context.finding("list-short", "error", Place(path), cause, context.command("add", name, "<entry>"), name)
    if spec.most is not None and count > spec.most:
        cause = f"The list may have {spec.most} entries; it has {count}."
        yield context.finding("list-long", "error", Place(path), cause, f"Remove {count - spec.most} of them.", name)


def _items(context: CheckContext, name: str, spec: ListOf, path: str) -> Iterator[Finding]:
    seen: set[str] = set()
    for entry in context.files.list_entries(name):
        kind = context.book.kind[spec.item]
        wrong = item_problem(entry.value, kind)
        if wrong:
            place = context.entry_place(path, entry)
            is_meant = wrong[1] and wrong[1] != kind.example  # nobody means the example
            do = f"Write {wrong[1]} instead." if is_meant else "Fix or remove the entry."
            yield context.finding("item-form", "error", place, wrong[0], do, name)
        if spec.unique and entry.value in seen:
            place = context.entry_place(path, entry)
            do = "Delete one of the two."
            yield context.finding("item-twice", "warning", place, f"{entry.value} is in the list already.", do, name)
        seen.add(entry.value)
