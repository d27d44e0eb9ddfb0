"""Records as tables: what ``show SET`` and ``show SET/RECORD`` print."""

from __future__ import annotations

from typing import TYPE_CHECKING

from roundgate.api.record_changes import RecordChanges, book_for, is_address, set_named
from roundgate.api.server import OpenServer
from roundgate.cli.screen.output import echo, echo_table, plain, styled
from roundgate.core.files import ServerFiles, format_value
from roundgate.core.records.model import Record
from roundgate.core.records.sets import columns, records_in
from roundgate.core.rulebook.model import RecordSet, Rulebook
from roundgate.core.secrets import is_secret_field

if TYPE_CHECKING:
    from roundgate.cli.screen.outputs import RecordsOutput


def names_records(server: OpenServer, word: str) -> bool:
    """Tell whether a word of ``show`` means a set of records, or one of them."""
    book, word = book_for(server.workspace, word)
    return is_address(book, word) or (word.lower() in {name.lower() for name in book.records})


def _cells(record: Record, names: list[str], book: Rulebook, name_of_set: str) -> list[str]:
    cells, spec = [], book.records[name_of_set]
    for name in names:
        held, described = record.fields.get(name), spec.field.get(name)
        if held is None:
            cells.append("")
        elif is_secret_field(book, name_of_set, name):
            cells.append("(set, hidden)")
        elif described is not None and not held.is_list and not held.is_nested and held.values:
            cells.append(format_value(held.values[0], described))
        else:
            cells.append(held.shown)
    return cells


def _of(files: ServerFiles, path: str, spec: RecordSet) -> list[Record]:
    return records_in(files.document(path), spec)


def _differences(before: Record | None, after: Record | None, book: Rulebook, name_of_set: str) -> str:
    """Say what the slate changes of a record."""
    if before is None:
        return "on the slate: new"
    if after is None:
        return "on the slate: taken out"
    names = dict.fromkeys((*before.fields, *after.fields))
    changed = [
        f"{name} hidden" if is_secret_field(book, name_of_set, name) else f"{name} {old} -> {new}"
        for name in names
        if (old := _words(before, name)) != (new := _words(after, name))
    ]
    return f"on the slate: {', '.join(changed)}" if changed else ""


def _words(record: Record, name: str) -> str:
    held = record.fields.get(name)
    return held.shown if held is not None else "-"


def echo_records(server: OpenServer, word: str) -> None:
    """Print a set of records as a table, or one record field by field. Raises UnknownName."""
    book, word = book_for(server.workspace, word)
    name = set_named(book, word)
    spec = book.records[name]
    outcome = server.workspace.outcome(server.workspace.operations)
    path = book.file[spec.file].path
    if is_address(book, word):
        for record in RecordChanges(server.workspace).address(word, with_field=False).records:
            echo(f"{styled(server.name, 'bold')}  {name}/{record.key}  {plain(record.title(spec))}")
            names = columns([record], spec)
            echo_table(("field", "value"), list(zip(names, _cells(record, names, book, name), strict=True)))
        return
    before = {record.key: record for record in _of(outcome.before, path, spec)}
    after = {record.key: record for record in _of(outcome.after, path, spec)}
    records = {**before, **after}
    names = columns(list(records.values()), spec)
    lead = [] if spec.key in names else ["name"]
    rows = []
    for key, record in records.items():
        known = [key] if lead else []
        rows.append(
            [
                *known,
                *_cells(record, names, book, name),
                _differences(before.get(key), after.get(key), book, name),
            ]
        )
    echo(f"{styled(server.name, 'bold')}  {name}: {spec.about or 'records'}  ({path})")
    echo_table((*lead, *names, ""), rows)
    echo(f"{len(after)} of them." if rows else f"There are none. One more: roundgate add {server.name} {name} ...")
    echo()


def records_output(server: OpenServer, word: str) -> RecordsOutput:
    """Give a set of records, or one record, for JSON. Raises UnknownName."""
    from roundgate.cli.screen.outputs import RecordOutput, RecordsOutput

    book, word = book_for(server.workspace, word)
    name = set_named(book, word)
    spec = book.records[name]
    path = book.file[spec.file].path
    records = _of(server.workspace.read().files, path, spec)
    if is_address(book, word):
        records = list(RecordChanges(server.workspace).address(word, with_field=False).records)
    rows = []
    for record in records:
        names = columns([record], spec)
        rows.append(
            RecordOutput(
                record.key, record.title(spec), dict(zip(names, _cells(record, names, book, name), strict=True))
            )
        )
    return RecordsOutput(name, path, rows)


def echo_records_csv(server: OpenServer, words: list[str]) -> None:
    """Print sets of records as CSV: the key, then the fields. Raises UnknownName."""
    import csv
    import io

    for word in words:
        found = records_output(server, word)
        names = list(dict.fromkeys(name for row in found.records for name in row.fields))
        into = io.StringIO()
        writer = csv.writer(into, lineterminator="\n")
        writer.writerow(["key", *names])
        writer.writerows([row.key, *(row.fields.get(name, "") for name in names)] for row in found.records)
        echo(into.getvalue().rstrip("\n"))
