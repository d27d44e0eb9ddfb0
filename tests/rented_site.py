"""A site whose only server lies on a rented place, which is a process of its own."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

from conftest import LAUNCH, SiteUnderTest, free_port, wait_for
from gullwind_standin.place import KEY, PASSWORD

REQUESTS = """driver = "requests"
[server.regatta.requests]
base = "http://127.0.0.1:{http}"
headers = {{ X-Berth-Key = "{{secret.berth}}" }}
start = {{ url = "{{base}}/cast-off" }}
stop = {{ url = "{{base}}/moor" }}
state = {{ url = "{{base}}/", at = "berth.is", up = ["sailing"], down = ["moored"] }}
"""
BY_HAND = """driver = "by-hand"
[server.regatta.by-hand]
stop = "Press Stop on the club's server page"
start = "Press Start on the club's server page"
"""


class RentedPlace:
    """The place, in a process of its own, and the site whose only server lies there."""

    def __init__(self, site: SiteUnderTest, tmp_path: Path, driver: str = REQUESTS, **habits: Any) -> None:
        self.site, self.habits = site, habits
        self.home = habits.pop("home", tmp_path / "far" / "files" / "regatta")
        self.home.mkdir(parents=True)
        far = habits.pop("address", "")
        self.ports = (0 if far else free_port()), free_port()
        self.game = free_port()
        (self.home / "gullwind.properties").write_text(
            f"server.name=Saltmarsh Regatta\nboat.slots=16\nheat.size=8\nnet.port={self.game}\n"
        )
        (self.home / "courses.txt").write_text("Harbour Mile\nThe Narrows\n")
        (self.home / "launch.sh").write_text(LAUNCH.format(python=sys.executable, more=""))
        (self.home / "launch.sh").chmod(0o755)
        more = "insecure = true\n"
        if habits.get("tls"):
            self.habits = {**habits, "tls": str(site.folder / "files.pem")}
            more = 'certificate = "files.pem"\n'
        scheme = "ftps" if habits.get("tls") else "ftp"
        address = f"{scheme}://club@127.0.0.1:{self.ports[0]}/regatta"
        access = f'folder = "{address}"\npassword = "{{secret.files}}"\n{more}'
        if far:
            access = far.format(home=self.home)
        (site.folder / "secrets.toml").write_text(f'files = "{PASSWORD}"\nberth = "{KEY}"\n')
        (site.folder / "secrets.toml").chmod(0o600)
        with (site.folder / "roundgate.toml").open("a") as file:
            file.write(
                '\n[notices]\nsecrets = "secrets.toml"\n\n[server.regatta]\n'
                f'{access}rulebook = "gullwind"\nwatch = "0.2s"\ngrace = "20s"\nstart-within = "10s"\n'
                f"{driver.format(http=self.ports[1])}\n"
            )
        self.process: subprocess.Popen[bytes] | None = None
        self.open()

    def open(self) -> None:
        """Begin to serve, also after the service has died."""
        self.close()
        words = [
            sys.executable,
            "-m",
            "gullwind_standin.place",
            str(self.home),
            *map(str, self.ports),
            json.dumps(self.habits),
        ]
        self.process = subprocess.Popen(words, stdin=subprocess.PIPE)
        wait_for(lambda: all(is_listening(port) for port in self.ports if port))

    def close(self) -> None:
        """End the service, and the game with it."""
        if self.process is not None:
            assert self.process.stdin is not None
            self.process.stdin.close()
            self.process.wait(30)
            self.process = None

    def value(self, key: str) -> str:
        text = (self.home / "gullwind.properties").read_text()
        return dict(line.split("=", 1) for line in text.splitlines())[key]

    def power(self, act: str) -> None:
        """Press a button on the service's page."""
        import urllib.request

        url = f"http://127.0.0.1:{self.ports[1]}/{act}"
        urllib.request.urlopen(urllib.request.Request(url, b"", {"X-Berth-Key": KEY})).close()

    @property
    def acts(self) -> int:
        count = self.home.parent.parent / "acts"
        return len(count.read_text().splitlines()) if count.exists() else 0

    def left(self) -> list[str]:
        """Name what was written beside its place and stayed."""
        return [path.name for path in self.home.rglob("*") if "roundgate-" in path.name]


def is_listening(port: int) -> bool:
    import socket

    try:
        socket.create_connection(("127.0.0.1", port), 1).close()
    except OSError:
        return False
    return True
