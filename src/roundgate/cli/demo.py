"""Site: ``demo`` makes the Saltmarsh site, starts its stand-in servers, and tells a story with real commands."""

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
from typing import Annotated

import typer

from roundgate.cli.leaving import ended_in_order, undisturbed
from roundgate.cli.screen.output import echo, styled
from roundgate.host.errors import Busy, Trouble
from roundgate.host.keeper.interpreter import own

_STORY: tuple[tuple[str, str], ...] = (
    (
        "Three servers of a made-up sailing club, all stand-ins that behave as real ones do. What state are they in?",
        "status",
    ),
    ("What is there to set on the regatta server, and what does it hold now?", "show regatta"),
    (
        "A wrong value. The server itself would silently take it, and the lobby would hide it.",
        "set regatta race.slots=40",
    ),
    (
        "A right one, and a longer idle time, as people say it. Nothing happens yet: both wait on the slate.",
        "set regatta race.slots=24 idle.drop=10m",
    ),
    ("What will that mean?", "slate regatta"),
    (
        "Into force: the players are notified, the server stops, the files are written, it starts, and it is proven.",
        'apply regatta --yes --countdown 2s --reason "more boats"',
    ),
    ("@edit", ""),
    (
        "Somebody edited harbour's file by hand while it runs. The server would overwrite that when it stops.",
        "status harbour",
    ),
    ("Round Gate keeps such an edit: it replays it after the stop.", "restart harbour"),
    ("And there it is, read back from the running server.", "show harbour gust.limit"),
    (
        "A change that passes every check, and still the server does not start with it.",
        "set nightwatch tick.rate=60",
    ),
    ("The round is not proven, so it is undone: old files, server up.", "apply nightwatch --yes"),
    (
        "Knot sailed into the moored boats again last night. A ban for a week, at once, in the running server too.",
        "add regatta bans Knot --until 7d --now",
    ),
    ("Who is what on which server?", "roster"),
    ("What has happened so far?", "rounds"),
    ("All three are up.", "status"),
)


def demo(
    folder: Annotated[
        Path | None, typer.Argument(metavar="[FOLDER]", help="Where to make the site; a new folder if left out.")
    ] = None,
    keep: Annotated[bool, typer.Option("--keep", help="Leave the servers running at the end.")] = False,
    rented: Annotated[
        bool, typer.Option("--rented", help="Instead, one server on a rented machine, reached by its address.")
    ] = False,
) -> None:
    """Try everything: a made-up club's site with three stand-in servers, in under a minute."""
    if rented:
        from roundgate.cli.demo_rented import demo_rented  # it needs the stand-in for a rented place

        demo_rented(new_folder(folder), keep=keep)
        return
    site = new_folder(folder)
    is_done = False
    with ended_in_order():
        lobby, port = _start_lobby(site)
        try:
            _make_site(site, port)
            echo(f"The demo site is in {site}")
            run(site, "start @all", quiet=True)
            for text, command in _STORY:
                tell(site, text, command)
            is_done = True
        finally:
            # Whoever ends it halfway is not told how to stop what runs.
            if not (keep and is_done):
                with undisturbed():
                    stop_all(site)
                    lobby.terminate()
                    lobby.wait()
    _say_how_to_go_on(site, lobby.pid if keep else None)


def stop_all(site: Path) -> None:
    """Stop the servers; a round that was just begun goes on without the command that began it, and holds its server."""
    until = time.monotonic() + _ROUNDS_END_WITHIN
    while run(site, "stop @all", quiet=True) == Busy.exit_code and time.monotonic() < until:
        time.sleep(_PAUSE)  # a round tells its end to the command that began it alone


_ROUNDS_END_WITHIN = 60.0
_PAUSE = 0.2


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


def _start_lobby(site: Path) -> tuple[subprocess.Popen[str], int]:
    """Start the lobby on any free port; return its process and port."""
    lobby = subprocess.Popen(
        own("gullwind_standin.main", "--lobby", "0", "--delay", "0.3"),
        stdout=subprocess.PIPE,
        stdin=subprocess.DEVNULL,
        # With --keep it outlives this command, and whoever reads its output would wait for the lobby to end.
        stderr=subprocess.DEVNULL,
        text=True,
        cwd=site,
        start_new_session=True,
    )
    assert lobby.stdout is not None
    line = lobby.stdout.readline()
    return lobby, int(line.rpartition(":")[2])


def _make_site(site: Path, lobby: int) -> None:
    """Copy the demo's files, with free ports in them."""
    replacements = {"@LOBBY@": str(lobby)}
    replacements |= {f"@PORT{number}@": str(port) for number, port in enumerate(free_ports(3), start=1)}
    copy_files("", site, replacements)
    write_old_logs(site, ("regatta", "harbour"))


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


_FIRST_PORT, _LAST_PORT = 28_000, 32_000
"""Below the ports that the system gives to whoever asks for any: until a server starts, nobody else takes them. Above
those that the game has by default: the demo is in nobody's way."""


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


def _say_how_to_go_on(site: Path, lobby: int | None) -> None:
    shown = os.path.relpath(site)
    echo()
    echo(styled("# That was it. To go on by yourself:", "cyan"))
    echo(f"  cd {shown if len(shown) < len(str(site)) else site}")
    if lobby is None:
        echo("  roundgate start @all        (they are stopped now)")
    echo("  roundgate show harbour")
    echo("  roundgate explain idle.drop")
    if lobby is not None:
        echo(f"  roundgate stop @all; kill {lobby}     to end the servers and the lobby")
