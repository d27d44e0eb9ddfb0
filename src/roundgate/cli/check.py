"""Check: ``check`` finds what is wrong on disk and on the slate."""

from __future__ import annotations

from typing import Annotated

import typer

from roundgate.cli.place import Standing
from roundgate.cli.screen.output import say, say_json
from roundgate.core.findings import Finding
from roundgate.host.errors import WrongWords
from roundgate.host.servers import Server
from roundgate.host.store import Store


def check(
    server: Annotated[str | None, typer.Argument(help="Which servers; all where left out.")] = None,
    form: Annotated[str, typer.Option("--format", help="text or json")] = "text",
    as_json: Annotated[bool, typer.Option("--json", help="The same as --format json.")] = False,
) -> None:
    """Find what is wrong: syntax first, then values, then what they refer to and how they fit together."""
    from roundgate.cli.screen.findings import as_json as finding_json
    from roundgate.cli.screen.findings import count_words, say_findings
    from roundgate.core.findings import has_errors

    if form not in ("text", "json"):
        raise WrongWords(f"There is no format '{form}'.", "--format text, or --format json")
    standing = Standing()
    servers = standing.several(server, default_all=server is None)
    findings = [finding for one in servers for finding in findings_of(one, standing.store)]
    if as_json or form == "json":
        say_json({"findings": [finding_json(one) for one in findings]})
    else:
        say_findings(findings)
        names = ", ".join(one.name for one in servers)
        say(f"{names}: {count_words(findings)}.")
    if has_errors(findings):
        raise typer.Exit(1)


def findings_of(server: Server, store: Store) -> list[Finding]:
    """Check one server: its files on disk, and as the slate would leave them."""
    from roundgate.core.checks import check_disk, check_outcome

    waiting = [one.operation for one in store.slate(server.name)]
    now, outcome = server.outcome(waiting)
    found = check_disk(server.name, now.files, now.unreadable)
    if waiting:
        found += [one for one in check_outcome(server.name, outcome, now.unreadable) if one.waiting]
    return found
