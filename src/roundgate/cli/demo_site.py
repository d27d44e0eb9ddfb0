"""What both demos need: folders, the made-up files, free ports, and a story told by real commands."""

from __future__ import annotations

import os
import shlex
import socket
import subprocess
import sys
import time
from collections.abc import Sequence
from datetime import datetime, timedelta
from importlib import resources
from pathlib import Path

from roundgate.cli.screen.output import echo, styled
from roundgate.host.errors import Busy, Trouble
from roundgate.host.keeper.interpreter import own

_ROUNDS_END_WITHIN = 60.0
_PAUSE = 0.2
_FIRST_PORT, _LAST_PORT = 28_000, 32_000
"""Below the ports that the system gives to whoever asks for any: until a server starts, nobody else takes them. Above
those that the game has by default: the demo is in nobody's way."""


def stop_all(site: Path) -> None:
    """Stop the servers; a round that was just begun goes on without the command that began it, and holds its server."""
    until = time.monotonic() + _ROUNDS_END_WITHIN
    while run(site, "stop @all", quiet=True) == Busy.exit_code and time.monotonic() < until:
        time.sleep(_PAUSE)  # a round tells its end to the command that began it alone


def new_folder(given: Path | None) -> Path:
    """Return the folder that was named, or one of a new name, empty. Raises Trouble."""
    if given is not None:
        if given.exists() and any(given.iterdir()):
            raise Trouble(f"{given} is not empty.", "Name another folder, or leave it out.")
        given.mkdir(parents=True, exist_ok=True)
        return given.resolve()
    for number in range(1, 1000):
        folder = Path.cwd() / ("saltmarsh-demo" if number == 1 else f"saltmarsh-demo-{number}")
        if not folder.exists():
            folder.mkdir()
            return folder
    raise Trouble("There are a thousand demo folders here.", "Name a folder.")


def copy_files(name: str, target: Path, replacements: dict[str, str]) -> None:
    """Copy the demo's files, or those of one server, with these words replaced."""
    source = Path(str(resources.files("roundgate.demo"))) / "site" / name
    words = {**replacements, "@BIN@": str(Path(sys.executable).parent)}
    words["@IN_30_DAYS@"] = f"{datetime.now() + timedelta(days=30):%Y-%m-%d}"
    for path in sorted(source.rglob("*")):
        made = target / path.relative_to(source)
        if path.is_dir():
            made.mkdir(exist_ok=True)
            continue
        text = path.read_text("utf-8")
        for word, value in words.items():
            text = text.replace(word, value)
        made.write_text(text, "utf-8")
        made.chmod(0o755 if path.suffix == ".sh" else 0o644)


def write_old_logs(folder: Path, names: Sequence[str]) -> None:
    """Write logs of three weeks, up to yesterday, for servers in a folder."""
    from roundgate.demo.logs import write_logs

    for seed, name in enumerate(names):
        write_logs(folder / name / "logs", datetime.now() - timedelta(days=1), seed)


def free_ports(count: int) -> list[int]:
    """Return ports that nobody uses. Raises Trouble."""
    found: list[int] = []
    for port in range(_FIRST_PORT, _LAST_PORT):
        with socket.socket() as trial:
            try:
                trial.bind(("127.0.0.1", port))
            except OSError:
                continue
        found.append(port)
        if len(found) == count:
            return found
    raise Trouble("The demo found no free ports on this machine.", f"It looks from {_FIRST_PORT} on.")


def tell(site: Path, text: str, command: str) -> None:
    """Tell a step of the story, and run its command."""
    if text == "@edit":
        path = site / "harbour" / "gullwind.properties"
        path.write_text(path.read_text("utf-8").replace("gust.limit=12", "gust.limit=15"), "utf-8")
        return
    echo()
    echo(styled(f"# {text}", "cyan"))
    run(site, command)


def run(site: Path, command: str, *, quiet: bool = False) -> int:
    """Run a real command, its output as it comes; return its exit code."""
    if not quiet:
        echo(f"{styled('$', 'green')} roundgate {command}")
    sys.stdout.flush()
    environment = {key: value for key, value in os.environ.items() if key != "ROUNDGATE_SITE"}
    code = subprocess.run(
        own("roundgate", *shlex.split(command)),
        cwd=site,
        env=environment,
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL if quiet else None,
        stderr=subprocess.STDOUT if not quiet else None,
        check=False,
    ).returncode
    if code and not quiet:
        echo(styled(f"  (exit code {code})", "dim"))
    return code
