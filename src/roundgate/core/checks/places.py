"""Do the places that hold one value agree, does what they name exist, and does the setting count at all?"""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal

from roundgate.core import values
from roundgate.core.advice import advised_most, describe_limit, limit_of, overriding
from roundgate.core.checks.context import CheckContext
from roundgate.core.facts import absence_of, choice_absence
from roundgate.core.files import describe_value, describe_values, format_value
from roundgate.core.findings import Finding, FindingCode, Place
from roundgate.core.formats.places import find_key
from roundgate.core.rulebook.model import Setting
from roundgate.core.values import ValueProblem

PORT_SHARED = "port-shared"

CODES = (
    FindingCode(
        PORT_SHARED,
        "warning",
        "A port that two servers of the site have",
        "Only one of them can run at a time: the system refuses the port to the other. 'fit ports' shows all ports.",
        "net.port=27800 on harbour and on regatta",
        "net.port=27810 on regatta",
    ),
    FindingCode(
        "setting-absent",
        "warning",
        "A setting that this version or edition does not have",
        "The server silently ignores it. Often it is left over from another version, or copied from a server of "
        "another edition.",
    ),
    FindingCode(
        "value-edition",
        "error",
        "A choice that this edition does not have",
        "The setting exists, but it has no such value: the server uses its default instead.",
        "tide.mode=maelstrom in the inshore edition",
        "tide.mode=storm",
    ),
    FindingCode(
        "value-limit",
        "error",
        "A value above a limit that depends on something else",
        "The limit is calculated from another setting or from the machine, such as its memory.",
        "memory.limit=64G on a machine with 16G",
        "memory.limit=8G",
    ),
    FindingCode(
        "places-differ",
        "error",
        "One value in two places that do not agree",
        "The server needs the same in both. Setting it with Round Gate writes both.",
        "boat.slots=16 in the file, --slots 12 in the start script",
        "boat.slots=16, and --slots 16",
    ),
    FindingCode(
        "setting-overridden",
        "note",
        "Settings that do not count at present",
        "Another setting or a mode overrides them: the server does not look at them while that holds.",
    ),
    FindingCode(
        "path-missing",
        "error",
        "A path that leads to nothing",
        "The setting names a file or folder that does not exist. Capitals count.",
    ),
    FindingCode(
        "file-of-the-game",
        "warning",
        "A change in a file that the game overwrites",
        "The next update of the game puts its own file there, and the change is lost.",
    ),
    FindingCode(
        "advice-table",
        "note",
        "More than is advised",
        "The rulebook has a table of what goes together well, such as slots by memory. The server may still run.",
    ),
)


def check_places(context: CheckContext) -> Iterator[Finding]:
    """Check every setting by its place and by what it depends on."""
    for name, spec in context.book.setting.items():
        yield from _other_places(context, name, spec)
        stored = context.files.stored(name)
        if stored is None:
            continue
        yield from _absent(context, name, spec, stored)
        try:
            value = values.read(stored, spec)
        except ValueProblem:
            continue  # it has its own finding
        yield from _limited(context, name, spec, stored)
        if spec.type == "path" and value:
            yield from _path(context, name, spec, str(value))
    yield from _overridden(context)
    yield from _tables(context)


def _place(context: CheckContext, name: str) -> Place:
    spec = context.book.setting[name]
    path, entry = context.files.path_of(spec), context.files.entry(name)
    return context.entry_place(path, entry) if entry else Place(path)


def _other_places(context: CheckContext, name: str, spec: Setting) -> Iterator[Finding]:
    """Find places that hold another value than the setting's own."""
    first = context.files.stored(name)
    for other in spec.also:
        path = context.book.file[other.file or spec.file].path
        entry = find_key(context.files.document(path), other.key)
        second, there = entry.value if entry else None, values.spec_at(other, spec)
        wanted = None if first is None else values.stored_at(other, first, spec)
        if second == wanted or (entry is None and (other.optional or path not in context.files.texts)):
            continue
        shown = [
            f"{where} has {'nothing' if held is None else format_value(held, described)}"
            for where, held, described in (
                (context.files.path_of(spec), first, spec),
                (f"{path} ({other.key})", second, there),
            )
        ]
        place = context.entry_place(path, entry) if entry else _place(context, name)
        right = _typeable(first, spec)
        do = context.command("set", name if values.is_hidden(spec) else f"{name}={right}")
        cause = f"{name} is kept in two places that must agree: {', '.join(shown)}."
        yield context.finding("places-differ", "error", place, cause, do, name)


def _typeable(stored: str | None, spec: Setting) -> str:
    """Write what a file holds, or the default, as a person may type it."""
    if stored is None:
        return "" if spec.default is None else values.plain_text(spec.default, spec)
    return format_value(stored, spec) if stored else ""


def _absent(context: CheckContext, name: str, spec: Setting, stored: str) -> Iterator[Finding]:
    absence = absence_of(spec, context.files.facts)
    if absence is not None:
        cause = f"{name} needs {absence.needs}; this server is {absence.here} and ignores it."
        do = context.command("switch", name, options=("--off",))
        yield context.finding("setting-absent", "warning", _place(context, name), cause, do, name)
    missing = choice_absence(stored, spec, context.files.facts)
    if missing is not None:
        cause = f"'{stored}' needs {missing.needs}; this server is {missing.here}."
        meant = _typeable(None, spec)
        do = context.command("set", f"{name}={meant}")
        yield context.finding("value-edition", "error", _place(context, name), cause, do, name)


def _limited(context: CheckContext, name: str, spec: Setting, stored: str) -> Iterator[Finding]:
    limit = limit_of(spec, context.files.names)
    number = values.number_behind(values.read(stored, spec), spec)
    if limit is None or not isinstance(number, Decimal | int) or number <= limit:
        return
    cause = f"{format_value(stored, spec)} is above {describe_limit(context.files, spec)}."
    do = context.command("explain", name)
    yield context.finding("value-limit", "error", _place(context, name), cause, do, name)


def _path(context: CheckContext, name: str, spec: Setting, value: str) -> Iterator[Finding]:
    path = f"{spec.below.rstrip('/')}/{value}" if spec.below else value
    if path in context.files.texts or context.files.facts.has(path) is not False:
        return
    cause = f"There is no {path} in the server's folder."
    do = f"Check the name, or put the file there: {path}"
    yield context.finding("path-missing", "error", _place(context, name), cause, do, name)


def _overridden(context: CheckContext) -> Iterator[Finding]:
    """Say, once for each cause, which settings have a value of their own that does not count."""
    groups: dict[tuple[str, ...], list[str]] = {}
    for name, spec in context.book.setting.items():
        stored = context.files.stored(name) if spec.overridden_by else None
        if stored is None or context.files.counting(name) == values.default_of(spec):
            continue
        by = overriding(spec, context.files.names)
        if by:
            groups.setdefault(tuple(by), []).append(name)
    for causes, names in groups.items():
        held = describe_values(context.files, causes)
        verb = "does not count" if len(names) == 1 else "do not count"
        cause = f"{', '.join(names)} {verb} while {held}."
        do = context.command("explain", names[0])
        yield context.finding("setting-overridden", "note", _place(context, names[0]), cause, do, names[0])


def _tables(context: CheckContext) -> Iterator[Finding]:
    for title, table in context.book.table.items():
        spec = context.book.setting[table.most]
        value = context.files.names[table.most]
        most = advised_most(table, context.book, context.files.names)
        if most is None or not isinstance(value, Decimal | int) or value <= most:
            continue
        given = context.book.setting.get(table.given)
        known = context.files.names[table.given]
        has = describe_value(context.files, table.given) if given else str(known)
        if table.given == "machine.memory":
            has = values.show(Decimal(round(known, -8)), Setting(file="", key="", type="size"))
        about = f" {table.about}" if table.about else ""
        have, advised = describe_value(context.files, table.most), values.show(most, spec)
        cause = f"{have} is more than the {advised} advised for {table.given} {has}.{about}"
        do = context.command("explain", table.most)
        yield context.finding("advice-table", "note", _place(context, table.most), cause, do, title)
