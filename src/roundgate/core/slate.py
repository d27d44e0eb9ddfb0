"""The changes that wait for the next round, kept as operations and replayed on whatever is on disk by then.

A server may rewrite its files when it stops. So the slate holds "set race.slots to 24", never a copy of a file.
"""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct
from msgspec.structs import replace

from roundgate.core.files import ServerFiles
from roundgate.core.findings import Finding, Place
from roundgate.core.formats import FORMATS
from roundgate.core.formats.protocol import EditRefused
from roundgate.core.operations import Change, CopyFile, Operation
from roundgate.core.operations.base import Target
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
    now, changes, refused = files, [], []
    for number, operation in enumerate(operations):
        try:
            change, now = _make(operation, now)
            others = any(one.shifts(operation.file) for one in operations[:number])
            changes.append(replace(change, after_others=True) if others else change)
        except (EditRefused, NotEncodable) as error:
            place, name = Place(operation.file), operation.shown_name
            do = f"roundgate discard {server} {name}".replace("  ", " ")
            refused.append(Finding("slate-stuck", "error", place, f"{name}: {error}.", do, server))
    return Outcome(files, now, tuple(changes), tuple(refused))


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
    """Give what a new file begins with: the lines that the rulebook wants, or what its format cannot do without."""
    header = next((file.header for file in files.book.file.values() if file.path == path), ())
    lines = "".join(f"{line}\n" for line in header)
    return lines.encode() + _NEW_FILES.get(format_name, b"")


_NEW_FILES = {"json": b"{\n}\n"}
"""What a new file begins with, where an empty one would be a mistake."""
