"""What a running server is told, so that a change of records is in force without a restart."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping

from msgspec import Struct

from roundgate.core.console_lines import LineRefused, fill
from roundgate.core.files import ServerFiles
from roundgate.core.operations.base import Operation
from roundgate.core.operations.records import AddRecord, RecordOperation, RemoveRecord, SetField
from roundgate.core.records.model import IN_BRACES
from roundgate.core.records.sets import records_in
from roundgate.core.rulebook.model import RosterLive, Rulebook


class LiveChange(Struct, frozen=True):
    """What a console is told for one change: the command, and the question whose answer shows the change, if any."""

    name: str
    """The address of what changes."""
    command: str = ""
    """Empty where a running server cannot be told."""
    reads_file: bool = False
    """Whether the command lets the server read its file again, so that it is one for many changes."""
    ask: str = ""
    shows: str = ""
    """A pattern: the answer shows that the record is there, as it is to be, where it matches."""
    is_there: bool = True
    """Whether the record is to be there afterwards."""
    refused: str = ""
    """Why the console cannot be told: what a field holds could be taken for a command."""


def can_be_live(operation: Operation, book: Rulebook) -> bool:
    """Return whether a running server can be told of an operation on records."""
    if not isinstance(operation, RecordOperation) or operation.set not in book.records:
        return False
    if book.records[operation.set].reload:
        return True
    live = _live_of(operation, book)
    return live is not None and bool(_command(operation, live, back=False))


def _live_of(operation: RecordOperation, book: Rulebook) -> RosterLive | None:
    return next((roster.live for roster in book.roster.values() if roster.records == operation.set), None)


def _command(operation: RecordOperation, live: RosterLive, *, back: bool) -> str:
    if isinstance(operation, AddRecord):
        return live.remove if back else live.add
    if isinstance(operation, RemoveRecord):
        return live.add if back else live.remove
    return ""


def told_for(operations: Iterable[Operation], files: ServerFiles, *, back: bool = False) -> list[LiveChange]:
    """Return what the console is told of operations on records, and asked. ``files`` are those that it must match.

    ``back``: they are taken back, and ``files`` are as they were before them.
    """
    book, found = files.book, []
    for operation in operations:
        if not isinstance(operation, RecordOperation) or operation.set not in book.records:
            continue
        live, values = _live_of(operation, book), _values(operation, files)
        command = _command(operation, live, back=back) if live is not None else ""
        reload = book.records[operation.set].reload
        is_gone = isinstance(operation, AddRecord) if back else isinstance(operation, RemoveRecord)
        is_asked = live is not None and bool(live.ask) and isinstance(operation, AddRecord | RemoveRecord | SetField)
        try:
            line = fill(command, values, book.server).rstrip() or reload
            ask = fill(live.ask, values, book.server).rstrip() if live is not None and is_asked else ""
        except LineRefused as error:
            found.append(LiveChange(operation.shown_name, refused=str(error)))
            continue
        key = book.records[operation.set].key
        known = {name: values[name] for name in ("id", key) if name in values} if is_gone else values
        found.append(
            LiveChange(
                operation.shown_name,
                line,
                reads_file=not command and bool(reload),
                ask=ask,
                shows=_pattern(live.shows, known) if live is not None and is_asked else "",
                is_there=not is_gone,
            )
        )
    return found


def commands_of(told: Iterable[LiveChange], *, reads_file: bool | None = None) -> list[str]:
    """Return the commands, each once; where ``reads_file`` is given, only those that do, or do not."""
    chosen = (command.command for command in told if command.command and reads_file in (None, command.reads_file))
    return list(dict.fromkeys(chosen))


def _pattern(shows: str, values: Mapping[str, str]) -> str:
    """Return the pattern for the fields that are known; of the others, anything fits."""
    return IN_BRACES.sub(lambda name: re.escape(values[name[1]]) if name[1] in values else ".*?", shows)


def _values(operation: RecordOperation, files: ServerFiles) -> Mapping[str, str]:
    """Return fields of a record as the files have it; of one that is not in them, its name alone, as its key too."""
    spec = files.book.records[operation.set]
    document = files.document(files.book.file[spec.file].path)
    record = next((record for record in records_in(document, spec) if record.key == operation.record), None)
    fields = {name: record.value(name) or "" for name in record.fields} if record is not None else {}
    key = {} if spec.key == "*" else {spec.key: operation.record}
    return {**dict.fromkeys(spec.field, ""), **fields, **key, "id": operation.record}
