"""``adopt --running``: a server that runs already becomes one of the site, without a stop where that can be."""

from __future__ import annotations

import time
from pathlib import Path

import typer
from msgspec.structs import replace

from roundgate.cli.call import CallContext
from roundgate.cli.opening import open_call
from roundgate.cli.rounding import agreed
from roundgate.cli.screen.output import echo
from roundgate.core.values.units import format_seconds
from roundgate.host import machine
from roundgate.host.adopting import Adoption, RulebookGuess, write_keys
from roundgate.host.drivers import driver_of
from roundgate.host.drivers.taking_over import RunningServer, find_running, hand_to_keeper
from roundgate.host.errors import Trouble
from roundgate.host.rounds.locking import held
from roundgate.host.rulebooks import load_rulebook
from roundgate.host.servers import Server

_MEANS = {
    "keeper": "Round Gate's keeper holds it from now on, without a stop; its console and output come with the next "
    "start",
    "systemd": "systemd goes on holding it, and starts and stops it",
    "commands": "a command starts it anew; its console and signals stop it",
    "self": "whoever holds it starts it again whenever it ends",
}


def already_adopted(context: CallContext, given: Path) -> str:
    """Return the name of the server that a folder is, or that is called so; empty where it is none of the site."""
    folder = given.resolve()
    names = context.site.file.server
    found = next((name for name in names if context.site.folder_of(name).resolve() == folder), "")
    return found or (str(given) if not given.exists() and str(given) in names else "")


def propose(plan: Adoption, guess: RulebookGuess, *, yes: bool) -> Adoption:
    """Find the process of a folder that is to be adopted, propose a driver, and return the plan with it."""
    book = load_rulebook(guess.rulebook, plan.site.folder) if guess.rulebook else None
    pattern = book.server.process if book else ""
    try:
        start = plan.command
    except Trouble:  # its own command line does
        start = []
    found = find_running(plan.folder, pattern, plan.server_name, start)
    user = plan.process.user or _user_of(found)
    _ask(plan.server_name, found, user, yes=yes)
    run_in = plan.process.run_in
    if not run_in and Path(found.run_in) != plan.folder:
        run_in = str(Path(found.run_in).relative_to(plan.folder))
    return replace(plan, running=found, process=replace(plan.process, run_in=run_in, user=user))


def _user_of(found: RunningServer) -> str:
    """Return the user of a process that root takes over from somebody else."""
    import os

    from roundgate.host.ownership import name_of_user

    return found.user if not os.geteuid() and found.user != name_of_user(0) else ""


def take_over_adopted(name: str, *, yes: bool) -> None:
    """Take over a server that is one of the site already, and runs outside."""
    context = open_call()
    server = context.one(name)
    driver = driver_of(server)
    try:
        if server.entry.driver == "keeper" and driver.state().runs:
            echo(f"{name} is held by its keeper already.")
            return
    finally:
        driver.close()
    found = find_running(server.folder.resolve(), server.book.server.process, name, server.entry.start)
    user = _user_of(found)
    _ask(name, found, user, yes=yes)
    keys = {"driver": f'"{found.driver}"', **found.more} if found.driver != server.entry.driver or found.more else {}
    if user and user != server.entry.user:  # a restart must not run as root what ran as somebody else
        keys["user"] = f'"{user}"'
    if keys:
        write_keys(context.site, name, keys)
    finish(name, found)


def _ask(name: str, found: RunningServer, user: str, *, yes: bool) -> None:
    since = machine.started_at(found.process)
    ago = f", for {format_seconds(int(time.time() - since))}" if since else ""
    echo(f"{name} runs: {machine.name_process(found.process)}{ago}; {found.why}.")
    echo(f"  driver: {found.driver}: {_MEANS[found.driver]}")
    for key, value in {**found.more, **({"user": f'"{user}"'} if user else {})}.items():
        echo(f"  {key} = {value}")
    if not agreed(f"Take {name} over so?", yes=yes):
        raise typer.Exit(1)


def finish(name: str, found: RunningServer) -> None:
    """Hand a server to its keeper where that is its driver, and see that its driver knows it. Raises Trouble."""
    context = open_call(quiet=True)
    server: Server = context.one(name)
    if found.driver == "keeper":
        with held(server, context.store):
            hand_to_keeper(server, found.process)
    driver = driver_of(server)
    try:
        state = driver.state()
    finally:
        driver.close()
    if not state.runs:
        what = f"{name} runs, and its driver '{found.driver}' does not see it."
        raise Trouble(what, f"Correct [server.{name}] in the site file; then: roundgate status {name}")
    echo(f"{name} is taken over, and was not stopped.")
