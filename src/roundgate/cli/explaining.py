"""The pages of ``explain``: a setting, a list, a finding code."""

from __future__ import annotations

from typing import Any

from roundgate.api.lookup import list_of, setting_of
from roundgate.cli.screen.output import plain, say, say_json, styled
from roundgate.core import values
from roundgate.core.files import say as say_value
from roundgate.core.formats.places import find_key
from roundgate.core.rulebook.model import Setting
from roundgate.host.servers import Server

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


def explain_setting(server: Server, word: str, *, as_json: bool) -> None:
    """Print all there is to know of a setting."""
    target = setting_of(server, word)
    files = server.read([target.file]).files
    document = files.document(target.file)
    entry = find_key(document, target.key)
    line = document.text.place(entry.key_start)[0] if document and entry else None
    if target.spec is None:
        say(f"{target.name}: no rulebook knows it; it is read and written as plain text.")
        return
    facts = _facts(server, target.name, target.spec)
    place = f"{target.file}:{line}" if line else f"not in {target.file} (the default counts)"
    on_disk = say_value(entry.value, target.spec) if entry else None
    if as_json:
        say_json({"name": target.name, "place": place, "on-disk": on_disk, **facts})
        return
    say(f"{styled(target.name, 'bold')}  {target.spec.about}")
    for label, value in (*facts.items(), ("where", place), ("on disk", on_disk)):
        if value:
            say(f"  {label:<12} {plain(str(value))}")
    say(f"  {'change it':<12} roundgate set {server.name} {_example(target.name, target.spec)}")


def _facts(server: Server, name: str, spec: Setting) -> dict[str, Any]:
    default = values.default_of(spec)
    choices = "; ".join(f"{word}: {about}" for word, about in spec.choices.items() if about)
    live = "set and read" if spec.live and spec.live.set else "read" if spec.live and spec.live.read else ""
    rules = "; ".join(rule.say for rule in server.book.rule if name in rule.needs.split())
    return {
        "may be": values.describe(spec),
        "choices": choices,
        "default": None if default is None else values.show(default, spec),
        "stored as": f"{spec.key}, in {spec.stored}" if spec.stored else spec.key,
        "takes effect": _TAKES[spec.takes] + (f" (name one with {spec.fixed_by})" if spec.fixed_by else ""),
        "at console": live,
        "tier": spec.tier,
        "advice": spec.advice,
        "rules": rules,
        "file": _REWRITTEN[server.book.file[spec.file].rewritten],
    }


def _example(name: str, spec: Setting) -> str:
    if spec.type == "secret":
        return f"{name}     (it is asked for, so that it is not part of the command)"
    shown = {"duration": "10m", "size": "2G", "percent": "50%", "bool": "on"}.get(spec.type, "VALUE")
    return f"{name}={shown}"


def explain_list(server: Server, word: str, *, as_json: bool) -> None:
    """Print all there is to know of a list."""
    name, spec = list_of(server, word)
    kind = server.book.kind[spec.item]
    items = server.read().files.items(name)
    facts = {
        "entries": kind.about,
        "built in": ", ".join(kind.catalogue),
        "example": kind.example,
        "least": spec.least or None,
        "most": spec.most,
        "advice": spec.advice,
        "where": server.book.file[spec.file].path,
        "on disk": ", ".join(items) or "(empty)",
    }
    if as_json:
        say_json({"name": name, **facts})
        return
    say(f"{styled(name, 'bold')}  {spec.about}")
    for label, value in facts.items():
        if value:
            say(f"  {label:<12} {plain(str(value))}")
    say(f"  {'change it':<12} roundgate add {server.name} {name} ENTRY; remove, move")


def explain_code(name: str, *, as_json: bool) -> bool:
    """Print the page on a finding code; tell whether there is such a code."""
    from roundgate.core.checks import CODES

    code = CODES.get(name)
    if code is None:
        return False
    if as_json:
        say_json({"code": code.name, "level": code.level, "title": code.title, "page": code.page})
        return True
    say(f"{styled(code.name, 'bold')}  {code.title} ({code.level})")
    say(f"  {code.page}")
    for label, example in (("wrong", code.bad), ("right", code.good)):
        for number, line in enumerate(example.split("\n") if example else ()):
            say(f"  {label if number == 0 else '':<6} {plain(line)}")
    return True
