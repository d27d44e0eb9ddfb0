"""The site: ``init``, ``adopt``, ``unadopt`` and ``unit``."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from msgspec.structs import replace

from roundgate.cli.opening import open_call
from roundgate.cli.screen.output import echo, echo_next
from roundgate.core.next_step import typed_command
from roundgate.core.quoting import quoted
from roundgate.core.rounds import RoundKind
from roundgate.host.errors import Trouble, WrongUsage

if TYPE_CHECKING:
    from roundgate.core.rulebook.model import Rulebook
    from roundgate.host.adopting import Adoption


def init(
    folder: Annotated[Path | None, typer.Argument(metavar="[FOLDER]", help="Where; here if left out.")] = None,
    name: Annotated[str, typer.Option(help="The site's name, such as the club's.")] = "",
) -> None:
    """Make a site: a folder with a roundgate.toml, to which servers are added with 'adopt'."""
    from roundgate.host.adopting import make_site

    folder = (folder or Path()).resolve()
    make_site(folder, name)
    echo(f"Made {folder / 'roundgate.toml'}")
    verb = "adopt" if folder == Path.cwd() else f"--site {quoted(str(folder))} adopt"
    echo_next(typed_command(verb, "", "<folder>"))


def adopt(
    folder: Annotated[
        str, typer.Argument(metavar="FOLDER", help="The server's folder; or its address: sftp://USER@HOST/FOLDER.")
    ],
    name: Annotated[str | None, typer.Option(help="The server's name; the folder's if left out.")] = None,
    rulebook: Annotated[str | None, typer.Option(help="The rulebook; recognised by the files if left out.")] = None,
    start: Annotated[str | None, typer.Option(help="The command that starts it; its start script if left out.")] = None,
    tag: Annotated[list[str] | None, typer.Option(help="A tag, for @TAG; may be given more than once.")] = None,
    first_run: Annotated[bool | None, typer.Option(help="Start it once, so that its files exist.")] = None,
    user: Annotated[str | None, typer.Option(help="The user that it runs as, where you are root.")] = None,
    run_in: Annotated[str, typer.Option(help="The folder that it runs in; default: its own.")] = "",
    umask: Annotated[str, typer.Option(help="Its umask, such as 0027.")] = "",
    environment: Annotated[
        list[str] | None, typer.Option(help="A variable, NAME=VALUE, such as HOME; may be given more than once.")
    ] = None,
    certificate: Annotated[
        str, typer.Option(metavar="FILE", help="ftps://: the service's certificate, where no authority signed it.")
    ] = "",
    ssh_config: Annotated[str, typer.Option(metavar="FILE", help="sftp://: what 'ssh' is configured by.")] = "",
    insecure: Annotated[bool, typer.Option("--insecure", help="ftp://: send password and files in the clear.")] = False,
    running: Annotated[bool, typer.Option("--running", help="It runs already: take it over, without a stop.")] = False,
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Do not ask: take over, trust a host key.")] = False,
) -> None:
    """Add a folder to the site as a server.

    With --running, its process is found by the folder that it works in, and who holds it decides the driver: systemd,
    a terminal multiplexer, a script that starts it again, or nobody; then Round Gate's keeper holds it from now on.
    A server that is one of the site already, and was started outside, is taken over in the same way.

    A server on a rented machine is adopted by the address of its folder: sftp://, ftps:// or ftp://. Each step of the
    way there is tried and shown. The password is asked for and kept in the site's secrets file.
    """
    if "://" in folder:
        from roundgate.cli.running.place import adopt_place
        from roundgate.host.site_file.tables import ServerEntry

        _refuse_options_of_here(
            {"start": start, "first-run": first_run, "user": user, "run-in": run_in, "umask": umask}
            | {"environment": environment, "running": running}
        )
        given = ServerEntry(folder, tags=tag or [], certificate=certificate, ssh_config=ssh_config, insecure=insecure)
        adopt_place(given, name, rulebook, yes=yes)
        return
    from roundgate.host.adopting import Adoption, ProcessOptions

    context = open_call()
    if running:
        from roundgate.cli.running.taking_over import already_adopted, take_over_adopted

        if adopted_as := already_adopted(context, Path(folder)):
            take_over_adopted(adopted_as, yes=yes)
            return
    plan = Adoption(context.site, Path(folder), name, rulebook, start, tuple(tag or ()))
    process = ProcessOptions(_user(plan.folder, user), run_in, umask, tuple(environment or ()))
    _adopt_folder(replace(plan, process=process), first_run, running=running, yes=yes)


def _adopt_folder(plan: Adoption, first_run: bool | None, *, running: bool, yes: bool) -> None:
    """Take a folder of this machine into the site."""
    from roundgate.host.adopting import missing_files, recognise, write_server
    from roundgate.host.asking.consent import consent_for

    guess = recognise(plan)
    if running:
        from roundgate.cli.running.taking_over import finish, propose

        plan = propose(plan, guess, yes=yes)
    write_server(plan, guess)
    echo(f"{plan.server_name} is a server of this site now: {plan.given}")
    echo(f"  rulebook: {guess.reason}")
    echo(f"  start command: {' '.join(plan.command)}")
    adopted = open_call(quiet=True).one(plan.server_name)
    echo_wishes(adopted.whole_book)
    if consent_for(adopted.whole_book):
        echo(f"  none of that is run until you allow it: roundgate rulebook allow {plan.server_name}")
    if plan.running is not None:
        finish(plan.server_name, plan.running)
    missing = missing_files(adopted)
    if missing:
        _offer_first_run(plan.server_name, missing, first_run)
        return
    echo_next(typed_command("check", plan.server_name, hint=f"then: roundgate show {plan.server_name}"))


def _refuse_options_of_here(given: Mapping[str, object]) -> None:
    """Refuse options about a process, which a rented server has elsewhere."""
    odd = next((name for name, value in given.items() if value), None)
    if odd is not None:
        raise WrongUsage(f"--{odd} is for servers of this machine.", f"Leave --{odd} out.")


def _user(folder: Path, given: str | None) -> str:
    """Return the user that a server should run as: asked for where root adopts a folder of somebody else's."""
    import os
    import sys

    if given is not None or os.geteuid() or not sys.stdin.isatty():
        return given or ""
    owner = folder.owner() if folder.stat().st_uid else ""
    if not owner:
        return ""
    return str(typer.prompt("Which user does it run as?", default=owner))


def _offer_first_run(name: str, missing: list[str], first_run: bool | None) -> None:
    """Start a server once and stop it again, so that it makes its files."""
    import sys

    from roundgate.cli.rounding import agreed, run_round
    from roundgate.host.rounds.options import Options

    echo(f"  {', '.join(missing)} will only exist after its first start.")
    if first_run is None:
        first_run = sys.stdin.isatty() and agreed("Start it once and stop it again, so that they exist?", yes=False)
    if not first_run:
        echo_next(typed_command("start", name, hint=f"then: roundgate stop {name}"))
        return
    context = open_call()
    server = context.opened(name).server
    code = run_round(context, server, Options(kind=RoundKind.START)) or run_round(
        context, server, Options(kind=RoundKind.STOP)
    )
    if code:
        raise typer.Exit(code)
    echo_next(typed_command("check", name, hint=f"then: roundgate show {name}"))


def unit(server: Annotated[str | None, typer.Argument(metavar="[SERVER]", help="Which server.")] = None) -> None:
    """Print a unit for systemd that brings a server up at boot, and takes it down in order. It is held by its keeper.

    To install it: roundgate unit SERVER | sudo tee /etc/systemd/system/NAME.service
    """
    from roundgate.host.drivers.units import keeper_unit

    context = open_call(quiet=True)
    opened = context.one(server)
    if opened.entry.driver != "keeper":
        raise Trouble(f"{opened.name} is not held by a keeper: its driver is '{opened.entry.driver}'.", "")
    echo(keeper_unit(opened).rstrip())


def unadopt(
    server: Annotated[str, typer.Argument(metavar="[SERVER]", help="Which server.")],
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Do not ask.")] = False,
) -> None:
    """Take a server out of the site. Its folder, its rounds and what was saved of it stay."""
    from roundgate.cli.rounding import agreed
    from roundgate.host.adopting import remove_server
    from roundgate.host.drivers import driver_of
    from roundgate.host.rounds.locking import held

    context = open_call(quiet=True)
    opened = context.one(server, lenient=True)
    driver = driver_of(opened)
    try:
        if driver.state().runs:
            raise Trouble(
                f"{opened.name} is up.",
                typed_command("stop", opened.name, hint=f"then: roundgate unadopt {opened.name}"),
            )
    finally:
        driver.close()
    waiting = len(context.store.slate(opened.name))
    question = f" {waiting} changes wait on its slate, and stay there." if waiting else ""
    if not agreed(f"Take {opened.name} out of this site? Its files stay in {opened.folder}.{question}", yes=yes):
        raise typer.Exit(1)
    with held(opened, context.store):
        remove_server(context.site, opened.name)
    echo(f"{opened.name} was removed from this site. Its files stay in {opened.folder}.")
    echo(f"  to take it in again: roundgate adopt {opened.folder} --name {opened.name}")


def echo_wishes(book: Rulebook) -> None:
    """Print the commands that a rulebook wants to run."""
    from roundgate.host.asking.consent import wishes

    for wish in wishes(book):
        echo(f"  it {wish}")
