"""Completion in the shell: servers, settings, values, list entries, presets, files. Called at every tab: nothing heavy.

Names and choices come from the rulebooks as they were parsed last. Only the entries of a list need its file.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

if TYPE_CHECKING:
    from roundgate.host.site import Site


def _site() -> Site | None:
    from roundgate.cli import named_site
    from roundgate.host.errors import Trouble
    from roundgate.host.site import find_site

    try:
        return find_site(named_site.SITE_NAMED, Path.cwd())
    except Trouble:
        return None


def _is_behind_equals() -> bool:
    """Return whether the cursor is just after a ``=``: bash makes a word of that sign, and Typer leaves it out."""
    words, at = os.environ.get("COMP_WORDS", "").split(), os.environ.get("COMP_CWORD", "")
    return at.isdecimal() and words[int(at) : int(at) + 1] == ["="]


class _Call:
    """The arguments of a call up to the one that is being completed."""

    def __init__(self, context: typer.Context, incomplete: str) -> None:
        given = context.params.get("arguments") or []
        self.site = _site()
        self.arguments = [str(word) for word in given]
        self.incomplete = incomplete
        self.setting, self.lead = "", ""
        if "=" in incomplete and incomplete != "=":
            self.setting, _, self.incomplete = incomplete.partition("=")
            self.lead = f"{self.setting}="
        elif self.arguments[-1:] == ["="] and len(self.arguments) > 1:
            self.setting = self.arguments[-2]
        elif not incomplete and self.arguments and _is_behind_equals():
            self.setting = self.arguments[-1]

    @property
    def servers(self) -> list[str]:
        """The names of the site's servers."""
        return list(self.site.file.server) if self.site else []

    @property
    def named(self) -> list[str]:
        """The servers that the call is about: the first word's, or all."""
        first = self.arguments[:1]
        return first if first and first[0] in self.servers else self.servers

    @property
    def rest(self) -> list[str]:
        """The arguments after the server's name."""
        return self.arguments[1:] if self.arguments and self.arguments[0] in self.servers else self.arguments

    def raws(self) -> Iterator[dict[str, Any]]:
        """Yield the rulebooks of the servers that the call is about, as parsed, layers first."""
        from roundgate.host.rulebooks import raw_layers

        if self.site is not None:
            for book in dict.fromkeys(self.site.file.server[name].rulebook for name in self.named):
                yield from raw_layers(book, self.site.folder)

    def table(self, name: str) -> dict[str, Any]:
        """Return a table of the rulebooks, merged."""
        merged: dict[str, Any] = {}
        for raw in self.raws():
            table = raw.get(name)
            for key, value in table.items() if isinstance(table, dict) else ():
                old = merged.get(key)
                merged[key] = {**old, **value} if isinstance(old, dict) and isinstance(value, dict) else value
        return merged

    def fitting(self, *groups: Any) -> list[str]:
        """Return what begins with the word that is being completed."""
        found = dict.fromkeys(str(word) for group in groups for word in group)
        return [f"{self.lead}{word}" for word in found if word.startswith(self.incomplete)]


def _settings(call: _Call) -> Iterator[str]:
    for name, spec in call.table("setting").items():
        index = spec.get("index") if isinstance(spec, dict) else None
        if isinstance(index, list):
            yield from (f"{name}[{number}]" for number in index)
        else:
            yield name


def _values(call: _Call) -> list[str]:
    """Return the values of the setting whose value is being typed, where there are few."""
    spec = call.table("setting").get(call.setting.partition("[")[0], {})
    if not isinstance(spec, dict):
        return []
    offered = list(spec.get("special", {}))
    if spec.get("type") in ("choice", "choices"):
        offered += spec.get("choices", {})
    elif spec.get("type") == "bool":
        offered += spec.get("spelling", ["true", "false"])
    elif spec.get("type") == "flag":
        offered += ["on", "off"]
    return offered


def _first(call: _Call) -> list[str]:
    return [] if call.arguments else call.servers


def complete_server_or_name(ctx: typer.Context, incomplete: str) -> list[str]:
    """Return the servers, settings, lists and files that begin with what was typed, or the values of a setting."""
    call = _Call(ctx, incomplete)
    if call.setting:
        return call.fitting(_values(call))
    paths = [file.get("path", "") for file in call.table("file").values() if isinstance(file, dict)]
    files = [path for path in paths if "{" not in path] if ctx.info_name == "show" else []
    return call.fitting(_first(call), _settings(call), call.table("list"), files)


def complete_server_or_action(ctx: typer.Context, incomplete: str) -> list[str]:
    """Return servers and actions that fit what was typed; for ``keep`` the settings; after an action, its values."""
    call = _Call(ctx, incomplete)
    if ctx.info_name == "keep":
        return call.fitting(_first(call), _settings(call))
    actions = call.table("action")
    if not call.rest:
        return call.fitting(_first(call), actions)
    arguments = list(actions.get(call.rest[0], {}).get("argument", {}).values())
    number = len(call.rest) - 1
    spec = arguments[number] if number < len(arguments) else {}
    kind = call.table("kind").get(spec.get("kind", ""), {})
    return call.fitting(spec.get("choices", {}), spec.get("special", {}), kind.get("catalogue", ()))


def complete_list_or_entry(ctx: typer.Context, incomplete: str) -> list[str]:
    """Return the lists that begin with what was typed; after a list, its entries, or for ``add`` the built-in ones."""
    call = _Call(ctx, incomplete)
    lists = call.table("list")
    valued = {name for name, spec in call.table("setting").items() if spec.get("type") in ("list", "choices")}
    if not call.rest:
        return call.fitting(_first(call), lists, valued)
    name = call.rest[0]
    if ctx.info_name == "add":
        return call.fitting(_built_in(call, name), _mods(call, name))
    return call.fitting(_entries(call, name))


def _built_in(call: _Call, name: str) -> list[str]:
    spec = call.table("list").get(name) or call.table("setting").get(name) or {}
    kind = call.table("kind").get(str(spec.get("item") or spec.get("kind")), {})
    return [*spec.get("catalogue", []), *kind.get("catalogue", []), *spec.get("choices", {})]


def _mods(call: _Call, name: str) -> Iterator[str]:
    """Yield the mods that lie beside a server, where a setting names the mods that it loads."""
    mods = call.table("mods")
    folder = str(mods.get("folder", ""))
    if call.site is None or mods.get("list") != name or "{mod}" not in folder:
        return
    for server in call.named:
        above = call.site.folder_of(server) / folder.partition("{mod}")[0]
        yield from sorted(path.name for path in above.iterdir() if path.is_dir()) if above.is_dir() else ()


def _entries(call: _Call, name: str) -> list[str]:
    """Return the entries that a list has now: the one thing for which a file must be read."""
    from roundgate.core.values.several import entries_of
    from roundgate.host.errors import Trouble
    from roundgate.host.servers import Server
    from roundgate.host.workspace import Workspace

    found: list[str] = []
    for word in call.named if call.site else ():
        try:
            assert call.site is not None
            files = Workspace(Server(call.site, word)).read().files
            if name in files.book.list:
                found += files.items(name)
            elif name in files.book.setting:
                found += entries_of(files.counting(name) or ())
        except Trouble:
            continue
    return found


def complete_preset(ctx: typer.Context, incomplete: str) -> list[str]:
    """Return the servers, then the presets, that begin with what was typed."""
    call = _Call(ctx, incomplete)
    folder = call.site.folder / "presets" if call.site else None
    own = [path.stem for path in sorted(folder.glob("*.toml"))] if folder and folder.is_dir() else []
    return call.fitting(_first(call), call.table("preset"), own)


def complete_side(ctx: typer.Context, incomplete: str) -> list[str]:
    """Return what can be compared and begins with what was typed: servers, defaults, presets."""
    call = _Call(ctx, incomplete)
    presets = [f"preset:{name}" for name in call.table("preset")]
    return call.fitting(call.servers, ["defaults"], presets)


def complete_server(ctx: typer.Context, incomplete: str) -> list[str]:
    """Return the servers and tags that begin with what was typed."""
    call = _Call(ctx, incomplete)
    tags = {f"@{tag}" for entry in (call.site.file.server.values() if call.site else ()) for tag in entry.tags}
    clusters = {f"@{name}" for name in (call.site.file.cluster if call.site else ())}
    return call.fitting(call.servers, ["@all"], sorted(tags | clusters))


def complete_server_first(ctx: typer.Context, incomplete: str) -> list[str]:
    """Return the servers and tags that begin with what was typed, for the first argument alone."""
    return complete_server(ctx, incomplete) if not _Call(ctx, incomplete).arguments else []


def after_server(needs: str, help_text: str = "") -> Any:
    """Return the argument of a verb that takes a server, which may be left out, and then what it needs."""
    return typer.Argument(metavar=f"[SERVER] {needs}", help=help_text or None, autocompletion=complete_server_first)


def complete_server_or_file(ctx: typer.Context, incomplete: str) -> list[str]:
    """Return the servers, their files, and the files on disk that begin with what was typed."""
    call = _Call(ctx, incomplete)
    paths = [file.get("path", "") for file in call.table("file").values() if isinstance(file, dict)]
    own = [path for path in paths if "{" not in path] if call.arguments else []
    folder, slash, start = incomplete.rpartition("/")
    home = Path(folder + slash or ".")
    near = sorted(home.iterdir()) if home.is_dir() else []
    here = [f"{folder}{slash}{path.name}{'/' if path.is_dir() else ''}" for path in near if path.name.startswith(start)]
    return call.fitting(_first(call), own, [path for path in here if start or not Path(path).name.startswith(".")])


def complete_rulebook(ctx: typer.Context, incomplete: str) -> list[str]:
    """Return the rulebooks that begin with what was typed; for ``schema`` also a rulebook's files."""
    from roundgate.host.rulebooks import rulebook_names

    call = _Call(ctx, incomplete)
    if ctx.info_name == "schema" and call.arguments:
        paths = [file.get("path", "") for file in call.table("file").values() if isinstance(file, dict)]
        return call.fitting(path for path in paths if path.endswith((".json", ".toml", ".yml", ".yaml")))
    names = rulebook_names(call.site.folder if call.site else None)
    return call.fitting(names, ["site"] if ctx.info_name == "schema" else [])
