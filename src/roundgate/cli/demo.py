"""Site: ``demo`` makes the Saltmarsh site, starts its stand-in servers, and tells a story with real commands."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path
from typing import Annotated

import typer

from roundgate.cli.demo_site import copy_files, free_ports, new_folder, run, stop_all, tell, write_old_logs
from roundgate.cli.leaving import ended_in_order, undisturbed
from roundgate.cli.screen.output import echo, styled
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
