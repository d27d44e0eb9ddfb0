"""The tables of the site file ``roundgate.toml``; see ``host.site`` for reading it."""

from __future__ import annotations

from typing import Annotated

from msgspec import Meta, Struct, field

from roundgate.host.notices.tables import NoticesTable
from roundgate.host.timetable.tables import TimetableEntry

_MARKS = "1h 30m 15m 10m 5m 2m 1m 30s 10s 5s 3s 2s 1s"


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


class CountdownTable(Struct, frozen=True, forbid_unknown_fields=True):
    """The ``[countdown]`` table: what players are told before a server goes down."""

    marks: Annotated[
        list[str],
        _about(
            "How long before they are told; a countdown begins with its whole length.", '["10m", "5m", "1m", "10s"]'
        ),
    ] = field(
        default_factory=lambda: ["1h", "30m", "15m", "10m", "5m", "2m", "1m", "30s", "10s", "5s", "3s", "2s", "1s"]
    )
    text: Annotated[
        str,
        _about(
            "What they are told: `{what}` is restarts or stops, `{left}` how long it is until then, `{because}` the "
            "reason behind a colon where there is one, `{reason}` the bare reason, `{server}` and `{time}`.",
            '"{server} {what} in {left}{because}"',
        ),
    ] = "The server {what} in {left}{because}"
    called_off: Annotated[
        str, _about("What they are told when it does not take place.", '"The restart is called off."')
    ] = field(default="The {noun} is called off.", name="called-off")


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
    countdown: CountdownTable = field(default_factory=CountdownTable)
    notices: NoticesTable = field(default_factory=NoticesTable)
    timetable: dict[str, TimetableEntry] = field(default_factory=dict)
