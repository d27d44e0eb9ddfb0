"""Rented servers: ``adopt`` of an address, and ``place check``, which tries the way to a server's files."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path
from typing import Annotated

import typer

from roundgate.cli.changes.secret import ask_secret
from roundgate.cli.opening import open_call
from roundgate.cli.screen.output import echo, echo_next, warn
from roundgate.core.next_step import typed_command
from roundgate.host.errors import SignInRefused, Trouble
from roundgate.host.rented.address import parse_address
from roundgate.host.rented.adoption import PlaceAdoption, fetch, held_password, is_given, plan_of, write_place
from roundgate.host.rented.opening import files_at, open_files, ssh_of
from roundgate.host.rented.protocol import RemoteFiles
from roundgate.host.rented.ssh import HostKey
from roundgate.host.rented.trying import PlaceStep, reach, try_files
from roundgate.host.site import Site, choose_one
from roundgate.host.site_file.tables import ServerEntry

_TRIES = 3


def check(
    server: Annotated[str | None, typer.Argument(metavar="[SERVER]", help="Which server.")] = None,
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Trust a host key that is not known yet.")] = False,
) -> None:
    """Try each step of the way to a rented server's files, and say what was found.

    Files of Round Gate's own are written beside the server's, and removed again; the server's are not touched.
    """
    context = open_call(quiet=True)
    name = choose_one(context.site, server, Path.cwd())
    entry = context.site.file.server[name]
    if not entry.is_rented:
        raise Trouble(f"{name} is on this machine.", typed_command("check", name))
    _reach(context.site, name, entry, yes=yes)
    _try(entry, open_files(context.site, name, entry))
    echo("Everything that a round needs can be done there.")


def adopt_place(given: ServerEntry, name: str | None, rulebook: str | None, *, yes: bool) -> None:
    """Take a rented server into the site; ``given`` has its address, and how it is reached. Raises Trouble."""
    context = open_call()
    plan, password = plan_of(context.site, given, name, rulebook)
    if password:
        warn("note: A password in an address is seen by other users of this machine, and stays in the shell's history.")
    _reach(plan.site, plan.name, plan.entry, yes=yes)
    plan, password, files = _signed_in(plan, password)
    guess = fetch(plan, files)
    files.close()
    write_place(plan, guess, "" if is_given(plan) else password)
    echo(f"{plan.name} is a server of this site now: {plan.entry.folder}")
    echo(f"  rulebook: {guess.reason}")
    if password and not is_given(plan):
        echo(f"  password: kept as '{plan.secret}' in the site's secrets file, which only you can read")
    echo("  started and stopped by hand: a round says what to press, and waits")
    echo("  to have requests do that: see 'requests' in docs/rented.md")
    echo_next(typed_command("check", plan.name, hint=f"then: roundgate show {plan.name}"))


def _signed_in(plan: PlaceAdoption, password: str) -> tuple[PlaceAdoption, str, RemoteFiles]:
    """Sign in and try the files; a password that is not right is asked for again. Raises Trouble."""
    password = password or held_password(plan)
    if parse_address(plan.entry.folder).scheme == "sftp" and not password:
        # Keys and the agent first, as ssh does.
        files = files_at(plan.site, plan.name, plan.entry, "")
        try:
            _try(plan.entry, files)
            return plan, "", files
        except SignInRefused as error:
            if not sys.stdin.isatty():
                raise
            echo(f"  {'sign in':10}no key is taken: {error.what}")
    plan = plan.with_password()
    password = password or ask_secret("Password", plan.entry.folder)
    for is_last in (*[False] * (_TRIES - 1), True):
        files = files_at(plan.site, plan.name, plan.entry, password)
        try:
            _try(plan.entry, files)
            return plan, password, files
        except SignInRefused as error:
            if is_last or not sys.stdin.isatty():
                raise
            echo(f"  {'sign in':10}{error.what}")
            password = ask_secret("Password", plan.entry.folder)
    raise AssertionError


def _reach(site: Site, name: str, entry: ServerEntry, *, yes: bool) -> None:
    address = parse_address(entry.folder)
    ssh = ssh_of(site, name, entry, "") if address.scheme == "sftp" else None
    for step in reach(address, ssh, _confirm(yes=yes)):
        _echo_step(step)


def _try(entry: ServerEntry, files: RemoteFiles) -> None:
    try:
        for step in try_files(parse_address(entry.folder), files):
            _echo_step(step)
    except Trouble:
        files.close()
        raise


def _confirm(*, yes: bool) -> Callable[[HostKey], bool]:
    from roundgate.cli.rounding import agreed

    def confirm(key: HostKey) -> bool:
        echo(f"  {'host key':10}{key.fingerprint}, not known here yet")
        return agreed("Is that the key that the service names, and is it to be trusted?", yes=yes)

    return confirm


def _echo_step(step: PlaceStep) -> None:
    echo(f"  {step.step:10}{step.found}")
