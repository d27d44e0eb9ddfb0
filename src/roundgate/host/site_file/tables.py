"""The tables of the site file ``roundgate.toml``; see ``host.site`` for reading it."""

from msgspec import Struct, field

from roundgate.host.notices.tables import NoticesTable
from roundgate.host.timetable.tables import TimetableEntry

_MARKS = "1h 30m 15m 10m 5m 2m 1m 30s 10s 5s 3s 2s 1s"


class OwnCommands(Struct, frozen=True, forbid_unknown_fields=True):
    """The ``commands`` of a server whose driver is ``commands``: argument lists, run in the server's folder."""

    start: list[str] = field(default_factory=list)
    """Starts it and ends. Left out: the server's own `start`.

    Example: ["podman", "start", "regatta"]
    """
    stop: list[str] = field(default_factory=list)
    """Stops it. Left out: by the console and the signals of the rulebook.

    Example: ["podman", "stop", "regatta"]
    """
    alive: list[str] = field(default_factory=list)
    """Ends with 0 while the server runs; a number that it prints is its process. Left out: the process is found by
    the rulebook's `process`.

    Example: ["./alive.sh"]
    """
    within: str = "60s"
    """How long each of them may take.

    Example: "60s"
    """


class HttpCall(Struct, frozen=True, forbid_unknown_fields=True):
    """One request to the service that starts and stops a rented server; `{base}` and secrets are filled in."""

    url: str = ""
    """Where it goes.

    Example: "{base}/cast-off"
    """
    method: str = "POST"
    """Its method.

    Example: "DELETE"
    """
    body: dict[str, str | int | bool] = field(default_factory=dict)
    """What it says, sent as JSON; nothing where this is left out.

    Example: { grace = 20 }
    """


class HttpState(Struct, frozen=True, forbid_unknown_fields=True):
    """How a service tells in which state a rented server is: a request, and where in its JSON the word is."""

    url: str = ""
    """Where it is asked, by GET.

    Example: "{base}"
    """
    at: str = ""
    """The names that lead to the word, with dots between them.

    Example: "berth.is"
    """
    up: list[str] = field(default_factory=list)
    """The words that mean up.

    Example: ["sailing"]
    """
    down: list[str] = field(default_factory=list)
    """The words that mean down. Any other word means that it is on its way.

    Example: ["moored"]
    """


class PowerRequests(Struct, frozen=True, forbid_unknown_fields=True):
    """The ``requests`` of a server whose driver is ``requests``."""

    base: str = ""
    """What `{base}` stands for.

    Example: "https://berths.saltmarsh.example/8f2"
    """
    headers: dict[str, str] = field(default_factory=dict)
    """Headers of every request, with secrets as `{secret.NAME}`.

    Example: { X-Berth-Key = "{secret.berth}" }
    """
    start: HttpCall = HttpCall()
    """Starts it.

    Example: { url = "{base}/cast-off" }
    """
    stop: HttpCall = HttpCall()
    """Stops it.

    Example: { url = "{base}/moor" }
    """
    kill: HttpCall = HttpCall()
    """Ends it by force, where a stop may end so.

    Example: { method = "DELETE", url = "{base}/crew" }
    """
    state: HttpState = HttpState()
    """Tells whether it is up.

    Example: { url = "{base}", at = "berth.is", up = ["sailing"], down = ["moored"] }
    """


class ByHand(Struct, frozen=True, forbid_unknown_fields=True):
    """What a person is to press where the driver is ``by-hand``, in the words of the service's page."""

    start: str = ""
    """To start it.

    Example: "Press Start on the club's server page"
    """
    stop: str = ""
    """To stop it.

    Example: "Press Stop on the club's server page"
    """


class ServerEntry(Struct, frozen=True, forbid_unknown_fields=True):
    """One ``[server.NAME]`` table of the site file."""

    folder: str
    """The server's folder, from the site file's own; or the address of one on a rented machine, by SFTP
    (`sftp://`), or by FTP with TLS (`ftps://`) or without (`ftp://`).

    Example: "regatta"
    """
    start: list[str] = field(default_factory=list)
    """The command that starts it, a list of arguments; it is run in the folder, or in `run-in`. A rented server has
    none.

    Example: ["./launch.sh"]
    """
    rulebook: str = ""
    """The name of the rulebook: one that comes with Round Gate, or one in `rulebooks/` beside the site file, or a
    path. Without one, files are still addressed by `FILE:KEY`, checked and edited.

    Example: "gullwind"
    """
    edition: str = ""
    """Which of the rulebook's editions the server is. Needed only where a rulebook has several.

    Example: "inshore"
    """
    version: str = ""
    """The game's version. Left out: as the rulebook says where to find it, such as in the server's log.

    Example: "2.4"
    """
    tags: list[str] = field(default_factory=list)
    """Words for `@TAG`, which means all servers that have it.

    Example: ["ranked"]
    """
    console: str = ""
    """How Round Gate talks to the server: `"stdin"` (its standard input, which the keeper holds) or `"tcp"` (the
    rulebook's `[server.console]`). Left out: by TCP where the rulebook has such a console and the server's files
    open it, else by standard input.

    Example: "tcp"
    """
    driver: str = "keeper"
    """What starts and stops it: `"keeper"`, a process of Round Gate's own; `"systemd"`, with `unit`; `"commands"`,
    with `commands`; or `"self"`, where its host starts it again whenever it ends. A rented server: `"requests"`, by
    HTTP with `requests`, or `"by-hand"`, by a person who is told what to press.

    Example: "keeper"
    """
    unit: str = ""
    """With `systemd`: the unit.

    Example: "gullwind@regatta.service"
    """
    user_unit: bool = field(default=False, name="user-unit")
    """With `systemd`: whether the unit is one of the user's.

    Example: true
    """
    commands: OwnCommands = OwnCommands()
    """With `commands`: what starts and stops it.

    Example: { start = ["./up"] }
    """
    requests: PowerRequests = PowerRequests()
    """With `requests`: what is asked of the service that starts and stops a rented server.

    Example: { base = "https://berths.saltmarsh.example/8f2" }
    """
    by_hand: ByHand = field(default=ByHand(), name="by-hand")
    """With `by-hand`: what a person is to press.

    Example: { stop = "Press Stop", start = "Press Start" }
    """
    address: str = ""
    """Of a rented server: where its ports are looked for. Left out: the machine that has its files.

    Example: "play.saltmarsh.example"
    """
    password: str = ""
    """Of a rented server: the secret that signs in where its files are, as `{secret.NAME}`; see `[notices] secrets`.
    Left out with SFTP: keys and the agent, as `ssh` has them.

    Example: "{secret.files}"
    """
    certificate: str = ""
    """Of a rented server: a file, from the site's folder, with the certificate of a file service that no authority
    has signed.

    Example: "files.pem"
    """
    ssh_config: str = field(default="", name="ssh-config")
    """Of a rented server whose files are reached by SFTP: a file for `ssh`, from the site's folder, in place of your
    own configuration.

    Example: "ssh.conf"
    """
    insecure: bool = False
    """Of a rented server: whether plain FTP may be used, which sends the password in the clear.

    Example: true
    """
    run_in: str = field(default="", name="run-in")
    """The folder that the command is run in, from the server's own; for servers that look for their files there.
    Left out: the server's own.

    Example: "bin"
    """
    user: str = ""
    """The user that the server runs as, where Round Gate runs as root; its HOME is that user's. Files keep their
    owner whoever edits them.

    Example: "gullwind"
    """
    umask: str = ""
    """Which rights the files that the server makes should not have, as for the shell's `umask`.

    Example: "0027"
    """
    environment: dict[str, str] = field(default_factory=dict)
    """Variables for the server's process, beside those that the keeper has; `{folder}` stands for the server's
    folder. `HOME` is one of them, for servers that read their files there.

    Example: { HOME = "{folder}/home" }
    """
    terminal: bool | None = None
    """Whether the server is started in a terminal of its own; the rulebook decides where this is left out.

    Example: true
    """
    pidfile: str = ""
    """With `keeper`: the file, from the server's folder, in which a server that goes into the background writes its
    process. Left out: as the rulebook says. Without one, the start command stays itself.

    Example: "run/gullwind.pid"
    """
    outside: list[str] = field(default_factory=list)
    """Folders outside the server's own that links in it may lead to. What leads anywhere else is never written.

    Example: ["/srv/shared"]
    """
    allow: list[str] = field(default_factory=list)
    """What its rulebook may do beyond its files: `run:` and a digest let it run the commands that it has now, as the
    server's user. `roundgate rulebook allow SERVER` shows them, asks, and writes this.

    Example: ["run:5c1e0f22a91b7d30"]
    """
    grace: str = ""
    """How long a stop may take, before the rulebook's word: `30s`, `2m`.

    Example: "30s"
    """
    start_within: str = field(default="", name="start-within")
    """How long a start may take until the ready sign.

    Example: "90s"
    """
    watch: str = ""
    """How long a server that is ready is watched before the round calls it up.

    Example: "10s"
    """
    kill: bool | None = None
    """Whether a stop may end in SIGKILL; the rulebook decides where this is left out.

    Example: false
    """
    restart: bool = True
    """Whether the keeper starts the server again after a crash.

    Example: true
    """

    @property
    def is_rented(self) -> bool:
        """Whether its folder is on a rented machine."""
        return "://" in self.folder


class SiteTable(Struct, frozen=True, forbid_unknown_fields=True):
    """The ``[site]`` table."""

    name: str = ""
    """The site's name, such as the club's.

    Example: "Saltmarsh Sailing Club"
    """


class ClusterTable(Struct, frozen=True, forbid_unknown_fields=True):
    """One ``[cluster.NAME]`` table: servers that share settings."""

    servers: list[str]
    """Its servers, by name or by `@TAG`.

    Example: ["@ranked", "nightwatch"]
    """
    shares: list[str]
    """The settings and lists that must be the same on all of them.

    Example: ["tick.rate", "courses"]
    """


class CountdownTable(Struct, frozen=True, forbid_unknown_fields=True):
    """The ``[countdown]`` table: the messages to players before a server goes down."""

    marks: list[str] = field(
        default_factory=lambda: ["1h", "30m", "15m", "10m", "5m", "2m", "1m", "30s", "10s", "5s", "3s", "2s", "1s"]
    )
    """How long before they are notified; a countdown begins with its whole length.

    Example: ["10m", "5m", "1m", "10s"]
    """
    text: str = "The server {what} in {left}{because}"
    """The message: `{what}` is restarts or stops, `{left}` how long it is until then, `{because}` the reason
    after a colon where there is one, `{reason}` the bare reason, `{server}` and `{time}`.

    Example: "{server} {what} in {left}{because}"
    """
    called_off: str = field(default="The {noun} is called off.", name="called-off")
    """What they are told when it does not take place.

    Example: "The restart is called off."
    """


class BackupTable(Struct, frozen=True, forbid_unknown_fields=True):
    """The ``[backup]`` table."""

    keep: int = 10
    """How many backups of each server stay, and how many rounds keep the worlds that they saved; 0: all of them.

    Example: 10
    """
    days: int = 0
    """How many days a backup stays; 0: forever. The newest one always does.

    Example: 30
    """
    folder: str = ""
    """Where they lie, from the site's folder; left out: in `.roundgate/backups`.

    Example: "/srv/backups"
    """


class RoundsTable(Struct, frozen=True, forbid_unknown_fields=True):
    """The ``[rounds]`` table."""

    keep: int = 100
    """How many rounds of each server keep the files that they saved, so that one can go back to before them, and the
    journal of their steps; how a round ended stays. 0: all.

    Example: 100
    """


class SiteFile(Struct, frozen=True, forbid_unknown_fields=True):
    """The whole site file."""

    site: SiteTable = field(default_factory=SiteTable)
    """About the site as a whole."""
    server: dict[str, ServerEntry] = field(default_factory=dict)
    """The servers, by name."""
    cluster: dict[str, ClusterTable] = field(default_factory=dict)
    """Servers that share settings, by the cluster's name."""
    backup: BackupTable = field(default_factory=BackupTable)
    """Which backups stay."""
    rounds: RoundsTable = field(default_factory=RoundsTable)
    """How long what rounds saved stays."""
    countdown: CountdownTable = field(default_factory=CountdownTable)
    """What players are told before a server goes down."""
    notices: NoticesTable = field(default_factory=NoticesTable)
    """The recipients of notices, and the events that each receives."""
    timetable: dict[str, TimetableEntry] = field(default_factory=dict)
    """What is done when, by name."""
