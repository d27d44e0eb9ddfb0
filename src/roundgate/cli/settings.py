"""The rows of ``show``: settings with their layers, those that were asked for."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from contextlib import suppress
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from roundgate.api.lookup import list_of, setting_of
from roundgate.api.server import OpenServer
from roundgate.cli.screen.differences import beside_slate, describe_difference
from roundgate.cli.screen.output import echo, echo_table, plain, styled
from roundgate.core import values
from roundgate.core.advice import overriding
from roundgate.core.facts import absence_of
from roundgate.core.files import ServerFiles, describe_value, describe_values, format_value
from roundgate.core.formats import format_name
from roundgate.core.formats.places import find_key, key_of
from roundgate.core.formats.protocol import Document, Entry, Path
from roundgate.core.layers import DifferenceCode, Known, LayerDifference, layers_of
from roundgate.core.rulebook.expansion import keys_in
from roundgate.core.rulebook.model import Setting
from roundgate.core.secrets import HIDDEN, hidden_paths, is_secret
from roundgate.core.values import ValueProblem
from roundgate.host.drivers import driver_of
from roundgate.host.errors import ConsoleCut, NoConsole
from roundgate.host.servers import Server

if TYPE_CHECKING:
    from roundgate.cli.screen.outputs import SettingOutput


class ShowFilter(Struct, frozen=True):
    """Which settings are asked for."""

    names: list[str]
    everything: bool
    advanced: bool
    file: str
    search: str
    changed: bool = False
    """Only settings whose value is not the default, and lists and keys not at all."""


class Row(Struct, frozen=True):
    """One setting, list or unknown key as ``show`` shows it; the values are as shown to people."""

    name: str
    file: str
    key: str
    disk: str
    slate: str
    running: str
    default: str
    differences: tuple[LayerDifference, ...]
    notes: tuple[str, ...] = ()
    """What to know when reading the value: that it does not count, or that its scale is inverted."""

    def output(self) -> SettingOutput:
        """Return it for JSON."""
        from roundgate.cli.screen.outputs import SettingOutput, difference_output

        differences = [difference_output(difference) for difference in self.differences]
        return SettingOutput(
            self.name,
            self.file,
            self.key,
            self.disk,
            self.slate,
            self.running,
            self.default,
            differences,
            list(self.notes),
        )


def chosen_rows(opened: OpenServer, chosen: ShowFilter, *, ask: bool) -> list[Row]:
    """Return the rows that were asked for. Raises UnknownName."""
    server, state = opened.server, opened.state()
    files = [word for word in chosen.names if _is_file(server, word)]
    also = [path for name in chosen.names if (path := name.partition(":")[0]) != name]
    also += [*files, chosen.file] if _is_file(server, chosen.file) else files
    asked = ask_running(server, opened.workspace.read().files) if ask and state.runs else None
    known = opened.known(state, asked, also)
    rows = [
        row
        for word in chosen.names
        for row in (
            _rows(server, known, replace(chosen, everything=True, file=word))
            if word in files
            else [_named_row(server, known, name) for name in _members(server, word)]
        )
    ]
    return rows if chosen.names else _rows(server, known, chosen)


def _is_file(server: Server, word: str) -> bool:
    """Return whether a word names a file of the server, known to its rulebook or not."""
    if not word or ":" in word:
        return False
    return word in server.paths() or (server.folder / word).is_file()


def _rows(server: Server, known: Known, chosen: ShowFilter) -> list[Row]:
    """Return the rows of a server, or of one of its files."""
    rows = [
        _row(name, spec, known)
        for name, spec in server.book.setting.items()
        if _wanted(server, name, spec, chosen)
        and not (chosen.changed and _is_default(name, known))
        and (chosen.everything or known.disk.stored(name) is not None or not absence_of(spec, known.disk.facts))
    ]
    if chosen.changed:
        return rows
    if not chosen.advanced and not chosen.search:
        rows += [_list_row(server, known, name) for name in server.book.list if _file_fits(server, name, chosen)]
    if chosen.everything or not server.book.setting:
        rows += _unknown_rows(server, known, chosen)
    if not chosen.advanced and not chosen.search and not chosen.everything:
        rows += [_gone_row(name, number) for name, number in (known.drifted or {}).items() if ":" in name]
    return rows


def _members(server: Server, word: str) -> list[str]:
    """Return settings of a group, ``race`` for ``race.slots`` and its like, or that begin with it; else the word."""
    from roundgate.api.lookup import find_name
    from roundgate.host.errors import WrongUsage

    with suppress(WrongUsage):  # where it means several, all of them are shown
        if ":" in word or find_name(server.book, word):
            return [word]
    lowered = word.lower()
    starts = tuple(f"{lowered}{sign}" for sign in ".[@")
    members = [name for name in server.book.setting if name.lower().startswith(starts)]
    return members or [name for name in server.book.setting if name.lower().startswith(lowered)] or [word]


def _gone_row(name: str, number: int) -> Row:
    file, _, key = name.partition(":")
    return Row(name, file, key, "-", "", "", "", (LayerDifference(DifferenceCode.GONE_FROM_FILE, round=number),))


def _is_default(name: str, known: Known) -> bool:
    """Return whether a setting has its default, on disk and as the slate would leave it."""
    spec = known.disk.book.setting[name]
    for files in (known.disk, known.slate):
        stored = files.stored(name)
        try:
            if stored is not None and values.read(stored, spec) != values.default_of(spec):
                return False
        except ValueProblem:  # it is something else, and wrong
            return False
    return True


def _wanted(server: Server, name: str, spec: Setting, chosen: ShowFilter) -> bool:
    if chosen.file and server.book.file[spec.file].path != chosen.file:
        return False
    if chosen.search:
        choices = " ".join(f"{choice} {about}" for choice, about in spec.choices.items())
        return chosen.search.lower() in f"{name} {spec.key} {spec.about} {spec.advice} {choices}".lower()
    return chosen.everything or (spec.tier == "advanced") == chosen.advanced


def _file_fits(server: Server, name: str, chosen: ShowFilter) -> bool:
    return not chosen.file or server.book.file[server.book.list[name].file].path == chosen.file


def _named_row(server: Server, known: Known, word: str) -> Row:
    from roundgate.api.lookup import find_name

    if find_name(server.book, word) in server.book.list:
        return _list_row(server, known, list_of(server, word)[0])
    target = setting_of(server, word)
    if target.spec is not None:
        return _row(target.name, target.spec, known)
    return _unknown_row(server, known, target.file, target.key, _hidden(server, known, target.file))


def _row(name: str, spec: Setting, known: Known) -> Row:
    layers = layers_of(name, known)
    file = known.disk.path_of(spec)
    disk = format_value(layers.disk, spec)
    slate = format_value(layers.slate, spec) if layers.slate != layers.disk else ""
    running = format_value(layers.running, spec) if layers.runs else ""
    default = format_value(layers.default, spec) if layers.default is not None else ""
    if values.is_hidden(spec) and layers.slate != layers.disk:
        slate = "(set, hidden)" if layers.slate else "(empty)"
    return Row(name, file, spec.key, disk, slate, running, default, layers.differences, notes_of(name, spec, known))


def notes_of(name: str, spec: Setting, known: Known) -> tuple[str, ...]:
    """Describe what one must know to read a setting's value right."""
    notes = []
    files = known.slate
    by = overriding(spec, files.names) if files.stored(name) is not None else []
    if by:
        notes.append(f"does not count while {describe_values(files, by)}")
    other = files.overridden_entry(name)
    if other is not None:
        path, entry = other
        notes.append(f"{path} has {format_value(entry.value, spec)}, and {files.path_of(spec)} overrides it")
    if not files.is_in_use(name):
        chosen_by = files.book.file[spec.file].chosen_by
        held = describe_value(files, chosen_by)
        notes.append(f"{chosen_by} is {held}, so the server does not read {files.path_of(spec)}")
    absence = absence_of(spec, files.facts)
    if absence is not None:
        notes.append(f"needs {absence.needs}; this server is {absence.here}")
    if spec.inverted:
        notes.append(f"the scale is inverted: {spec.inverted}")
    return tuple(notes)


def _list_row(server: Server, known: Known, name: str) -> Row:
    file = server.book.file[server.book.list[name].file].path

    def items(files: ServerFiles) -> str:
        return ", ".join(files.items(name)) or "(empty)"

    disk, slate = items(known.disk), items(known.slate)
    running = items(known.started) if known.started else ""
    changed = _list_change(known.disk.items(name), known.slate.items(name))
    found = [LayerDifference(DifferenceCode.ON_SLATE, changed)] if slate != disk else []
    found += [LayerDifference(DifferenceCode.NEEDS_RESTART)] if running and running != disk else []
    return Row(name, file, "", disk, changed if slate != disk else "", running, "", tuple(found))


def _list_change(before: list[str], after: list[str]) -> str:
    """Describe what comes and goes in a list."""
    changes = [f"+ {item}" for item in after if item not in before] + [
        f"- {item}" for item in before if item not in after
    ]
    return ", ".join(changes) or "another order"


def _unknown_rows(server: Server, known: Known, chosen: ShowFilter) -> list[Row]:
    from roundgate.core.records.sets import homes_in

    rows = []
    for path in known.disk.texts:
        document = known.disk.document(path)
        taken = {
            key for name, file in server.book.file.items() if file.path == path for key in keys_in(server.book, name)
        }
        taken |= {key_of(home) for home in homes_in(server.book, path)}
        listed = any(server.book.file[spec.file].path == path and not spec.at for spec in server.book.list.values())
        if document is None or listed or (chosen.file and chosen.file != path):
            continue
        if format_name(path) in ("", "lines") and document.entries() and is_plain_list(document):
            rows.append(_unknown_list_row(server, known, path))
            continue
        of_lists = known.disk.paths_of_lists(path)
        entries = [entry for entry in document.entries() if isinstance(entry.path[0], str)]
        keys = dict.fromkeys(key_of(entry.path) for entry in entries if entry.path not in of_lists)
        hidden = _hidden(server, known, path)
        found = {
            id(files): _by_key(files.document(path)) for files in (known.disk, known.slate, known.started) if files
        }
        rows += [_unknown_row(server, known, path, key, hidden, found) for key in keys if key not in taken]
    return rows


def _by_key(document: Document | None) -> dict[str, Entry | None]:
    """Return every entry by its key, None for a key that is there more than once: a file may have thousands of them."""
    found: dict[str, Entry | None] = {}
    for entry in document.entries() if document is not None else ():
        if isinstance(entry.path[0], str):
            key = key_of(entry.path)
            found[key] = None if key in found else entry
    return found


def is_plain_list(document: Document) -> bool:
    """Return whether a file holds entries without names: a list."""
    return all(len(entry.path) == 1 and isinstance(entry.path[0], int) for entry in document.entries())


def _unknown_list_row(server: Server, known: Known, path: str) -> Row:
    hidden = _hidden(server, known, path)

    def items(files: ServerFiles) -> list[str]:
        document = files.document(path)
        entries = document.entries() if document is not None else ()
        return [HIDDEN if entry.path in hidden else entry.value for entry in entries]

    disk, slate = items(known.disk), items(known.slate)
    running = ", ".join(items(known.started)) if known.started else ""
    changed = _list_change(disk, slate) if slate != disk else ""
    found = (LayerDifference(DifferenceCode.ON_SLATE, changed),) if changed else ()
    return Row(path, path, "", ", ".join(disk), changed, running, "", found)


def _hidden(server: Server, known: Known, path: str) -> frozenset[Path]:
    """Return the paths of the values in a file that must not be shown, in any of its layers."""
    several = (known.disk, known.slate, known.started)
    documents = [files.document(path) for files in several if files is not None]
    return frozenset().union(
        *(hidden_paths(server.book, path, document) for document in documents if document is not None)
    )


def _unknown_row(
    server: Server,
    known: Known,
    path: str,
    key: str,
    hidden: Collection[Path],
    keys: Mapping[int, Mapping[str, Entry | None]] | None = None,
) -> Row:
    """Return the row of a key; ``keys`` has the entries of each layer by the layer's identity."""

    def value(files: ServerFiles) -> str:
        entry = (keys or {}).get(id(files), {}).get(key) or find_key(files.document(path), key)
        if entry is None:
            return "-"
        is_hidden = entry.path in hidden or is_secret(server.book, path, key, entry.value)
        return "(set, hidden)" if is_hidden else entry.value or "(empty)"

    disk, slate = value(known.disk), value(known.slate)
    running = value(known.started) if known.started else ""
    found = [LayerDifference(DifferenceCode.ON_SLATE, None if slate == "-" else slate)] if slate != disk else []
    gone = (known.drifted or {}).get(f"{path}:{key}")
    found += [LayerDifference(DifferenceCode.GONE_FROM_FILE, round=gone)] if gone is not None and disk == "-" else []
    return Row(f"{path}:{key}", path, key, disk, slate if slate != disk else "", running, "", tuple(found))


def ask_running(server: Server, files: ServerFiles) -> dict[str, str]:
    """Ask the running server for every value that the rulebook declares safe to ask for."""
    driver = driver_of(server)
    from roundgate.host.asking.reader import ValueReader  # only where the server is asked
    from roundgate.host.consoles import console_of

    console = console_of(server, driver)
    reader = ValueReader(server, console, server.read_started())
    answers: dict[str, str] = {}
    try:
        for name, spec in server.book.setting.items():
            if spec.live and spec.live.can_be_read and files.is_in_use(name) and not absence_of(spec, files.facts):
                found = reader.read(spec)
                if found is not None:
                    answers[name] = found
    except (ConsoleCut, NoConsole) as error:
        echo(f"{error.what}")
    finally:
        console.close()
        driver.close()
    return answers


def echo_rows(server: Server, rows: list[Row], chosen: ShowFilter) -> None:
    """Print the rows of one server."""
    spec = server.book.rulebook
    title = (spec.title or spec.name) if server.entry.rulebook else "no rulebook"
    echo(f"{styled(server.name, 'bold')}  {title}")
    table = []
    for row in rows:
        differs = row.running != row.disk
        about = "; ".join(map(describe_difference, beside_slate(row.differences)))
        shown_default = row.default if row.default != row.disk else ""
        table.append((row.name, row.disk, row.slate, row.running if differs else "", shown_default, about))
    echo_table(("setting", "on disk", "on the slate", "running", "default", ""), table)
    for row in rows:
        for note in row.notes:
            echo(f"  {row.name}: {plain(note)}")
    hidden = sum(1 for spec in server.book.setting.values() if spec.tier == "advanced")
    echo()
    if hidden and not (chosen.names or chosen.everything or chosen.advanced or chosen.search):
        echo(f"{hidden} advanced settings are not shown: --all. What one means: roundgate explain <name>")
    if not rows:
        echo("Nothing fits. Try another --search or --file, or --all.")
