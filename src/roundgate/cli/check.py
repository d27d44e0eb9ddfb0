"""Check: ``check`` finds what is wrong on disk and on the slate of servers, or in any files."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from roundgate.cli.complete import complete_server_or_file
from roundgate.cli.screen.report import Report
from roundgate.core.next_step import typed_command
from roundgate.host.errors import WrongUsage

if TYPE_CHECKING:
    from roundgate.core.findings import Finding

FORMS = ("text", "json", "sarif")


def check(
    what: Annotated[
        list[str] | None,
        typer.Argument(
            help="Which servers, by default all; or files, folders, or - (stdin).",
            autocompletion=complete_server_or_file,
        ),
    ] = None,
    form: Annotated[str, typer.Option("--format", help="text, json or sarif")] = "text",
    as_json: Annotated[bool, typer.Option("--json", help="The same as --format json.")] = False,
    given: Annotated[str, typer.Option("--as", help="The files' format; default: by name, then content.")] = "",
    fix: Annotated[bool, typer.Option("--fix", help="Put the safe fixes onto the slate, and show the diff.")] = False,
    slate: Annotated[bool, typer.Option("--slate", help="Only the files as the slate would leave them.")] = False,
    strict: Annotated[bool, typer.Option("--strict", help="Warnings count as errors for the exit code.")] = False,
) -> None:
    """Find what is wrong: syntax first, then values, then what they refer to and how they fit together.

    Of FILES, which need no site and no rulebook, the syntax. Ends with 1 where there are errors.
    """
    form = "json" if as_json else form
    if form not in FORMS:
        raise WrongUsage(f"There is no format '{form}'.", "--format text, --format json, or --format sarif")
    arguments = what or []
    if arguments and all(_is_file(word) for word in arguments):
        from roundgate.cli.checking_files import check_the_files

        if slate:
            raise WrongUsage("A file of no server has no slate.", typed_command("check", "", arguments[0]))
        worst = check_the_files(arguments, given, form, fix=fix)
    else:
        worst = _check_servers(arguments, given, form, fix=fix, after=slate)
    if worst == "error" or (strict and worst == "warning"):
        raise typer.Exit(1)


def _is_file(word: str) -> bool:
    """Return whether a word means a file or folder, and not a server."""
    if word == "-" or os.sep in word:
        return True
    if Path(word).is_dir():
        return not _is_server(word)
    from roundgate.core.formats import format_name

    return Path(word).exists() or bool(format_name(word))


def _is_server(word: str) -> bool:
    from roundgate.cli.opening import open_call
    from roundgate.host.errors import Trouble

    try:
        return word in open_call(quiet=True).site.file.server
    except Trouble:
        return False


_NAMED = 8
"""So many servers are named at the end; more are counted."""


def _check_servers(arguments: Sequence[str], given: str, form: str, *, fix: bool, after: bool) -> str:
    from roundgate.cli.opening import open_call
    from roundgate.host.checking import check_servers

    if given:
        raise WrongUsage("--as is for files.", typed_command("check", "", "<file>", options=("--as", "<format>")))
    if len(arguments) > 1:
        known = open_call(quiet=True).names
        if not all(word in known for word in arguments):
            odd = next(word for word in arguments if word not in known)
            raise WrongUsage(
                f"'{odd}' is neither a server of this site nor a file that is there.", typed_command("status")
            )
        raise WrongUsage("Several servers are named with commas.", typed_command("check", "", ",".join(arguments)))
    word = arguments[0] if arguments else None
    context = open_call()
    servers = context.several(word, default_all=word is None)
    if fix:
        from roundgate.cli.changes.repairs import mend_servers

        mend_servers(context, servers)
    report = Report(form)
    of_the_site: set[Finding] = set()
    for finding in check_servers(servers, context.store, after=after):
        if not finding.server and finding in of_the_site:
            continue  # each server's check has found it
        of_the_site.add(finding)
        report.add(finding)
    return report.end(
        ", ".join(server.name for server in servers) if len(servers) <= _NAMED else f"{len(servers)} servers"
    )
