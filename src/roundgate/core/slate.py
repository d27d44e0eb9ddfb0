"""The changes that wait for the next round, kept as operations and replayed on whatever is on disk by then.

A server may rewrite its files when it stops. So the slate holds "set race.slots to 24", never a copy of a file.
"""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct
from msgspec.structs import replace

from roundgate.core.files import ServerFiles
from roundgate.core.findings import Finding, Place
from roundgate.core.formats import FORMATS, apply_edit, problems_of
from roundgate.core.formats.protocol import Edit, EditRefused
from roundgate.core.formats.shared.joined_edits import NotJoinable, joined
from roundgate.core.next_step import typed_command
from roundgate.core.operations.base import Change, Operation, Target
from roundgate.core.operations.copies import CopyFile
from roundgate.core.text import NotEncodable, decode


class Outcome(Struct, frozen=True):
    """What a slate makes of a server's files: the files afterwards, each change, and what could not be done."""

    before: ServerFiles
    after: ServerFiles
    changes: tuple[Change, ...]
    refused: tuple[Finding, ...]

    @property
    def touched(self) -> list[str]:
        """The paths of the files that come out different, in order."""
        return sorted(path for path, text in self.after.texts.items() if self.before.texts.get(path) != text)


def replay(operations: Sequence[Operation], files: ServerFiles, server: str = "") -> Outcome:
    """Make every operation on the files, in order. What cannot be done becomes an error finding; the rest goes on."""
    now = files
    changes: list[Change] = []
    refused: list[Finding] = []
    shifting = _Shifting(operations)
    number = single_until = 0
    while number < len(operations):
        run = _run(operations, number) if number >= single_until else ()
        if run:
            made, now, by_themselves = _made_together(run, now)
            changes += [shifting.marked(change, number + at) for at, change in enumerate(made)]
            number += len(made)
            single_until = number + by_themselves
            continue
        operation = operations[number]
        try:
            change, now = _make(operation, now)
            changes.append(shifting.marked(change, number))
        # The others go on: a slate is not lost for one entry that no longer fits.
        except (EditRefused, NotEncodable) as error:
            place, name = Place(operation.file), operation.shown_name
            do = typed_command("discard", server, name)
            refused.append(Finding("slate-stuck", "error", place, f"{name}: {error}.", do, server))
        number += 1
    return Outcome(files, now, tuple(changes), tuple(refused))


class _Shifting:
    """Knows which operations may have given the names in a file another meaning."""

    def __init__(self, operations: Sequence[Operation]) -> None:
        self._operations = operations
        self._seen: dict[str, tuple[int, bool]] = {}

    def marked(self, change: Change, number: int) -> Change:
        """Mark the change of an operation that follows one which shifts its file."""
        file = change.operation.file
        begun, shifts = self._seen.get(file, (0, False))
        shifts = shifts or any(operation.shifts(file) for operation in self._operations[begun:number])
        self._seen[file] = (number, shifts)
        return replace(change, after_others=True) if shifts else change


_FEWEST_TOGETHER = 3
"""Fewer operations are made one by one."""


def _run(operations: Sequence[Operation], start: int) -> Sequence[Operation]:
    """Return the operations from ``start`` on that may be made at once: in one file, each about something else."""
    first, names, built_on, end = operations[start], set[str](), set[str](), start
    while end < len(operations):
        operation = operations[end]
        if not operation.joins or operation.file != first.file or operation.shown_name in names:
            break
        if operation.built_on in names or operation.shown_name in built_on:
            break
        names.add(operation.shown_name)
        built_on.add(operation.built_on)
        end += 1
    return operations[start:end] if end - start >= _FEWEST_TOGETHER else ()


def _made_together(operations: Sequence[Operation], files: ServerFiles) -> tuple[list[Change], ServerFiles, int]:
    """Make operations by one edit, confirmed as a whole; nothing is made where they must go one by one.

    Where one of them cannot be made with the others, those before it are. The number says how many go by themselves.
    """
    path = operations[0].file
    kind, document = files.format(path), files.document(path)
    if kind is None or document is None:
        return [], files, len(operations)
    edits: list[Edit] = []
    target = Target(kind, document, files.book.setting, files.book.records, edits)
    changes: list[Change] = []
    try:
        for operation in operations:
            planned = len(edits)
            try:
                changes.append(operation.make(target)[0])
            except EditRefused:  # those before it can be made; what it needs may be what they bring
                del edits[planned:]
                break
        if not changes:
            return [], files, 1
        changed = apply_edit(kind, document, joined(document.plain(), edits)) if edits else document
        if changed is not document and len(problems_of(changed)) > len(problems_of(document)):
            return (
                [],
                files,
                len(operations),
            )  # each began what all were to be in: a reader may take the same name twice
    except (EditRefused, NotEncodable, NotJoinable):
        return [], files, len(operations)
    after = files if changed is document else files.with_document(path, changed)
    return changes, after, 1


def _make(operation: Operation, files: ServerFiles) -> tuple[Change, ServerFiles]:
    kind = files.format(operation.file)
    if kind is None and isinstance(operation, CopyFile):
        kind = FORMATS["lines"]  # it is only copied, whatever it holds
    if kind is None:
        raise EditRefused(f"the format of {operation.file} is not known")
    document = files.document(operation.file)
    if document is None:
        begun = b"" if isinstance(operation, CopyFile) else _beginning(operation.file, kind.name, files)
        document = kind.read(decode(begun), files.dialect(operation.file))
    change, changed = operation.make(Target(kind, document, files.book.setting, files.book.records))
    return change, files if changed is document else files.with_document(operation.file, changed)


def _beginning(path: str, format_name: str, files: ServerFiles) -> bytes:
    """Return what a new file begins with: the lines that the rulebook wants, or what its format cannot do without."""
    header = next((file.header for file in files.book.file.values() if file.path == path), ())
    lines = "".join(f"{line}\n" for line in header)
    return lines.encode() + _NEW_FILES.get(format_name, b"")


_NEW_FILES = {"json": b"{\n}\n"}
"""What a new file begins with, where an empty one would be a mistake."""
