"""Does every setting hold a value that the server takes, and is every key one that it knows?"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Sequence

from roundgate.core import values
from roundgate.core.advice import advice_for
from roundgate.core.checks.context import CheckContext
from roundgate.core.findings import Finding, FindingCode
from roundgate.core.formats.places import key_of
from roundgate.core.formats.protocol import Document, EditRefused, Entry
from roundgate.core.nearest import nearest
from roundgate.core.next_step import Advice
from roundgate.core.records.sets import homes_in
from roundgate.core.rulebook.expansion import keys_in
from roundgate.core.rulebook.model import Setting
from roundgate.core.typed import TREES
from roundgate.core.values import ValueProblem

CODES = (
    FindingCode(
        "value-range",
        "error",
        "A number outside its range",
        "Most servers do not complain: they silently use the nearest bound or the default.",
        "boat.slots=40",
        "boat.slots=32",
    ),
    FindingCode(
        "value-step",
        "error",
        "A number between two steps",
        "The server rounds it or ignores it.",
        "tick.rate=33",
        "tick.rate=30",
    ),
    FindingCode(
        "value-kind",
        "error",
        "A value of the wrong kind",
        "The server cannot read it and silently uses its default.",
        "boat.slots=many",
        "boat.slots=24",
    ),
    FindingCode(
        "value-spelling",
        "error",
        "Yes or no, in a spelling that does not count",
        "The server knows one spelling only. Any other is ignored, and the default is used.",
        "gusts=yes",
        "gusts=true",
    ),
    FindingCode(
        "value-choice",
        "error",
        "A word that is not among the choices",
        "The server uses its default instead.",
        "tide.mode=sprng",
        "tide.mode=spring",
    ),
    FindingCode("value-pattern", "error", "A text of the wrong form", "It must look as the setting's example does."),
    FindingCode("value-length", "error", "A text that is too long or too short", "The server cuts it, or ignores it."),
    FindingCode(
        "value-blocked",
        "error",
        "A blocked word inside a text",
        "It counts even inside a longer word. The server runs, and the public list hides it.",
        "server.name=Saltmarsh Privateers",
        "server.name=Saltmarsh Racers",
    ),
    FindingCode(
        "value-control",
        "error",
        "A control character or a line break in a value",
        "It would end the line, or be dropped.",
    ),
    FindingCode(
        "value-entry",
        "error",
        "An invalid entry in a value",
        "One value holds several entries: one of them is empty, there twice, or holds the separator.",
        "mods=lanterns,,fog",
        "mods=lanterns,fog",
    ),
    FindingCode(
        "value-affix",
        "error",
        "A value without what the file writes around it",
        "The file holds more than the value, such as a file name with its ending. The server does not add it.",
        "map=first-tide",
        "map=first-tide.wld",
    ),
    FindingCode(
        "value-unit",
        "error",
        "A value that the file's unit cannot hold",
        "The file holds whole minutes, say, and 90s is one and a half.",
    ),
    FindingCode(
        "value-quoted",
        "error",
        "A text where the file wants a number, or true or false",
        "In quotes it is a text, and the server does not read it as what it looks like.",
        '"slots": "24"',
        '"slots": 24',
    ),
    FindingCode(
        "keys-undescribed",
        "note",
        "Keys that the rulebook does not describe",
        "They may well be right: no rulebook describes everything, and mods bring keys of their own.",
    ),
    FindingCode(
        "key-unknown",
        "warning",
        "A key that the rulebook does not know",
        "Often a misspelt one: the server ignores it and uses the default of the right one.",
        "boat.slot=24",
        "boat.slots=24",
    ),
)


def check_values(context: CheckContext) -> Iterator[Finding]:
    """Check every setting that the files hold."""
    for name, spec in context.book.setting.items():
        entry = context.files.entry(name)
        if entry is None:
            continue
        try:
            values.read(entry.value, spec)
        except ValueProblem as problem:
            yield _finding(context, name, spec, entry, problem)
        else:
            yield from _quoted_value(context, name, spec, entry)


def _quoted_value(context: CheckContext, name: str, spec: Setting, entry: Entry) -> Iterator[Finding]:
    """Find a number or a true or false that is written as a text, in a file that knows the difference."""
    path = context.files.path_of(spec)
    kind = values.document_kind(spec)
    if kind == "text" or entry.kind != "text" or context.files.format_name(path) not in TREES:
        return
    if context.files.format_name(path) == "xml":
        return
    what = "true or false" if kind == "bool" else "a number"
    cause = f"It is in quotes, so it is a text, and the server wants {what} here."
    do = context.command("set", f"{path}:{spec.key}={entry.value}", options=("--kind", kind))
    yield context.finding("value-quoted", "error", context.entry_place(path, entry), cause, do, name)


def _finding(context: CheckContext, name: str, spec: Setting, entry: Entry, problem: ValueProblem) -> Finding:
    path = context.files.path_of(spec)
    advised = advice_for(name, spec, context.files.names, entry.value) if problem.code == "value-range" else ""
    advice = f" {advised}" if advised else ""
    if values.is_hidden(spec):
        do = context.command("set", name)
    else:
        meant = values.sure_meaning(problem.meant, spec)
        meant = meant or ("" if spec.default is None else values.plain_text(spec.default, spec))
        do = context.command("set", f"{name}={meant}") if meant else context.command("explain", name)
    return context.finding(problem.code, "error", context.entry_place(path, entry), problem.cause + advice, do, name)


def check_keys(context: CheckContext, spoiled: Collection[tuple[str, int]]) -> Iterator[Finding]:
    """Find keys that the rulebook does not know, in files that it does know.

    ``spoiled`` are files and lines on which a mistake is known that makes their keys unknown.
    """
    for file_name, file in context.book.file.items():
        known = keys_in(context.book, file_name)
        document = context.files.document(file.path) if known else None  # a format is loaded where it is needed
        if document is not None:
            lines = {line for path, line in spoiled if path == file.path}
            yield from _unknown_keys(context, file.path, document, known, lines)


def _unknown_keys(
    context: CheckContext, path: str, document: Document, known: set[str], spoiled: Collection[int]
) -> Iterator[Finding]:
    """Warn of keys that look like a misspelling of a known one that is not in the file; count the others."""
    entries = [(entry, key_of(entry.path)) for entry in document.entries()]
    places = {document.resolve(key) for key in known}
    present = {key for _, key in entries}
    others: list[Entry] = []
    sections: set[str] = set()
    homes = homes_in(context.book, path)
    allowed = [file.others for file in context.book.file.values() if file.path == path]
    for entry, key in entries:
        last = entry.path[-1]
        if not isinstance(last, str) or entry.path in places or key in known or last in known:
            continue
        if any(entry.path[: len(home)] == home for home in homes):
            continue  # the checks of records look at it
        if spoiled and document.text.place(entry.key_start)[0] in spoiled:
            continue
        near = nearest(key, known, least=80)
        if near and _sign_of(near) != _sign_of(key):
            near = ""  # a flag of a start script is not a variable
        if not near or near in present or any(key in choice for choice in allowed if not isinstance(choice, str)):
            others += [] if any(_is_allowed(key, choice) for choice in allowed) else [entry]
            continue
        right = document.resolve(near)
        section, right_section = key_of(entry.path[:-1]), key_of(right[:-1])
        if section != right_section:
            if section not in sections:
                sections.add(section)
                yield _unknown_section(context, path, entry, section or "no section", right_section)
            continue
        place = context.entry_place(path, entry, key=True)
        cause = f"The rulebook does not know '{key}', so the server is likely to ignore it. Did you mean {near}?"
        do: Advice = context.command("rename", f"{path}:{key}", str(right[-1]))
        if not _can_be_renamed(document, entry, str(right[-1])):
            do = f"Write {right[-1]} in its place."
        yield context.finding("key-unknown", "warning", place, cause, do)
    if others:
        place = context.entry_place(path, others[0], key=True)
        what = f"{len(others)} keys are" if len(others) > 1 else "1 key is"
        what = f"{what} not described by the rulebook"
        cause = f"{what}, and so not checked; the first is '{others[0].path[-1]}'."
        yield context.finding(
            "keys-undescribed", "note", place, cause, context.command("show", options=("--all", "--file", path))
        )


def _sign_of(key: str) -> str:
    """Return the sign that a key begins with, if it has one."""
    return "" if key[:1].isalnum() else key[:1]


def _unknown_section(context: CheckContext, path: str, entry: Entry, section: str, right: str) -> Finding:
    place = context.entry_place(path, entry, key=True)
    where = f"in {right}" if right else "above all sections"
    cause = f"The rulebook expects {entry.path[-1]} {where}, and it is in {section}, where the server does not look."
    do = f"Call {section} {right}." if right else f"Move it {where}."
    return context.finding("key-unknown", "warning", place, cause, do)


def _can_be_renamed(document: Document, entry: Entry, name: str) -> bool:
    try:
        document.rename(entry.path, name)
    except EditRefused:
        return False
    return True


def _is_allowed(key: str, others: str | Sequence[str]) -> bool:
    """Return whether a rulebook allows a key that it does not describe."""
    if isinstance(others, str):
        return others == "allowed"
    return any(re.fullmatch(re.escape(pattern).replace(r"\*", ".*"), key) for pattern in others)
