"""The rulebook as plain typed values, in the shape in which its TOML file is written.

Nothing of a game is in code; all of it is in values of these types. Numbers are in the unit that the file uses.
"""

from __future__ import annotations

from typing import Literal

from msgspec import Struct, field

from roundgate.core.formats.protocol import USUAL, Dialect

TomlValue = bool | int | float | str
"""A value as TOML writes it."""

Takes = Literal["live", "restart", "new-world"]


class Model(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Common to every part: frozen, and a name that the language does not know is an error."""


class Version(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Where the server's version can be read: a file in its folder, and a pattern with a group ``version``."""

    file: str
    match: str


class About(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """The ``[rulebook]`` table."""

    name: str
    title: str = ""
    layers: tuple[str, ...] = ()
    editions: tuple[str, ...] = ()
    version: Version | None = None


class File(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One file of the server, its path relative to the server's folder."""

    path: str
    format: str
    about: str = ""
    rewritten: Literal["never", "at-start", "at-stop", "while-running"] = "never"
    made: Literal["shipped", "first-run", "by-hand"] = "shipped"
    owner: Literal["site", "game"] = "site"
    dialect: Dialect = USUAL
    """How the game reads the file, where its format leaves room."""


class Live(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """How a setting is set and read at the live console; ``{value}`` stands for the stored value."""

    set: str = ""
    read: str = ""
    match: str = ""


class Blocked(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Words that may not stand inside a text, and what happens when they do."""

    words: tuple[str, ...]
    because: str = ""


class Setting(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One named value of a server."""

    file: str
    key: str
    type: str
    default: TomlValue | None = None
    about: str = ""
    advice: str = ""
    advice_when: str = ""
    """An expression like a rule's; the advice is given only where it holds. Empty: always."""
    range: tuple[float, float] | None = None
    step: float | None = None
    length: tuple[int, int] | None = None
    stored: str = ""
    """The unit, or the form, in which the file holds the value: ``minutes``, ``megabytes``, ``fraction``."""
    suffix: str = ""
    """size: the letter that the file writes behind the number, such as ``M`` for megabytes."""
    special: dict[str, TomlValue] = field(default_factory=dict)
    choices: dict[str, str] = field(default_factory=dict)
    spelling: tuple[str, str] = ("true", "false")
    pattern: str = ""
    example: str = ""
    blocked: Blocked | None = None
    line_break: str = field(default="", name="line-break")
    schemes: tuple[str, ...] = ("http", "https")
    takes: Takes = "restart"
    fixed_by: str = ""
    tier: Literal["basic", "advanced"] = "basic"
    live: Live | None = None
    shown: str = ""
    """A pattern of the start log whose group ``value`` shows what the server took."""


class ItemKind(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What an entry of a list may be: built-in names, a pattern, and how to say it."""

    about: str = ""
    catalogue: tuple[str, ...] = ()
    pattern: str = ""
    example: str = ""
    advice: str = ""


class ListOf(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """An ordered list of plain values that fills a file."""

    file: str
    item: str
    about: str = ""
    advice: str = ""
    least: int = 0
    most: int | None = None
    unique: bool = False
    takes: Takes = "restart"


class Rule(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What must hold across settings and lists."""

    name: str
    needs: str
    say: str
    level: Literal["error", "warning", "note"] = "error"
    do: str = ""


class Preset(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A named set of values."""

    set: dict[str, TomlValue]
    about: str = ""


class Probe(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A question to a port and the answer that shows the server is at home there."""

    send: str = ""
    match: str = ""


class Port(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A port that the running server must own; ``setting`` and ``address`` name settings."""

    setting: str
    address: str = ""
    protocol: Literal["tcp", "udp"] = "udp"
    needs: str = ""
    """An expression: the port is only opened where it holds."""
    probe: Probe | None = None


class TcpConsole(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A text line console on TCP that asks for a password first."""

    port: str
    password: str
    address: str = ""
    needs: str = ""
    """An expression: the server opens this console only where it holds."""
    asks: str = ""
    welcome: str = ""
    refused: str = ""


class Lobby(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """The public list of servers: where it answers, and how to find oneself in it."""

    url: str
    items: str = ""
    ours: dict[str, str] = field(default_factory=dict)
    shows: dict[str, str] = field(default_factory=dict)
    needs: str = ""
    within: str = "10s"


class Server(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """How the server's process behaves, and what its log and console say."""

    process: str = ""
    """A pattern of the command line by which the server's process is known, however it was started."""
    ready: str = ""
    stop: str = ""
    signals: tuple[str, ...] = ("SIGTERM",)
    kill: bool = False
    grace: str = "20s"
    start_within: str = field(default="60s", name="start-within")
    watch: str = "5s"
    say: str = ""
    slots: str = ""
    """The setting that says how many players the server takes."""
    failures: tuple[str, ...] = ()
    joined: str = ""
    left: str = ""
    worlds: tuple[str, ...] = ()
    """Folders that hold worlds, saved with a round where asked."""
    console: TcpConsole | None = None
    port: tuple[Port, ...] = ()
    lobby: Lobby | None = None


class Rulebook(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A whole rulebook."""

    rulebook: About
    file: dict[str, File] = field(default_factory=dict)
    setting: dict[str, Setting] = field(default_factory=dict)
    list: dict[str, ListOf] = field(default_factory=dict)
    kind: dict[str, ItemKind] = field(default_factory=dict)
    rule: tuple[Rule, ...] = ()
    preset: dict[str, Preset] = field(default_factory=dict)
    server: Server = field(default_factory=Server)

    @property
    def name(self) -> str:
        """The rulebook's name."""
        return self.rulebook.name


NO_RULEBOOK = Rulebook(rulebook=About(name="none", title="no rulebook"))
"""For a server whose game nobody has described: its files are still addressed, checked and edited."""
