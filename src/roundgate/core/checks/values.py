"""Does every setting hold a value that the server takes, and is every key one that it knows?"""

from __future__ import annotations

from collections.abc import Iterator

from roundgate.core import values
from roundgate.core.checks.context import Subject
from roundgate.core.findings import Code, Finding
from roundgate.core.formats.protocol import Entry
from roundgate.core.nearest import nearest
from roundgate.core.rulebook.model import Setting
from roundgate.core.values import ValueProblem

CODES = (
    Code(
        "value-range",
        "error",
        "A number outside its range",
        "Most servers do not complain: they take the nearest bound, or the default, without a word.",
        "boat.slots=40",
        "boat.slots=32",
    ),
    Code(
        "value-step",
        "error",
        "A number between two steps",
        "The server rounds it or ignores it.",
        "tick.rate=33",
        "tick.rate=30",
    ),
    Code(
        "value-kind",
        "error",
        "A value of the wrong kind",
        "The server cannot read it and silently uses its default.",
        "boat.slots=many",
        "boat.slots=24",
    ),
    Code(
        "value-spelling",
        "error",
        "Yes or no, in a spelling that does not count",
        "The server knows one spelling only. Any other is ignored, and the default is used.",
        "gusts=yes",
        "gusts=true",
    ),
    Code(
        "value-choice",
        "error",
        "A word that is not among the choices",
        "The server uses its default instead.",
        "tide.mode=sprng",
        "tide.mode=spring",
    ),
    Code("value-pattern", "error", "A text of the wrong form", "It must look as the setting's example does."),
    Code("value-length", "error", "A text that is too long or too short", "The server cuts it, or ignores it."),
    Code(
        "value-blocked",
        "error",
        "A blocked word inside a text",
        "It counts even inside a longer word. The server runs, and the public list hides it.",
        "server.name=Saltmarsh Privateers",
        "server.name=Saltmarsh Racers",
    ),
    Code(
        "value-control",
        "error",
        "A control character or a line break in a value",
        "It would end the line, or be dropped.",
    ),
    Code(
        "value-unit",
        "error",
        "A value that the file's unit cannot hold",
        "The file holds whole minutes, say, and 90s is one and a half.",
    ),
    Code(
        "key-unknown",
        "warning",
        "A key that the rulebook does not know",
        "Often a misspelt one: the server ignores it and uses the default of the right one.",
        "boat.slot=24",
        "boat.slots=24",
    ),
)


def check_values(subject: Subject) -> Iterator[Finding]:
    """Check every setting that the files hold."""
    for name, spec in subject.book.setting.items():
        entry = subject.files.entry(name)
        if entry is None:
            continue
        try:
            values.read(entry.value, spec)
        except ValueProblem as problem:
            yield _finding(subject, name, spec, entry, problem)


def _finding(subject: Subject, name: str, spec: Setting, entry: Entry, problem: ValueProblem) -> Finding:
    path = subject.files.path_of(spec)
    advice = f" {spec.advice}" if problem.code == "value-range" and spec.advice else ""
    if spec.type == "secret":
        do = subject.command("set", name)
    else:
        meant = problem.meant or (values.plain_text(spec.default, spec) if spec.default is not None else "")
        do = subject.command("set", f"{name}={meant}" if meant else f"{name}=...")
    return subject.finding(problem.code, "error", subject.entry_place(path, entry), problem.cause + advice, do, name)


def check_keys(subject: Subject) -> Iterator[Finding]:
    """Find keys that the rulebook does not know, in files that it does know."""
    for file_name, file in subject.book.file.items():
        known = {spec.key for spec in subject.book.setting.values() if spec.file == file_name}
        document = subject.files.document(file.path) if known else None  # a format is only loaded where it is needed
        if document is None:
            continue
        for entry in document.entries():
            key = entry.path[-1]
            if isinstance(key, str) and key not in known:
                near = nearest(key, known, least=75)
                hint = f" Did you mean {near}?" if near else ""
                do = f"Write {near} instead." if near else f"Delete it, or leave it if a mod of yours reads {key}."
                place = subject.entry_place(file.path, entry, key=True)
                cause = f"The rulebook does not know '{key}', so the server is likely to ignore it.{hint}"
                yield subject.finding("key-unknown", "warning", place, cause, do)
