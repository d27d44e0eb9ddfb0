"""The first screen: ``roundgate`` with no words."""

from __future__ import annotations

from roundgate.cli.screen.output import say
from roundgate.host.errors import NoSite


def welcome() -> None:
    """Say what this is, and the two or three commands to begin with."""
    say("Round Gate edits a game server's settings, checks them, and brings them into force")
    say("by a restart that is proven or undone.")
    say()
    from roundgate.cli.call import CallContext

    try:
        context = CallContext()
    except NoSite:
        say("  roundgate demo            watch it at work on made-up servers, in under a minute")
        say("  roundgate init            make a site in this folder")
        say("  roundgate adopt FOLDER    make a server's folder part of the site")
    else:
        names = ", ".join(context.site.file.server) or "no server yet: roundgate adopt FOLDER"
        say(f"This site: {context.site.file.site.name or context.site.folder} ({names})")
        say()
        say("  roundgate status                   the state of each server")
        say("  roundgate show SERVER              a server's settings")
        say("  roundgate set SERVER NAME=VALUE    change one; then 'roundgate apply SERVER'")
    say()
    say("All commands: roundgate --help")
