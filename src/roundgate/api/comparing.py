"""Comparing servers with each other, with their defaults, with a preset, or with how they were before a round."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct

from roundgate.api.presets import presets_of
from roundgate.api.server import OpenServer
from roundgate.api.site import OpenSite
from roundgate.core import values
from roundgate.core.files import ServerFiles, format_value, plain_form
from roundgate.core.formats.places import key_of
from roundgate.core.next_step import typed_command
from roundgate.core.records.sets import paths_of_records, records_in
from roundgate.core.rulebook.expansion import keys_in
from roundgate.core.rulebook.model import Rulebook, Setting, TomlValue
from roundgate.core.secrets import HIDDEN, hidden_paths
from roundgate.core.values import ValueProblem
from roundgate.host.errors import Trouble, UnknownName, WrongUsage
from roundgate.host.rounds.snapshot.save import saved_files

DEFAULTS, PRESET, ROUND = "defaults", "preset:", "round:"
"""Words for sides that are no server."""


class Side(Struct, frozen=True):
    """One side of a comparison: its name, and its files or, for defaults and presets, only values."""

    name: str
    book: Rulebook
    files: ServerFiles | None = None
    stored: dict[str, str] = {}
    """Values as stored, by setting, where there are no files."""
    is_partial: bool = False
    """True for a preset: a setting that it does not name has no value on this side."""


class ServerGroup(Struct, frozen=True):
    """Sides that are looked at as one: the servers of a tag or a cluster."""

    name: str
    sides: tuple[int, ...]
    """Their numbers among the sides."""


class SideDifference(Struct, frozen=True):
    """One setting, list or key, and what each side has; None where a side has none."""

    name: str
    kind: str
    """``setting``, ``list``, ``records``, ``key``, or ``file`` for one that a side does not have."""
    values: tuple[str | None, ...]
    same: bool


def groups_of(site: OpenSite, arguments: Sequence[str]) -> tuple[list[Side], list[ServerGroup]]:
    """Return sides that arguments name, and each word as a group of them: ``@TAG``, a cluster, or servers by commas.

    Raises WrongUsage for fewer than two groups, and as ``sides_of``.
    """
    if len(arguments) < 2:
        raise WrongUsage(
            "Two groups or more are compared.",
            typed_command("compare", "", "@ranked", "@casual", options=("--groups",)),
        )
    members = [_expanded(site, word) for word in arguments]
    names = list(dict.fromkeys(name for each in members for name in each))
    if len(names) < 2:
        raise WrongUsage("These groups are one server.", "Name tags with more servers: @TAG.")
    groups = [
        ServerGroup(word, tuple(names.index(name) for name in each))
        for word, each in zip(arguments, members, strict=True)
    ]
    return sides_of(site, names), groups


def grouped(
    rows: Sequence[SideDifference], sides: Sequence[Side], groups: Sequence[ServerGroup]
) -> Iterator[SideDifference]:
    """Yield the rows of a comparison with a column for each group: what all of it has, or who has what."""
    for row in rows:
        columns = tuple(_of_group(row, sides, group) for group in groups)
        held = [{row.values[number] for number in group.sides} for group in groups]
        same = row.same or (len({*columns}) == 1 and all(len(side) == 1 for side in held))
        yield SideDifference(row.name, row.kind, columns, same=same)


def _of_group(row: SideDifference, sides: Sequence[Side], group: ServerGroup) -> str | None:
    values: dict[str | None, list[str]] = {}
    for number in group.sides:
        values.setdefault(row.values[number], []).append(sides[number].name)
    if len(values) == 1:
        return next(iter(values))
    most = max(values, key=lambda value: len(values[value]))
    others = [f"{', '.join(names)}: {value or '-'}" for value, names in values.items() if value != most]
    return f"{most or '-'}, but {'; '.join(others)}"


def sides_of(site: OpenSite, arguments: Sequence[str]) -> list[Side]:
    """Return the sides that arguments name: servers, ``defaults``, ``preset:NAME``, ``round:N``.

    Raises WrongUsage for fewer than two sides or no server among them, UnknownName, or Trouble where what a round
    saved is lost.
    """
    arguments = [server_name for word in arguments for server_name in _expanded(site, word)]
    servers = [site.server(word) for word in arguments if not _is_special(word)]
    rounds = [site.store.round(_number(word)) for word in arguments if word.startswith(ROUND)]
    servers += [site.opened(row.server) for row in rounds if row is not None and row.server in site.names]
    if len(arguments) < 2 or not servers:
        raise WrongUsage(
            "Two sides are needed, and a server among them.",
            typed_command("compare", "<server>", "<server>", hint="a side is also defaults, preset:NAME, or round:N"),
        )
    return [_side(site, servers[0], word) for word in arguments]


def _expanded(site: OpenSite, word: str) -> list[str]:
    """Return the servers that a tag, a cluster or a list with commas means, a side each. Raises UnknownName."""
    if _is_special(word) or not (word.startswith("@") or "," in word):
        return [word]
    return [server.name for server in site.servers(word)]


def _is_special(word: str) -> bool:
    return word == DEFAULTS or word.startswith((PRESET, ROUND))


def _number(word: str) -> int:
    text = word.removeprefix(ROUND)
    if not (text.isascii() and text.isdigit() and len(text) < 10):
        raise WrongUsage(f"'{word}' names no round.", "Write round:N; see roundgate rounds")
    return int(text)


def _side(site: OpenSite, first: OpenServer, word: str) -> Side:
    if word == DEFAULTS:
        return Side(word, first.book)
    if word.startswith(PRESET):
        name = word.removeprefix(PRESET)
        known = presets_of(site.site, first.server)
        if name not in known:
            raise UnknownName(f"{first.name} has no preset '{name}'.", f"Presets: {', '.join(known) or 'none'}")
        book = first.book
        stored = {key: _as_stored(value, book.setting[key]) for key, value in known[name].set.items()}
        return Side(word, book, stored=stored, is_partial=True)
    if word.startswith(ROUND):
        row = site.store.round(_number(word))
        if row is None or row.server not in site.names:
            raise UnknownName(
                f"There is no {word.replace(':', ' ')} of a server of this site.", typed_command("rounds")
            )
        server = site.opened(row.server)
        files = server.workspace.with_contents(saved_files(site.site, row.number)).read().files
        return Side(f"{row.server} before round {row.number}", server.book, files)
    server = site.server(word)
    return Side(server.name, server.book, server.workspace.read().files)


def _as_stored(value: TomlValue, spec: Setting) -> str:
    """Write a preset's value as the file would hold it."""
    return values.store(values.parse(values.plain_text(value, spec), spec), spec)


def compared(sides: Sequence[Side]) -> Iterator[SideDifference]:
    """Yield every setting and list of the sides' rulebooks, and every key that none of them describes, in order.

    Two spellings of one value are the same. Values of secrets are compared and never shown.
    """
    yield from _settings(sides)
    yield from _lists(sides)
    yield from _records(sides)
    yield from _keys(sides)


def _settings(sides: Sequence[Side]) -> Iterator[SideDifference]:
    for name in dict.fromkeys(name for side in sides for name in side.book.setting):
        shown = tuple(_shown(side, name) for side in sides)
        plain = {_plain(side, name) for side in sides if not (side.is_partial and name not in side.stored)}
        yield SideDifference(name, "setting", shown, same=len(plain) < 2)


def _stored(side: Side, name: str) -> str | None:
    if side.files is None:
        return side.stored.get(name)
    return side.files.stored(name) if name in side.book.setting else None


def _plain(side: Side, name: str) -> str | None:
    return plain_form(side.book, name, _stored(side, name)) if name in side.book.setting else None


def _shown(side: Side, name: str) -> str | None:
    spec = side.book.setting.get(name)
    stored = _stored(side, name)
    if spec is None or (side.is_partial and stored is None):
        return None
    if stored is not None:
        return format_value(stored, spec)
    default = values.default_of(spec)
    return "(not set)" if default is None else f"{values.show(default, spec)} (default)"


_OF_ONE_SERVER = ("port", "address", "endpoint", "url")
"""Types of values that no two servers should share."""


def differing_values(mine: Side, other: Side) -> dict[str, TomlValue]:
    """Return what one side has and the other has not, as people say it; without what is a server's own.

    That are its secrets, ports and addresses, the name by which the public list knows it, its world, and what a world
    fixes. Raises Trouble where a value is not valid.
    """
    chosen: dict[str, TomlValue] = {}
    own = {spec.fixed_by for spec in mine.book.setting.values()}
    if mine.book.server.lobby is not None:
        own |= {*mine.book.server.lobby.ours.values(), mine.book.server.lobby.shows.get("name", "")}
    for name, spec in mine.book.setting.items():
        stored = _stored(mine, name)
        if stored is None or values.is_hidden(spec) or spec.type in _OF_ONE_SERVER:
            continue
        if name in own or spec.fixed_by or "@" in name:
            continue
        if _plain(mine, name) == plain_form(mine.book, name, _stored(other, name)):
            continue
        try:
            value = values.read(stored, spec)
        except ValueProblem as error:
            raise Trouble(
                f"{name} of {mine.name} is not valid: {error.cause}", "Correct it, then save again."
            ) from error
        if isinstance(value, bool) or (spec.type == "int" and isinstance(value, int)):
            chosen[name] = value
        else:  # a text such as 007 or true stays a text
            chosen[name] = values.show(value, spec)
    return chosen


def _lists(sides: Sequence[Side]) -> Iterator[SideDifference]:
    for name in dict.fromkeys(name for side in sides for name in side.book.list):
        held = [side.files.items(name) if side.files and name in side.book.list else None for side in sides]
        known = [tuple(items) for items in held if items is not None]
        shown = tuple(None if items is None else ", ".join(items) or "(empty)" for items in held)
        yield SideDifference(name, "list", shown, same=len(set(known)) < 2)


def _records(sides: Sequence[Side]) -> Iterator[SideDifference]:
    """Compare sets of records: by all that they hold, shown as how many there are."""
    for name in dict.fromkeys(name for side in sides for name in side.book.records):
        held = [_records_of(side, name) for side in sides]
        known = [records for records in held if records is not None]
        shown = tuple(None if records is None else str(len(records)) for records in held)
        same = all(records == known[0] for records in known)
        if not same and len(set(shown)) == 1:  # as many, and others
            shown = (shown[0], *(f"{count}, not the same" for count in shown[1:]))
        if len(known) > 1:
            yield SideDifference(name, "records", shown, same=same)


def _records_of(side: Side, name: str) -> dict[str, dict[str, tuple[str, ...]]] | None:
    """Return the records of a set on one side, by key: the fields' values; None where a side has none to compare."""
    spec = side.book.records.get(name)
    if side.files is None or spec is None:
        return None
    records = records_in(side.files.document(side.book.file[spec.file].path), spec)
    return {record.key: {field: held.values for field, held in record.fields.items()} for record in records}


def _keys(sides: Sequence[Side]) -> Iterator[SideDifference]:
    """Compare what no rulebook describes, file by file, where at least two sides have files.

    A file that a side does not have is one difference, not one for each of its keys; so is a plain list.
    """
    if sum(1 for side in sides if side.files is not None) < 2:
        return
    tables = [_undescribed(side) if side.files is not None else {} for side in sides]
    for path in dict.fromkeys(path for table in tables for path in table):
        held = [
            table.get(path, {} if side.files is not None and path in side.files.texts else None)
            for side, table in zip(sides, tables, strict=True)
        ]
        has_files = [side.files is not None for side in sides]
        if any(has and keys is None for has, keys in zip(has_files, held, strict=True)):
            described = [_describe_file(keys) if has else None for has, keys in zip(has_files, held, strict=True)]
            yield SideDifference(path, "file", tuple(described), same=False)
        elif all(set(keys or {}) <= {""} for keys in held):
            yield _row(path, "list", [(keys or {}).get("") for keys in held], has_files)
        else:
            for key in dict.fromkeys(key for keys in held for key in keys or {}):
                yield _row(f"{path}:{key}", "key", [(keys or {}).get(key) for keys in held], has_files)


HeldValue = tuple[str, str]
"""A value, and what may be shown of it."""


def _row(name: str, kind: str, held: Sequence[HeldValue | None], has_files: Sequence[bool]) -> SideDifference:
    plain = {item[0] if item else None for item, has in zip(held, has_files, strict=True) if has}
    return SideDifference(name, kind, tuple(item[1] if item else None for item in held), same=len(plain) < 2)


def _describe_file(keys: dict[str, HeldValue] | None) -> str:
    if keys is None:
        return "(no such file)"
    return f"{len(keys)} value{'' if len(keys) == 1 else 's'}" if set(keys) != {""} else keys[""][1]


def _undescribed(side: Side) -> dict[str, dict[str, HeldValue]]:
    """Return what the rulebook does not describe, by file and key; a plain list has one entry with an empty key."""
    assert side.files is not None
    found: dict[str, dict[str, HeldValue]] = {}
    described = {(file.path, key) for name, file in side.book.file.items() for key in keys_in(side.book, name)}
    listed = {side.book.file[spec.file].path for spec in side.book.list.values() if not spec.at}
    for path in side.files.texts:
        document = side.files.document(path)
        if document is None or path in listed:
            continue
        sets = [spec for spec in side.book.records.values() if side.book.file[spec.file].path == path]
        of_records = paths_of_records(document, sets) | side.files.paths_of_lists(path)
        entries = [entry for entry in document.entries() if entry.path not in of_records]
        if sets and not entries:
            continue  # its sets are compared as sets
        hidden = hidden_paths(side.book, path, document)
        if entries and all(len(entry.path) == 1 and isinstance(entry.path[0], int) for entry in entries):
            shown = [HIDDEN if entry.path in hidden else entry.value for entry in entries]
            found[path] = {"": ("\n".join(entry.value for entry in entries), ", ".join(shown))}
            continue
        keys = {
            key: (entry.value, HIDDEN if entry.path in hidden else entry.value or "(empty)")
            for entry in entries
            if (path, key := key_of(entry.path)) not in described
        }
        if keys or not any(file == path for file, _ in described):
            found[path] = keys
    return found
