"""Site: ``demo --rented`` adopts a server on a rented machine, which is a stand-in, and tells a story."""

from __future__ import annotations

import json
import os
import socket
import subprocess
import time
from pathlib import Path

from roundgate.cli.demo_site import copy_files, free_ports, stop_all, tell, write_old_logs
from roundgate.cli.leaving import ended_in_order, undisturbed
from roundgate.cli.screen.output import echo, styled
from roundgate.host.errors import Trouble
from roundgate.host.keeper.interpreter import own

_SITE = """[site]
name = "Saltmarsh Sailing Club"

[notices]
secrets = "secrets.toml"
"""
_BY_REQUESTS = """driver = "requests"
watch = "1s"
start-within = "20s"

[server.regatta.requests]
base = "http://127.0.0.1:{port}"
headers = {{ X-Berth-Key = "{{secret.berth}}" }}
start = {{ url = "{{base}}/cast-off" }}
stop = {{ url = "{{base}}/moor" }}
state = {{ url = "{{base}}/", at = "berth.is", up = ["sailing"], down = ["moored"] }}
"""
_STORY: tuple[tuple[str, str], ...] = (
    (
        "A server on a rented machine, by FTP with TLS. Its password is among the site's secrets. Each step is tried.",
        "adopt ftps://club@127.0.0.1:{files}/regatta --certificate files.pem",
    ),
    ("@requests", ""),
    ("And now it can be started from here.", "start regatta"),
    ("What is there to set? The same commands as for a server of this machine.", "show regatta race"),
    ("More boats, and a longer idle time. Both wait on the slate.", "set regatta race.slots=24 idle.drop=10m"),
    (
        "Into force: the service stops it, each file is sent, read back and exchanged, and it starts and is proven.",
        'apply regatta --yes --reason "more boats"',
    ),
    ("@edit", ""),
    ("Somebody edited a file there with a file client, while the server runs.", "status regatta"),
    ("Round Gate keeps that edit, as the server would overwrite it when it stops.", "restart regatta"),
    ("The worlds, fetched and verified.", "backup make regatta"),
    (
        "Who was there in the last week? What is new in the logs is fetched, packed ones too.",
        "people seen regatta --since 7d",
    ),
    ("@away", ""),
    ("The rented machine does not answer. What is known is shown, and changes wait.", "set regatta laps.count=6"),
    ("@back", ""),
    ("It is back, and down. The change goes into force with the start.", "apply regatta --yes --start"),
    ("What has happened so far?", "rounds"),
)
_PASSWORD, _KEY = "ebb-and-flow-3", "berth-key-4"
_ANSWERS_WITHIN = 20.0


def demo_rented(folder: Path, *, keep: bool) -> None:
    """Tell the story in a new folder. Raises Trouble."""
    site, home = folder / "club", folder / "rented-machine" / "files" / "regatta"
    home.mkdir(parents=True)
    site.mkdir()
    place = _Place(site, home)
    is_done = False
    with ended_in_order():
        try:
            _make_files(site, home, place)
            place.open()
            echo(f"The demo site is in {site}, and what stands for a rented machine beside it.")
            for text, command in _STORY:
                _tell(site, place, text, command)
            is_done = True
        finally:
            if not (keep and is_done):
                with undisturbed():
                    stop_all(site)
                    place.close()
    _say_how_to_go_on(site, place if keep else None)


class _Place:
    """What stands for a rented machine: a file service, a service that starts and stops the game, and the game."""

    def __init__(self, site: Path, home: Path) -> None:
        self.files, self.power, self.game, self.console = free_ports(4)
        self.home = home
        habits = {"no_rename_over": True, "connections": 2, "stays": True}
        self._habits = json.dumps({"tls": str(site / "files.pem"), "password": _PASSWORD, "key": _KEY, **habits})
        self.process: subprocess.Popen[bytes] | None = None

    def open(self) -> None:
        """Begin to serve. Raises Trouble."""
        words = (str(self.home), str(self.files), str(self.power), self._habits)
        nowhere = subprocess.DEVNULL
        self.process = subprocess.Popen(
            own("gullwind_standin.place", *words),
            stdin=nowhere,
            stdout=nowhere,
            stderr=nowhere,
            start_new_session=True,
        )
        until = time.monotonic() + _ANSWERS_WITHIN
        while not (_answers(self.files) and _answers(self.power)):
            if time.monotonic() > until:
                raise Trouble("The stand-in for a rented machine does not answer.")
            time.sleep(0.05)

    def close(self) -> None:
        """End, and the game with it."""
        if self.process is not None:
            self.process.terminate()
            self.process.wait()
            self.process = None


def _answers(port: int) -> bool:
    with socket.socket() as trial:
        return trial.connect_ex(("127.0.0.1", port)) == 0


def _make_files(site: Path, home: Path, place: _Place) -> None:
    """Make the site without a server, and the server's files on the rented machine."""
    copy_files("regatta", home, {"@PORT2@": str(place.game), "http://127.0.0.1:@LOBBY@": ""})
    properties = home / "gullwind.properties"
    text = properties.read_text("utf-8").replace("lobby.listed=true", "lobby.listed=false")
    text = "".join(line for line in text.splitlines(keepends=True) if not line.startswith("lobby.url"))
    more = f"console.open=true\nconsole.port={place.console}\nconsole.code={_PASSWORD}\n"
    properties.write_text(text + more, "utf-8")
    (home / "saves").mkdir()
    write_old_logs(home.parent, ["regatta"])
    (site / "roundgate.toml").write_text(_SITE, "utf-8")
    secrets = site / "secrets.toml"
    secrets.write_text(f'regatta-files = "{_PASSWORD}"\nberth = "{_KEY}"\n', "utf-8")
    secrets.chmod(0o600)


def _tell(site: Path, place: _Place, text: str, command: str) -> None:
    if text == "@requests":
        _describe_requests(site, place.power)
    elif text == "@edit":
        path = place.home / "gullwind.properties"
        path.write_text(path.read_text("utf-8") + "gust.limit=15\n", "utf-8")
    elif text == "@away":
        place.close()
    elif text == "@back":
        place.open()
    else:
        tell(site, text, command.format(files=place.files))


def _describe_requests(site: Path, port: int) -> None:
    """Write into the site file how its service starts and stops the server, and show that."""
    path = site / "roundgate.toml"
    before, _, _ = path.read_text("utf-8").partition('driver = "by-hand"')
    table = _BY_REQUESTS.format(port=port)
    path.write_text(before + table, "utf-8")
    echo()
    echo(styled("# Its service takes HTTP requests, so nobody needs to press a button. In roundgate.toml:", "cyan"))
    for line in table.splitlines():
        echo(f"    {line}".rstrip())


def _say_how_to_go_on(site: Path, place: _Place | None) -> None:
    shown = os.path.relpath(site)
    echo()
    if place is None:
        echo(styled("# That was it. What stood for a rented machine has ended; with --keep it goes on.", "cyan"))
        return
    assert place.process is not None
    echo(styled("# That was it. To go on by yourself:", "cyan"))
    echo(f"  cd {shown if len(shown) < len(str(site)) else site}")
    echo("  roundgate place check regatta")
    echo("  roundgate show regatta")
    echo(f"  kill {place.process.pid}     to end the rented machine, and the server with it")
