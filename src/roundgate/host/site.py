"""The site file ``roundgate.toml``, where everything lies, and which servers a word means."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import msgspec
from msgspec import Struct

from roundgate.core.nearest import nearest
from roundgate.core.next_step import LeftOut, Meant, did_you_mean, typed_command
from roundgate.core.rulebook.toml import RulebookProblem
from roundgate.host.cache import ParsedFiles
from roundgate.host.errors import NoSite, Trouble, UnknownName, WrongUsage
from roundgate.host.ownership import claim
from roundgate.host.site_file.checking import SITE_FILE, check_site_file, servers_meant
from roundgate.host.site_file.tables import SiteFile

STATE_FOLDER = ".roundgate"
PLACES = "places"
"""The folder, in that of the state, of the copies of rented servers' files."""
CATALOGUE = "permissions.toml"
"""The file, in the site's folder, of permissions that mods add to those of a rulebook."""


class Site(Struct, frozen=True):
    """A site: its folder and what its file says."""

    folder: Path
    file: SiteFile

    @property
    def state(self) -> Path:
        """The folder that holds what Round Gate remembers."""
        return self.folder / STATE_FOLDER

    def state_of(self, server: str) -> Path:
        """The folder that holds what Round Gate remembers of one server; made if need be, for this user only."""
        folder = self.state / "servers" / server
        if not folder.is_dir():
            make_private(self.state)
            make_private(self.state / "servers")
            make_private(folder)
        return folder

    def folder_of(self, server: str) -> Path:
        """The server's own folder; of a rented server, that of the copy of its files."""
        entry = self.file.server[server]
        return self.state / PLACES / server if entry.is_rented else self.folder / entry.folder


def site_schema() -> dict[str, Any]:
    """Return the JSON Schema of the site file, each key with what it means."""
    from roundgate.core.described import described_schema

    return described_schema(SiteFile, SITE_FILE)


def make_private(folder: Path) -> None:
    """Make a folder that only this user can enter."""
    folder.mkdir(mode=0o700, exist_ok=True)


def find_site(given: str | None, start: Path) -> Site:
    """Read the site that was named, or the nearest one upward from ``start``. Raises NoSite."""
    asked = given or os.environ.get("ROUNDGATE_SITE")
    if asked:
        path = Path(asked)
        folder = path.parent if path.name == SITE_FILE else path
        if not (folder / SITE_FILE).is_file():
            raise NoSite(f"There is no {SITE_FILE} in {folder}.", typed_command("init", "", str(folder)))
        return read_site(folder)
    for folder in (start, *start.parents):
        if (folder / SITE_FILE).is_file():
            return read_site(folder)
    raise NoSite(
        f"There is no site here: no {SITE_FILE} in {start} or above it.",
        typed_command("init", "", hint="makes one here; or name it with --site FOLDER"),
    )


def read_site(folder: Path) -> Site:
    """Read the site file of a folder. Raises Trouble with the line where it is wrong."""
    path = folder / SITE_FILE
    try:
        claim(folder, folder / STATE_FOLDER)
        raw = ParsedFiles(folder / STATE_FOLDER).toml(path)
    except RulebookProblem as error:
        place = error.findings[0].place
        raise Trouble(f"{SITE_FILE}:{place.line}:{place.column}: {error.findings[0].cause}", "Fix the line.") from error
    except (OSError, UnicodeDecodeError) as error:
        raise Trouble(f"{path} cannot be read: {error}.", "Fix the file or its permissions.") from error
    try:
        file = msgspec.convert(raw, SiteFile)
    except msgspec.ValidationError as error:
        raise Trouble(f"{SITE_FILE}: {error}.", f"Fix {path}.") from error
    site = Site(folder.resolve(), file)
    check_site_file(file)
    return site


def members_of(site: Site, cluster: str) -> list[str]:
    """Return the servers of a cluster, in the order of the site file."""
    return servers_meant(site.file, site.file.cluster[cluster].servers)


def is_server_word(site: Site, word: str) -> bool:
    """Return whether a word of the call means servers, not a setting."""
    parts = word.split(",")
    return all(part in site.file.server or part.startswith("@") for part in parts)


def choose_servers(site: Site, word: str | None, here: Path) -> list[str]:
    """Return which servers a word means: a name, several by commas, ``@tag``, ``@all``; nothing means the nearest one.

    Raises UnknownName with the nearest name, or WrongUsage where it must be said.
    """
    if not site.file.server:
        raise UnknownName("This site has no server yet.", typed_command("adopt", "", "<folder>"))
    if word is None:
        return [_server_here(site, here)]
    chosen: list[str] = []
    for part in word.split(","):
        chosen += [name for name in _named(site, part) if name not in chosen]
    return chosen


_NAMED = 8
"""So many servers are named in a message."""


def choose_one(site: Site, word: str | None, here: Path) -> str:
    """Like ``choose_servers``, where only one server makes sense. Raises WrongUsage."""
    chosen = choose_servers(site, word, here)
    if len(chosen) > 1:
        named = ", ".join(chosen[:_NAMED]) + (", ..." if len(chosen) > _NAMED else "")
        raise WrongUsage(
            f"This works on one server at a time, and '{word}' means {len(chosen)}.",
            Meant(f"Name one of {named}.", word or "", "<server>"),
        )
    return chosen[0]


def _server_here(site: Site, here: Path) -> str:
    inside = [name for name in site.file.server if _is_inside(here, site.folder_of(name))]
    if inside:
        return max(inside, key=lambda name: len(str(site.folder_of(name))))
    if len(site.file.server) == 1:
        return next(iter(site.file.server))
    names = ", ".join(site.file.server)
    raise WrongUsage("Which server?", LeftOut(f"Name one: {names}; or @all.", "<server>", is_server=True))


def _is_inside(here: Path, folder: Path) -> bool:
    return here.resolve().is_relative_to(folder.resolve())


def _named(site: Site, part: str) -> Sequence[str]:
    servers = site.file.server
    if part == "@all":
        return list(servers)
    if part.startswith("@"):
        if part[1:] in site.file.cluster:
            return members_of(site, part[1:])
        tagged = [name for name, entry in servers.items() if part[1:] in entry.tags]
        tags = sorted({tag for entry in servers.values() for tag in entry.tags} | {"all", *site.file.cluster})
        if not tagged:
            raise UnknownName(f"No server has the tag {part[1:]}.", f"Tags: {', '.join('@' + tag for tag in tags)}")
        return tagged
    if part in servers:
        return [part]
    near = nearest(part, servers)
    hint = did_you_mean(part, near) if near else f"Servers: {', '.join(servers)}"
    raise UnknownName(f"There is no server '{part}' on this site.", hint)
