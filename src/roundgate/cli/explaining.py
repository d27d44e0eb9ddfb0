"""The pages of ``explain``: a setting, a list, a finding code."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from roundgate.api.lookup import find_name, list_of, setting_of
from roundgate.api.record_addresses import set_named
from roundgate.api.server import OpenServer
from roundgate.cli.screen.output import echo, plain, styled
from roundgate.cli.screen.outputs import CodePage, KeyPage, ListPage, RecordsPage, SettingPage
from roundgate.cli.settings import notes_of
from roundgate.core import values
from roundgate.core.advice import describe_limit, format_table
from roundgate.core.files import format_value
from roundgate.core.formats.places import find_key
from roundgate.core.layers import layers_of
from roundgate.core.records.sets import records_in
from roundgate.core.rulebook.expansion import family
from roundgate.core.rulebook.expressions import names_in, read_expression
from roundgate.core.rulebook.model import RecordField, Rulebook, Setting

_TAKES = {
    "live": "at once, at the live console, and for good once it is in the file",
    "restart": "when the server restarts",
    "new-world": "when a new world is made",
}
_REWRITTEN = {
    "never": "",
    "at-start": "The server rewrites this file when it starts.",
    "at-stop": "The server rewrites this file when it stops: what you edit there while it runs would be lost.",
    "while-running": "The server rewrites this file while it runs.",
}


def page_of(server: OpenServer, word: str) -> SettingPage | ListPage | RecordsPage | KeyPage:
    """Return all there is to know of a setting, a list, a set of records, or a key that no rulebook describes.

    Raises UnknownName.
    """
    if set_named(server.book, word) and not find_name(server.book, word):
        return _records_page(server, set_named(server.book, word))
    if find_name(server.book, word) in server.book.list:
        return _list_page(server, word)
    target = setting_of(server.workspace, word)
    document = server.workspace.read([target.file]).files.document(target.file)
    entry = find_key(document, target.key)
    line = document.text.place(entry.key_start)[0] if document and entry else None
    if target.spec is None:
        return KeyPage(server.name, target.name, target.file, line, target.key)
    name, spec = target.name, target.spec
    files = server.workspace.read().files
    path = files.path_of(spec)
    document = files.document(path)
    entry = files.entry(name)
    line = document.text.place(entry.key_start)[0] if document and entry else None
    known = server.known(server.state())
    layers = layers_of(name, known)
    default = values.default_of(spec)
    return SettingPage(
        server=server.name,
        name=name,
        about=spec.about,
        type=spec.type,
        allowed=values.describe(spec),
        choices=dict(spec.choices),
        default=None if default is None else values.show(default, spec),
        file=path,
        line=line,
        key=spec.key,
        unit=spec.stored,
        on_disk=format_value(entry.value, spec) if entry else None,
        takes=spec.takes,
        fixed_by=spec.fixed_by,
        kept_in=spec.kept_in,
        live_set=bool(spec.live and spec.live.set),
        live_read=bool(spec.live and spec.live.can_be_read),
        tier=spec.tier,
        advice=spec.advice,
        rules=[rule.say for rule in server.book.rule if {name, family(name)} & names_in(read_expression(rule.needs))],
        limit=describe_limit(known.slate, spec),
        tables=_tables(name, server.book),
        overrides=[
            other_name for other_name, other in server.book.setting.items() if _is_named(name, other.overridden_by)
        ],
        overridden_by=spec.overridden_by,
        notes=list(notes_of(name, spec, known)),
        also=[f"{server.book.file[place.file or spec.file].path}:{place.key}" for place in spec.also],
        availability=_availability(spec),
        slate=format_value(layers.slate, spec) if layers.slate != layers.disk else "",
        running=format_value(layers.running, spec) if layers.runs else "",
        world=format_value(known.world[name], spec) if known.world and name in known.world else "",
        rewritten=server.book.file[spec.file].rewritten,
    )


def _is_named(name: str, expression: str) -> bool:
    return bool(expression) and name in names_in(read_expression(expression))


def _tables(name: str, book: Rulebook) -> list[str]:
    """Format the advice tables that a setting is in."""
    return [
        f"{table.most} by {table.given}: {format_table(table, book)}"
        for table in book.table.values()
        if name in (table.given, table.most)
    ]


def _field_text(described: RecordField) -> str:
    """Describe a field of a record in one line: what it is, and its values."""
    return " ".join(": ".join(filter(None, (described.about.rstrip(". "), values.describe(described)))).split())


def _availability(spec: Setting) -> str:
    """Describe which editions and versions have a setting, and a choice of it."""
    parts = [f"since {spec.since}"] if spec.since else []
    parts += [f"until {spec.until}, which no longer has it"] if spec.until else []
    parts += [f"only in the edition {' or '.join(spec.only)}"] if spec.only else []
    parts += [f"{choice} only in the edition {' or '.join(only)}" for choice, only in spec.only_choices.items()]
    return "; ".join(parts)


def _list_page(server: OpenServer, word: str) -> ListPage:
    name, spec = list_of(server.workspace, word)
    kind = server.book.kind[spec.item]
    return ListPage(
        server=server.name,
        name=name,
        about=spec.about,
        entries=kind.about,
        built_in=list(kind.catalogue),
        example=kind.example,
        least=spec.least,
        most=spec.most,
        advice=spec.advice,
        file=server.book.file[spec.file].path,
        on_disk=server.workspace.read().files.items(name),
    )


def _records_page(server: OpenServer, name: str) -> RecordsPage:
    spec = server.book.records[name]
    path = server.book.file[spec.file].path
    return RecordsPage(
        server=server.name,
        name=name,
        about=spec.about,
        key=spec.key,
        fields={field: _field_text(described) for field, described in spec.field.items()},
        needed=[field for field, described in spec.field.items() if described.needed],
        least=spec.least,
        most=spec.most,
        file=path,
        count=len(records_in(server.workspace.read().files.document(path), spec)),
        decided=_decided(server.book, name),
    )


def _decided(book: Rulebook, name: str) -> str:
    """Describe how it is decided who may do what, of the set whose records are ranks."""
    from roundgate.core.ranks.deciding import ORDER_TEXTS

    for spec in book.ranks.values():
        if spec.levels == name:
            return f"a level grants all that needs it or a lower one; newcomers have {spec.newcomers or 'none'}"
        if spec.groups == name:
            newcomers = f"; newcomers are what {spec.newcomers} says" if ":" in spec.newcomers else ""
            return f"{ORDER_TEXTS[spec.order]}{newcomers}"
    return ""


def echo_page(page: SettingPage | ListPage | RecordsPage | KeyPage, book: Rulebook) -> None:
    """Print a page as text."""
    if isinstance(page, KeyPage):
        echo(f"{page.name}: no rulebook knows it; it is read and written as plain text.")
        return
    echo(f"{styled(page.name, 'bold')}  {page.about}")
    facts: Iterable[tuple[str, str | int | None]]
    if isinstance(page, SettingPage):
        facts, how = _setting_facts(page).items(), f"set {page.server} {_example(page.name, book.setting[page.name])}"
        how += " --now" if not page.file else ""
    elif isinstance(page, RecordsPage):
        facts, how = _records_facts(page), f"set {page.server} {page.name}/RECORD.FIELD=VALUE; add, remove, rename"
    else:
        facts, how = _list_facts(page).items(), f"add {page.server} {page.name} ENTRY; remove, move"
    for label, value in facts:
        if value:
            echo(f"  {label:<12} {plain(str(value))}")
    echo(f"  {'change it':<12} roundgate {how}")


def _setting_facts(page: SettingPage) -> dict[str, str | int | None]:
    """Return the facts of a setting under the labels that a person reads."""
    return {
        "may be": page.allowed,
        "choices": "; ".join(f"{word}: {about}" for word, about in page.choices.items() if about),
        "default": page.default,
        "stored as": f"{page.key}, in {page.unit}" if page.unit else page.key,
        "takes effect": _takes_effect(page),
        "at console": "set and read" if page.live_set else "read" if page.live_read else "",
        "tier": page.tier,
        "available": page.availability,
        "advice": page.advice,
        "limit": page.limit,
        "advised": "; ".join(page.tables),
        "rules": "; ".join(page.rules),
        "overrides": ", ".join(page.overrides),
        "overridden": f"where {page.overridden_by}" if page.overridden_by else "",
        "now": "; ".join(page.notes),
        "file": _REWRITTEN[page.rewritten],
        "where": _where(page),
        "also in": ", ".join(page.also),
        "on disk": page.on_disk,
        "on the slate": page.slate,
        "running": page.running if page.running not in ("", page.on_disk or "-") else "",
        "world made": f"with {page.world}" if page.world else "",
    }


def _takes_effect(page: SettingPage) -> str:
    when = _TAKES[page.takes] if page.file or page.takes != "live" else "at once"
    return when + (f" (name one with {page.fixed_by})" if page.fixed_by else "")


def _records_facts(page: RecordsPage) -> Iterator[tuple[str, str | int | None]]:
    """Yield the facts of a set; a field of its records may well have the name of one of them."""
    yield "named by", "its name in the file" if page.key == "*" else page.key
    yield from page.fields.items()
    yield "decided by", page.decided
    yield "needed", ", ".join(page.needed)
    yield "least", page.least or None
    yield "most", page.most
    yield "where", page.file
    yield "on disk", f"{page.count} record{'' if page.count == 1 else 's'}"


_CONSOLE_ONLY = "the live console alone: the next restart loses it"


def _where(page: SettingPage) -> str:
    if not page.file:
        return f"kept by the server, in {page.kept_in}" if page.kept_in else _CONSOLE_ONLY
    return f"{page.file}:{page.line}" if page.line else f"not in {page.file} (the default counts)"


def _list_facts(page: ListPage) -> dict[str, str | int | None]:
    return {
        "entries": page.entries,
        "built in": ", ".join(page.built_in),
        "example": page.example,
        "least": page.least or None,
        "most": page.most,
        "advice": page.advice,
        "where": page.file,
        "on disk": ", ".join(page.on_disk) or "(empty)",
    }


def _example(name: str, spec: Setting) -> str:
    if values.is_hidden(spec):
        return f"{name}     (you are asked for it, so that it is not part of the command)"
    return f"{name}={values.example(spec)}"


def code_page(name: str) -> CodePage | None:
    """Return the page on a finding code, or None where there is no such code."""
    from roundgate.core.checks import CODES

    code = CODES.get(name)
    return None if code is None else CodePage(code.name, code.level, code.title, code.page, code.bad, code.good)


def echo_code(page: CodePage) -> None:
    """Print the page on a finding code as text."""
    echo(f"{styled(page.code, 'bold')}  {page.title} ({page.level})")
    echo(f"  {page.page}")
    for label, example in (("wrong", page.wrong), ("right", page.right)):
        for number, line in enumerate(example.split("\n") if example else ()):
            echo(f"  {label if number == 0 else '':<6} {plain(line)}")
