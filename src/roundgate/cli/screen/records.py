"""Records as tables: what ``show SET`` and ``show SET/RECORD`` print."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from roundgate.api.record_addresses import book_for, is_address, set_named
from roundgate.api.record_changes import RecordChanges
from roundgate.cli.screen.output import echo, echo_csv, echo_table, plain, styled
from roundgate.core.files import ServerFiles, format_value
from roundgate.core.next_step import typed_command
from roundgate.core.records.sets import columns, file_below, records_below, records_in
from roundgate.core.secrets import is_secret_field
from roundgate.host.errors import Trouble

if TYPE_CHECKING:
    from roundgate.api.server import OpenServer
    from roundgate.cli.screen.outputs import RecordsOutput
    from roundgate.core.records.model import Record
    from roundgate.core.rulebook.model import RecordSet, Rulebook


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


class _Layers(NamedTuple):
    """A record as one of the layers has it, and how the others differ from the file."""

    record: Record
    slate: str
    running: str
    counts: bool
    """Whether it is there once the slate is in force."""
    below: str = ""
    """The file that has it, where that is the one which the set's own overrides."""


def _layers(server: OpenServer, book: Rulebook, name: str) -> list[_Layers]:
    """Return the records of a set on disk, on the slate, and as the running server has them."""
    spec = book.records[name]
    path = book.file[spec.file].path
    outcome = server.workspace.outcome(server.workspace.operations, [path])
    before = {record.key: record for record in _of(outcome.before, path, spec)}
    is_same = outcome.after.document(path) is outcome.before.document(path)
    after = before if is_same else {record.key: record for record in _of(outcome.after, path, spec)}
    running = _running(server, path, spec)
    found = []
    for key, record in {**before, **after, **(running or {})}.items():
        disk = before.get(key)
        waiting = "" if is_same else _other(disk, after.get(key), book, name, ("new", "taken out"))
        told = ("still there", "not there")
        otherwise = "" if running is None else _other(disk, running.get(key), book, name, told)
        found.append(_Layers(record, waiting, otherwise, key in after))
    lower = file_below(book, spec)
    below = records_below(book, spec, outcome.after.document) if lower else []
    return found + [_Layers(layer, "", "", True, lower) for layer in below if layer.key not in before]


def _other(disk: Record | None, other: Record | None, book: Rulebook, name_of_set: str, labels: tuple[str, str]) -> str:
    """Describe how a layer differs from the file; ``labels`` for what only one of the two has."""
    if disk is None or other is None:
        return "" if disk is other else labels[0] if disk is None else labels[1]
    names = dict.fromkeys((*disk.fields, *other.fields))
    changed = [
        f"{name} hidden" if is_secret_field(book, name_of_set, name) else f"{name} {old} -> {new}"
        for name in names
        if (old := _shown_value(disk, name)) != (new := _shown_value(other, name))
    ]
    return ", ".join(changed)


def _running(server: OpenServer, path: str, spec: RecordSet) -> dict[str, Record] | None:
    """Return the records that the running server has read; None where it is down, or nobody can tell."""
    try:
        started = server.known(server.state(), also=[path]).started
    except Trouble:
        return None
    if started is None or path not in started.texts:
        return None
    return {record.key: record for record in _of(started, path, spec)}


def _shown_value(record: Record, name: str) -> str:
    held = record.fields.get(name)
    return held.shown if held is not None else "-"


def echo_records(server: OpenServer, word: str) -> None:
    """Print a set of records as a table, or one record field by field. Raises UnknownName."""
    book, word = book_for(server.workspace, word)
    name = set_named(book, word)
    spec = book.records[name]
    path = book.file[spec.file].path
    if is_address(book, word):
        changes = RecordChanges(server.workspace)
        below = {record.key for record in changes.below(name)}
        for record in changes.named(word):
            where = f"  (in {file_below(book, spec)} alone)" if record.key in below else ""
            echo(f"{styled(server.name, 'bold')}  {name}/{record.key}  {plain(record.title(spec))}{where}")
            names = columns([record], spec)
            echo_table(("field", "value"), list(zip(names, _cells(record, names, book, name), strict=True)))
        return
    layers = _layers(server, book, name)
    names = columns([layer.record for layer in layers], spec)
    lead = [] if spec.key in names else ["key" if "name" in names else "name"]
    rows = [
        [
            *([layer.record.key] if lead else []),
            *_cells(layer.record, names, book, name),
            "; ".join(
                line
                for line in (
                    f"on the slate: {layer.slate}" if layer.slate else "",
                    f"running: {layer.running}" if layer.running else "",
                    f"in {layer.below} alone" if layer.below else "",
                )
                if line
            ),
        ]
        for layer in layers
    ]
    echo(f"{styled(server.name, 'bold')}  {name}: {spec.about or 'records'}  ({path})")
    echo_table((*lead, *names, ""), rows)
    count = sum(1 for layer in layers if layer.counts)
    number = f"{count} record{'' if count == 1 else 's'}."
    echo(number if rows else f"None yet. To add one: {typed_command('add', server.name, name, '<record>')}")
    echo()


def records_output(server: OpenServer, word: str) -> RecordsOutput:
    """Return a set of records, or one record, for JSON. Raises UnknownName."""
    from roundgate.cli.screen.outputs import RecordOutput, RecordsOutput

    book, word = book_for(server.workspace, word)
    name = set_named(book, word)
    spec = book.records[name]
    path = book.file[spec.file].path
    wanted = None
    if is_address(book, word):
        wanted = {record.key for record in RecordChanges(server.workspace).named(word)}
    rows = []
    for record, slate, running, _, below in _layers(server, book, name):
        if wanted is not None and record.key not in wanted:
            continue
        names = columns([record], spec)
        rows.append(
            RecordOutput(
                record.key,
                record.title(spec),
                dict(zip(names, _cells(record, names, book, name), strict=True)),
                slate,
                running,
                below or path,
            )
        )
    return RecordsOutput(name, path, rows)


def echo_records_csv(server: OpenServer, arguments: list[str]) -> None:
    """Print sets of records as CSV: the key, then the fields. Raises UnknownName."""
    for word in arguments:
        found = records_output(server, word)
        names = list(dict.fromkeys(name for row in found.records for name in row.fields))
        rows = [[row.key, *(row.fields.get(name, "") for name in names)] for row in found.records]
        echo_csv([["key", *names], *rows])
