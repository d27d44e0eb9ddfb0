"""The first screen: ``roundgate`` without arguments."""

from __future__ import annotations

from roundgate.cli.screen.output import echo
from roundgate.host.errors import NoSite


def welcome() -> None:
    """Print what this is, and the two or three commands to begin with."""
    echo("Round Gate edits a game server's settings, checks them, and brings them into force")
    echo("by a restart that is proven or undone.")
    echo()
    from roundgate.cli.opening import open_call

    try:
        context = open_call()
    except NoSite:
        echo("  roundgate demo            watch it at work on made-up servers, in under a minute")
        echo("  roundgate init            make a site in this folder")
        echo("  roundgate adopt <folder>                  make a server's folder part of the site")
    else:
        names = ", ".join(context.site.file.server) or "no server yet: roundgate adopt <folder>"
        echo(f"This site: {context.site.file.site.name or context.site.folder} ({names})")
        echo()
        echo("  roundgate status                   the state of each server")
        echo("  roundgate show <server>                    a server's settings")
        echo("  roundgate set <server> <name>=<value>      change one; then: roundgate apply <server>")
    echo()
    echo("All commands: roundgate --help")
