"""The site file ``roundgate.toml``, where everything lies, and which servers a word means."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from pathlib import Path
from typing import Annotated, Any

import msgspec
from msgspec import Meta, Struct, field

from roundgate.core.nearest import nearest
from roundgate.core.rulebook.reading import RulebookProblem
from roundgate.host.cache import ParsedFiles
from roundgate.host.errors import NoSite, Trouble, UnknownName, WrongWords
from roundgate.host.notices.tables import NoticesTable
from roundgate.host.ownership import claim
from roundgate.host.timetable.tables import TimetableEntry

SITE_FILE = "roundgate.toml"
STATE_FOLDER = ".roundgate"
CATALOGUE = "permissions.toml"
"""The file, in the site's folder, of permissions that mods add to those of a rulebook."""
CONSOLE_KINDS = ("stdin", "tcp", "packets", "datagrams", "pipe")
DRIVER_KINDS = ("keeper", "systemd", "commands", "self")
NAME = re.compile(r"[A-Za-z][A-Za-z0-9_-]{0,39}")


def _about(words: str, example: str) -> Meta:
    """Say what a key means, with an example as TOML writes it: the schema and the documents show both."""
    return Meta(description=words, extra_json_schema={"examples": [example]})


class OwnCommands(Struct, frozen=True, forbid_unknown_fields=True):
    """The ``commands`` of a server with the driver ``commands``, each a list of words, run in the server's folder."""

    start: Annotated[
        list[str], _about("Starts it and ends. Left out: the server's own `start`.", '["podman", "start", "regatta"]')
    ] = field(default_factory=list)
    stop: Annotated[
        list[str],
        _about("Stops it. Left out: by the console and the signals of the rulebook.", '["podman", "stop", "regatta"]'),
    ] = field(default_factory=list)
    alive: Annotated[
        list[str],
        _about(
            "Ends with 0 while the server runs; a number that it prints is its process. Left out: the process is found "
            "by the rulebook's `process`.",
            '["./alive.sh"]',
        ),
    ] = field(default_factory=list)
    within: Annotated[str, _about("How long each of them may take.", '"60s"')] = "60s"


class ServerEntry(Struct, frozen=True, forbid_unknown_fields=True):
    """One ``[server.NAME]`` table of the site file."""

    folder: Annotated[
        str,
        _about(
            "The server's folder, from the site file's own.",
            '"regatta"',
        ),
    ]
    start: Annotated[
        list[str],
        _about(
            "The command that starts it, a list of words; it is run in the folder, or in `run-in`.",
            '["./launch.sh"]',
        ),
    ]
    rulebook: Annotated[
        str,
        _about(
            "The name of the rulebook: one that comes with Round Gate, or one in `rulebooks/` "
            "beside the site file, or a path. Without one, files are still addressed by "
            "`FILE:KEY`, checked and edited.",
            '"gullwind"',
        ),
    ] = ""
    edition: Annotated[
        str,
        _about(
            "Which of the rulebook's editions the server is. Needed only where a rulebook has several.",
            '"inshore"',
        ),
    ] = ""
    version: Annotated[
        str,
        _about(
            "The game's version. Left out: as the rulebook says where to find it, such as in the server's log.",
            '"2.4"',
        ),
    ] = ""
    tags: Annotated[
        list[str],
        _about(
            "Words for `@TAG`, which means all servers that have it.",
            '["ranked"]',
        ),
    ] = field(default_factory=list)
    console: Annotated[
        str,
        _about(
            'How Round Gate talks to the server: `"stdin"` (its standard input, which the keeper '
            'holds) or `"tcp"` (the rulebook\'s `[server.console]`). Left out: by TCP where the '
            "rulebook has such a console and the server's files open it, else by standard input.",
            '"tcp"',
        ),
    ] = ""
    driver: Annotated[
        str,
        _about(
            'What starts and stops it: `"keeper"`, a process of Round Gate\'s own; `"systemd"`, with `unit`; '
            '`"commands"`, with `commands`; or `"self"`, where its host starts it again whenever it ends.',
            '"keeper"',
        ),
    ] = "keeper"
    unit: Annotated[str, _about("systemd: the unit.", '"gullwind@regatta.service"')] = ""
    user_unit: Annotated[bool, _about("systemd: whether the unit is one of the user's.", "true")] = field(
        default=False, name="user-unit"
    )
    commands: Annotated[OwnCommands, _about("commands: what starts and stops it.", '{ start = ["./up"] }')] = (
        OwnCommands()
    )
    run_in: Annotated[
        str,
        _about(
            "The folder that the command is run in, from the server's own; for servers that look for their files "
            "there. Left out: the server's own.",
            '"bin"',
        ),
    ] = field(default="", name="run-in")
    user: Annotated[
        str,
        _about(
            "The user that the server runs as, where Round Gate runs as root; its HOME is that user's. Files keep "
            "their owner whoever edits them.",
            '"gullwind"',
        ),
    ] = ""
    umask: Annotated[
        str,
        _about(
            "Which rights the files that the server makes shall not have, as for the shell's `umask`.",
            '"0027"',
        ),
    ] = ""
    environment: Annotated[
        dict[str, str],
        _about(
            "Variables for the server's process, beside those that the keeper has; `{folder}` stands for the server's "
            "folder. `HOME` is one of them, for servers that read their files there.",
            '{ HOME = "{folder}/home" }',
        ),
    ] = field(default_factory=dict)
    terminal: Annotated[
        bool | None,
        _about(
            "Whether the server is started in a terminal of its own; the rulebook decides where this is left out.",
            "true",
        ),
    ] = None
    outside: Annotated[
        list[str],
        _about(
            "Folders outside the server's own that links in it may lead to. What leads anywhere else is never written.",
            '["/srv/shared"]',
        ),
    ] = field(default_factory=list)
    grace: Annotated[
        str,
        _about(
            "How long a stop may take, before the rulebook's word: `30s`, `2m`.",
            '"30s"',
        ),
    ] = ""
    start_within: Annotated[
        str,
        _about(
            "How long a start may take until the ready sign.",
            '"90s"',
        ),
    ] = field(default="", name="start-within")
    watch: Annotated[
        str,
        _about(
            "How long a server that is ready is watched before the round calls it up.",
            '"10s"',
        ),
    ] = ""
    kill: Annotated[
        bool | None,
        _about(
            "Whether a stop may end in SIGKILL; the rulebook decides where this is left out.",
            "false",
        ),
    ] = None
    restart: Annotated[
        bool,
        _about(
            "Whether the keeper starts the server again after a crash.",
            "true",
        ),
    ] = True


class SiteTable(Struct, frozen=True, forbid_unknown_fields=True):
    """The ``[site]`` table."""

    name: Annotated[str, _about("The site's name, such as the club's.", '"Saltmarsh Sailing Club"')] = ""


class ClusterTable(Struct, frozen=True, forbid_unknown_fields=True):
    """One ``[cluster.NAME]`` table: servers that share settings."""

    servers: Annotated[list[str], _about("Its servers, by name or by `@TAG`.", '["@ranked", "nightwatch"]')]
    shares: Annotated[
        list[str],
        _about("The settings and lists that must be the same on all of them.", '["tick.rate", "courses"]'),
    ]


class BackupTable(Struct, frozen=True, forbid_unknown_fields=True):
    """The ``[backup]`` table."""

    keep: Annotated[int, _about("How many backups of each server stay; 0: all of them.", "10")] = 10
    days: Annotated[int, _about("How many days a backup stays; 0: for ever. The newest one always does.", "30")] = 0
    folder: Annotated[
        str, _about("Where they lie, from the site's folder; left out: in `.roundgate/backups`.", '"/srv/backups"')
    ] = ""


class SiteFile(Struct, frozen=True, forbid_unknown_fields=True):
    """The whole site file."""

    site: SiteTable = field(default_factory=SiteTable)
    server: dict[str, ServerEntry] = field(default_factory=dict)
    cluster: dict[str, ClusterTable] = field(default_factory=dict)
    backup: BackupTable = field(default_factory=BackupTable)
    notices: NoticesTable = field(default_factory=NoticesTable)
    timetable: dict[str, TimetableEntry] = field(default_factory=dict)


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
        """The server's own folder."""
        return self.folder / self.file.server[server].folder


def site_schema() -> dict[str, Any]:
    """Give the JSON Schema of the site file, each key with what it means."""
    made: dict[str, Any] = msgspec.json.schema(SiteFile)
    made["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    made["title"] = SITE_FILE
    return made


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
            raise NoSite(f"There is no {SITE_FILE} in {folder}.", "roundgate init " + str(folder))
        return read_site(folder)
    for folder in (start, *start.parents):
        if (folder / SITE_FILE).is_file():
            return read_site(folder)
    raise NoSite(
        f"There is no site here: no {SITE_FILE} in {start} or above it.",
        "roundgate init, to make one here; or name it with --site FOLDER",
    )


def read_site(folder: Path) -> Site:
    """Read the site file of a folder. Raises Trouble with the line where it is wrong."""
    path = folder / SITE_FILE
    try:
        claim(folder, folder / STATE_FOLDER)
        raw = ParsedFiles(folder / STATE_FOLDER).toml(path)
    except RulebookProblem as error:
        place = error.findings[0].place
        raise Trouble(
            f"{SITE_FILE}:{place.line}:{place.column}: {error.findings[0].cause}", "Mend the line."
        ) from error
    except (OSError, UnicodeDecodeError) as error:
        raise Trouble(f"{path} cannot be read: {error}.", "Mend the file or its permissions.") from error
    try:
        file = msgspec.convert(raw, SiteFile)
    except msgspec.ValidationError as error:
        raise Trouble(f"{SITE_FILE}: {error}.", f"Mend {path}.") from error
    wrong = next((name for name in file.server if not NAME.fullmatch(name)), None)
    if wrong is not None:
        raise Trouble(f"{SITE_FILE}: '{wrong}' cannot be a server's name.", "Use letters, digits, - and _.")
    for name, entry in file.server.items():
        _refuse_unknown(name, "console", entry.console, ("", *CONSOLE_KINDS))
        _refuse_unknown(name, "driver", entry.driver, DRIVER_KINDS)
        if entry.driver == "systemd" and not entry.unit:
            raise Trouble(f"{SITE_FILE}: {name} needs a 'unit' for the driver systemd.", f"Mend {SITE_FILE}.")
        if entry.umask and not re.fullmatch(r"[0-7]{1,4}", entry.umask):
            raise Trouble(f"{SITE_FILE}: '{entry.umask}' of {name} is no umask.", 'Write octal digits: umask = "0027".')
    if file.backup.keep < 0 or file.backup.days < 0:
        raise Trouble(f"{SITE_FILE}: 'keep' and 'days' of [backup] cannot be below 0.", f"Mend {SITE_FILE}.")
    if file.notices.recipients:
        from roundgate.host.notices.checking import check_notices  # most sites have none

        tags = {tag for entry in file.server.values() for tag in entry.tags} | {"all"}
        check_notices(file.notices, set(file.server), tags)
    site = Site(folder.resolve(), file)
    for name, cluster in file.cluster.items():
        _check_cluster(site, name, cluster)
    return site


def _check_cluster(site: Site, name: str, cluster: ClusterTable) -> None:
    """See that a cluster has a name of its own, and servers that there are. Raises Trouble."""
    tags = {tag for entry in site.file.server.values() for tag in entry.tags} | {"all"}
    if not NAME.fullmatch(name) or name in tags:
        raise Trouble(f"{SITE_FILE}: a cluster cannot be called '{name}'.", "Use a word that is no tag.")
    for word in cluster.servers:
        if word not in site.file.server and not (word.startswith("@") and word[1:] in tags):
            raise Trouble(f"{SITE_FILE}: the cluster {name} has no server '{word}' to take in.", f"Mend {SITE_FILE}.")


def members_of(site: Site, cluster: str) -> list[str]:
    """Give the servers of a cluster, in the order of the site file."""
    words = site.file.cluster[cluster].servers
    return [
        name
        for name, entry in site.file.server.items()
        if any(word in (name, "@all") or word[1:] in entry.tags for word in words)
    ]


def _refuse_unknown(server: str, key: str, word: str, known: Sequence[str]) -> None:
    if word not in known:
        hint = f"Write one of {', '.join(one for one in known if one)} as '{key}'."
        raise Trouble(f"{SITE_FILE}: '{word}' of {server} is no kind of {key}.", hint)


def is_server_word(site: Site, word: str) -> bool:
    """Tell whether a word of the call means servers, not a setting."""
    parts = word.split(",")
    return all(part in site.file.server or part.startswith("@") for part in parts)


def choose_servers(site: Site, word: str | None, here: Path) -> list[str]:
    """Tell which servers a word means: a name, several by commas, ``@tag``, ``@all``; nothing means the nearest one.

    Raises UnknownName with the nearest name, or WrongWords where it must be said.
    """
    if not site.file.server:
        raise UnknownName("This site has no server yet.", "roundgate adopt FOLDER")
    if word is None:
        return [_server_here(site, here)]
    chosen: list[str] = []
    for part in word.split(","):
        chosen += [name for name in _named(site, part) if name not in chosen]
    return chosen


def choose_one(site: Site, word: str | None, here: Path) -> str:
    """Like ``choose_servers``, where only one server makes sense. Raises WrongWords."""
    chosen = choose_servers(site, word, here)
    if len(chosen) > 1:
        raise WrongWords(f"This goes for one server at a time, and '{word}' means {len(chosen)}.", "Name one of them.")
    return chosen[0]


def _server_here(site: Site, here: Path) -> str:
    inside = [name for name in site.file.server if _is_inside(here, site.folder_of(name))]
    if inside:
        return max(inside, key=lambda name: len(str(site.folder_of(name))))
    if len(site.file.server) == 1:
        return next(iter(site.file.server))
    raise WrongWords("Which server?", f"Name one: {', '.join(site.file.server)}; or @all.")


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
    hint = f"Did you mean {near}?" if near else f"Servers: {', '.join(servers)}"
    raise UnknownName(f"There is no server '{part}' on this site.", hint)
