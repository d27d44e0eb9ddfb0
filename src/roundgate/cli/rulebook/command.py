"""Rulebooks: ``rulebook list``, ``show``, ``check``, ``schema``, ``draft`` and ``allow``."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from roundgate.cli import named_site
from roundgate.cli.complete import complete_rulebook, complete_server
from roundgate.cli.opening import open_call
from roundgate.cli.screen.output import echo, echo_json, echo_table
from roundgate.cli.site import echo_wishes
from roundgate.core.next_step import typed_command
from roundgate.host.errors import Trouble, WrongUsage

_NAMES = typer.Argument(metavar="NAME-OR-FILE...", help="Which rulebooks.", autocompletion=complete_rulebook)
_SCHEMA_OF = typer.Argument(metavar="[site | RULEBOOK FILE]", help="Of what.", autocompletion=complete_rulebook)


def list_rulebooks(as_json: Annotated[bool, typer.Option("--json", help="Print JSON.")] = False) -> None:
    """List the rulebooks: those that come with Round Gate, and the site's own."""
    from roundgate.host.rulebooks import rulebook_names

    site = _site_folder()
    names = rulebook_names(site)
    if as_json:
        echo_json(names)
    else:
        echo_table(("rulebook", "game"), [(name, _title(name, site)) for name in names])


def show(
    name: Annotated[str, typer.Argument(metavar="NAME", help="Which rulebook.", autocompletion=complete_rulebook)],
) -> None:
    """Print a rulebook, merged with the layers beneath it."""
    from roundgate.core.rulebook.printing import merged_text
    from roundgate.host.rulebooks import layers_beneath

    echo(merged_text(layers_beneath(name, _site_folder())).rstrip())


def check(arguments: Annotated[list[str], _NAMES]) -> None:
    """Find mistakes in rulebooks, by name or file. The exit code is 1 where there are some."""
    site = _site_folder()
    failed = [name for name in arguments if not _checked(name, site)]
    if failed:
        raise typer.Exit(1)


def schema(arguments: Annotated[list[str] | None, _SCHEMA_OF] = None) -> None:
    """Print a JSON Schema, for an editor that completes and checks with it.

    Without arguments, that of rulebooks; 'schema site', of the site file; 'schema RULEBOOK FILE', of one of a game's
    own JSON, YAML or TOML files.
    """
    if len(arguments or []) > 2:
        raise WrongUsage("That is too much for one schema.", typed_command("rulebook schema", options=("--help",)))
    echo_json(_schema(arguments or [], _site_folder()))


def draft(
    server: Annotated[
        str | None,
        typer.Argument(
            metavar="[SERVER]", help="From whose files; several of one game.", autocompletion=complete_server
        ),
    ] = None,
    name: Annotated[str, typer.Option(help="The rulebook's name; the server's if left out.")] = "",
    to: Annotated[Path | None, typer.Option(help="The file to write; rulebooks/NAME.toml if left out.")] = None,
    force: Annotated[bool, typer.Option("--force", help="Overwrite an existing file.")] = False,
) -> None:
    """Draft a rulebook from a server's files.

    It has every key with the type, meaning, default, range and choices that its value and the comments in the file
    tell; what is not sure is marked. With several servers of one game, what differs between them is marked too.
    """
    _draft(server, name, to, force=force)


def allow(
    server: Annotated[
        str | None, typer.Argument(metavar="[SERVER]", help="Which server.", autocompletion=complete_server)
    ] = None,
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Do not ask.")] = False,
) -> None:
    """Allow a server's rulebook to run the commands that it has for reading values back.

    Shows them, asks, and writes their digest into the site file. A changed command has to be allowed again.
    """
    _allow(server, yes=yes)


def _schema(arguments: list[str], site: Path | None) -> dict[str, Any]:
    """Return the schema of rulebooks, of the site file, or of a file of a game. Raises WrongUsage."""
    from roundgate.core.rulebook.schema import SCHEMA_FORMATS, file_schema, rulebook_schema
    from roundgate.host.rulebooks import load_rulebook
    from roundgate.host.site import site_schema

    if not arguments:
        return rulebook_schema()
    if arguments == ["site"]:
        return site_schema()
    if len(arguments) == 1:
        raise WrongUsage("Which file of that game?", typed_command("rulebook schema", "", arguments[0], "<file>"))
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
    echo_wishes(server.whole_book)
    if may_run(server.entry, server.whole_book):
        echo(f"The site file allows that already ({consent}).")
        return
    who = server.entry.user or "the user that Round Gate runs as"
    if not agreed(f"Let it run them in {server.folder}, as {who}?", yes=yes):
        raise typer.Exit(1)
    write_consent(context.site, server.name, consent)
    echo(f"The site file allows it now ({consent}). A changed command has to be allowed again.")


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
    """Check one rulebook, and print what is wrong; return whether it is good."""
    from roundgate.cli.screen.findings import echo_findings
    from roundgate.host.rulebooks import BrokenRulebook, check_rulebook

    try:
        book = check_rulebook(word, site)
    except BrokenRulebook as error:
        echo_findings(error.problem.findings)
        return False
    echo(f"{book.name}: nothing wrong; {len(book.setting)} settings, {len(book.list)} lists, {len(book.rule)} rules.")
    echo_wishes(book)
    return True
