"""Site: ``init``, ``adopt`` and ``rulebook``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer
from msgspec.structs import replace

from roundgate.cli import named_site
from roundgate.cli.complete import complete_rulebook
from roundgate.cli.opening import open_call
from roundgate.cli.screen.output import echo, echo_json, echo_table
from roundgate.core.rounds import RoundKind
from roundgate.host.errors import Trouble, WrongUsage

if TYPE_CHECKING:
    from roundgate.core.rulebook.model import Rulebook


def init(
    folder: Annotated[Path | None, typer.Argument(help="Where; here if left out.")] = None,
    name: Annotated[str, typer.Option(help="The site's name, such as the club's.")] = "",
) -> None:
    """Make a site: a folder with a roundgate.toml, to which servers are added with 'adopt'."""
    from roundgate.host.adopting import make_site

    folder = (folder or Path()).resolve()
    make_site(folder, name)
    echo(f"Made {folder / 'roundgate.toml'}")
    echo(f"  next: roundgate{'' if folder == Path.cwd() else f' --site {folder}'} adopt FOLDER")


def adopt(
    folder: Annotated[Path, typer.Argument(help="The server's folder.")],
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
    running: Annotated[bool, typer.Option("--running", help="It runs already: take it over, without a stop.")] = False,
    yes: Annotated[bool, typer.Option("--yes", "-y", help="--running: do not ask.")] = False,
) -> None:
    """Add a folder to the site as a server.

    With --running, its process is found by the folder that it works in, and who holds it decides the driver: systemd,
    a terminal multiplexer, a script that starts it again, or nobody; then Round Gate's keeper holds it from now on.
    A server that is one of the site already, and was started outside, is taken over in the same way.
    """
    from roundgate.host.adopting import Adoption, ProcessOptions, missing_files, recognise, write_server
    from roundgate.host.asking.consent import consent_for

    if running:
        from roundgate.cli.running.taking_over import already_adopted, finish, propose, take_over_adopted

    context = open_call()
    adopted_as = already_adopted(context, folder) if running else ""
    if adopted_as:
        take_over_adopted(adopted_as, yes=yes)
        return
    plan = Adoption(context.site, folder, name, rulebook, start, tuple(tag or ()))
    process = ProcessOptions(_user(plan.folder, user), run_in, umask, tuple(environment or ()))
    plan = replace(plan, process=process)
    guess = recognise(plan)
    if running:
        plan = propose(plan, guess, yes=yes)
    write_server(plan, guess)
    echo(f"{plan.server_name} is a server of this site now: {folder}")
    echo(f"  rulebook: {guess.reason}")
    echo(f"  start command: {' '.join(plan.command)}")
    adopted = open_call(quiet=True).one(plan.server_name)
    _echo_wishes(adopted.whole_book)
    if consent_for(adopted.whole_book):
        echo(f"  none of that is run until you allow it: roundgate rulebook allow {plan.server_name}")
    if plan.running is not None:
        finish(plan.server_name, plan.running)
    missing = missing_files(adopted)
    if missing:
        _offer_first_run(plan.server_name, missing, first_run)
        return
    echo(f"  next: roundgate check {plan.server_name}, roundgate show {plan.server_name}")


def _user(folder: Path, given: str | None) -> str:
    """Give the user that a server should run as: asked for where root adopts a folder of somebody else's."""
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
        echo(f"  next: roundgate start {name}, then roundgate stop {name}")
        return
    context = open_call()
    server = context.opened(name).server
    code = run_round(context, server, Options(kind=RoundKind.START)) or run_round(
        context, server, Options(kind=RoundKind.STOP)
    )
    if code:
        raise typer.Exit(code)
    echo(f"  next: roundgate check {name}, roundgate show {name}")


def unit(server: Annotated[str | None, typer.Argument(help="Which server.")] = None) -> None:
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
    server: Annotated[str, typer.Argument(help="Which server.")],
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
                f"{opened.name} is up.", f"roundgate stop {opened.name}, then: roundgate unadopt {opened.name}"
            )
    finally:
        driver.close()
    waiting = len(context.store.slate(opened.name))
    question = f" {waiting} changes wait on its slate, and stay there." if waiting else ""
    if not agreed(f"Take {opened.name} out of this site? Its files stay in {opened.folder}.{question}", yes=yes):
        raise typer.Exit(1)
    with held(opened, context.store):
        remove_server(context.site, opened.name)
    echo(f"{opened.name} is no longer a server of this site. Its files stay in {opened.folder}.")
    echo(f"  to take it in again: roundgate adopt {opened.folder} --name {opened.name}")


def rulebook(
    arguments: Annotated[
        list[str] | None,
        typer.Argument(
            help="list; check NAME-OR-FILE...; show NAME; draft SERVER[,SERVER...]; allow SERVER; schema, "
            "schema site, schema NAME FILE",
            autocompletion=complete_rulebook,
        ),
    ] = None,
    name: Annotated[str, typer.Option(help="draft: the rulebook's name; the server's if left out.")] = "",
    to: Annotated[Path | None, typer.Option(help="draft: the file to write; rulebooks/NAME.toml if left out.")] = None,
    force: Annotated[bool, typer.Option("--force", help="draft: overwrite an existing file.")] = False,
    yes: Annotated[bool, typer.Option("--yes", "-y", help="allow: do not ask.")] = False,
    as_json: Annotated[bool, typer.Option("--json", help="list: print JSON.")] = False,
) -> None:
    """List rulebooks, check one, show one with its layers, draft one from a server's files, or print a JSON Schema.

    A draft has every key with the type, meaning, default, range and choices that its value and the comments in the
    file tell; what is not sure is marked. With several servers of one game, what differs between them is marked too.

    A rulebook runs nothing until it is allowed to: 'allow' shows the commands that a server's rulebook has for reading
    values back, asks, and writes their digest into the site file. A changed command has to be allowed again.

    A schema lets an editor complete and check rulebooks ('schema'), the site file ('schema site'), or one of a game's
    own JSON, YAML or TOML files ('schema NAME FILE').
    """
    from roundgate.host.rulebooks import rulebook_names

    verb, *rest = arguments or ["list"]
    site = _site_folder()
    if verb == "list" and not rest:
        names = rulebook_names(site)
        if as_json:
            echo_json(names)
        else:
            echo_table(("rulebook", "game"), [(name, _title(name, site)) for name in names])
    elif verb == "check" and rest:
        failed = [name for name in rest if not _checked(name, site)]
        if failed:
            raise typer.Exit(1)
    elif verb == "show" and len(rest) == 1:
        from roundgate.core.rulebook.printing import merged_text
        from roundgate.host.rulebooks import layers_beneath

        echo(merged_text(layers_beneath(rest[0], site)).rstrip())
    elif verb == "schema" and len(rest) < 3:
        echo_json(_schema(rest, site))
    elif verb == "allow" and len(rest) < 2:
        _allow(rest[0] if rest else None, yes=yes)
    elif verb == "draft" and len(rest) < 2:
        _draft(rest[0] if rest else None, name, to, force=force)
    else:
        raise WrongUsage(
            "Which of list, check, show, draft, allow and schema?",
            "roundgate rulebook list, or: rulebook check NAME-OR-FILE, or: rulebook draft SERVER",
        )


def _schema(arguments: list[str], site: Path | None) -> dict[str, Any]:
    """Give the schema of rulebooks, of the site file, or of a file of a game. Raises WrongUsage."""
    from roundgate.core.rulebook.schema import SCHEMA_FORMATS, file_schema, rulebook_schema
    from roundgate.host.rulebooks import load_rulebook
    from roundgate.host.site import site_schema

    if not arguments:
        return rulebook_schema()
    if arguments == ["site"]:
        return site_schema()
    if len(arguments) == 1:
        raise WrongUsage("Which file of that game?", f"roundgate rulebook schema {arguments[0]} FILE")
    book = load_rulebook(arguments[0], site)
    fitting = {name: file for name, file in book.file.items() if file.format in SCHEMA_FORMATS}
    found = next((name for name, file in fitting.items() if arguments[1] in (name, file.path)), "")
    if not found:
        there = ", ".join(file.path for file in fitting.values()) or "none"
        raise WrongUsage(
            f"The rulebook {arguments[0]} has no JSON, YAML or TOML file '{arguments[1]}'.",
            f"those that it has: {there}",
        )
    return file_schema(book, found)


def _draft(word: str | None, name: str, to: Path | None, *, force: bool) -> None:
    """Draft a rulebook, write it, and say what it got."""
    from roundgate.api.drafting import draft_rulebook, write_draft
    from roundgate.host.site_file.checking import NAME

    context = open_call()
    servers = context.several(word, lenient=True)
    name = name or servers[0].name
    if not NAME.fullmatch(name):
        raise WrongUsage(f"'{name}' cannot be a rulebook's name.", "Use letters, digits, - and _.")
    path = to or context.site.folder / "rulebooks" / f"{name}.toml"
    if path.exists() and not force:
        raise Trouble(f"{path} already exists; nothing was written.", "--force overwrites it; --to names another.")
    made = draft_rulebook(name, servers)
    write_draft(made, path)
    counts, here = made.counts, Path.cwd()
    shown = path.relative_to(here) if path.is_relative_to(here) else path
    echo(f"{shown}: drafted, and it passes 'roundgate rulebook check'.")
    numbers = ((counts.files, "file"), (counts.settings, "setting"), (counts.lists, "list"))
    echo("  " + ", ".join(f"{number} {what}{'' if number == 1 else 's'}" for number, what in numbers))
    if counts.settings:
        share = round(100 * counts.sure / counts.settings)
        echo(f"  {counts.sure} settings ({share}%) follow from their values and comments; {counts.unsure} are unsure")
        echo(f"  {counts.described} have a meaning, from the comments")
    if counts.left_out:
        values = "1 value is" if counts.left_out == 1 else f"{counts.left_out} values are"
        echo(f"  {values} left out, in lists and records or worked out by a script: FILE:KEY still reaches them")
    for why in counts.unreadable:
        echo(f"  left out: {why}")
    if counts.unsure:
        echo(f"  next: look at what is unsure: grep -n UNSURE {shown}")
    echo(f'  then: name it in roundgate.toml, under [server.{servers[0].name}]: rulebook = "{name}"')


def _allow(word: str | None, *, yes: bool) -> None:
    """Let the rulebook of a server run the commands that it has now. Raises Trouble."""
    from roundgate.cli.rounding import agreed
    from roundgate.host.adopting import write_consent
    from roundgate.host.asking.consent import consent_for, may_run

    context = open_call()
    server = context.one(word)
    consent = consent_for(server.whole_book)
    if not consent:
        echo(f"The rulebook of {server.name} runs no commands, so there is nothing to allow.")
        return
    echo(f"The rulebook {server.entry.rulebook} of {server.name}:")
    _echo_wishes(server.whole_book)
    if may_run(server.entry, server.whole_book):
        echo(f"The site file allows that already ({consent}).")
        return
    who = server.entry.user or "the user that Round Gate runs as"
    if not agreed(f"Let it run them in {server.folder}, as {who}?", yes=yes):
        raise typer.Exit(1)
    write_consent(context.site, server.name, consent)
    echo(f"The site file allows it now ({consent}). A changed command has to be allowed again.")


def _echo_wishes(book: Rulebook) -> None:
    from roundgate.host.asking.consent import wishes

    for wish in wishes(book):
        echo(f"  it {wish}")


def _site_folder() -> Path | None:
    from roundgate.host.errors import NoSite
    from roundgate.host.site import find_site

    try:
        return find_site(named_site.SITE_NAMED, Path.cwd()).folder
    except NoSite:
        return None


def _title(name: str, site: Path | None) -> str:
    from roundgate.host.rulebooks import load_rulebook

    try:
        return load_rulebook(name, site).rulebook.title
    except Trouble:
        return "(broken: roundgate rulebook check " + name + ")"


def _checked(word: str, site: Path | None) -> bool:
    """Check one rulebook, and print what is wrong; tell whether it is good."""
    from roundgate.cli.screen.findings import echo_findings
    from roundgate.host.rulebooks import BrokenRulebook, check_rulebook

    try:
        book = check_rulebook(word, site)
    except BrokenRulebook as error:
        echo_findings(error.problem.findings)
        return False
    echo(f"{book.name}: nothing wrong; {len(book.setting)} settings, {len(book.list)} lists, {len(book.rule)} rules.")
    _echo_wishes(book)
    return True
