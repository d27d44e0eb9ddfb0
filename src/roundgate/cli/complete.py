"""Completion of server and setting names in the shell. It is called at every tab: nothing heavy here."""

from __future__ import annotations


def complete_server_or_name(incomplete: str) -> list[str]:
    """Give the servers, settings and lists that begin so."""
    from pathlib import Path

    from roundgate.cli import named_site
    from roundgate.host.errors import Trouble
    from roundgate.host.rulebooks import names_in_rulebook
    from roundgate.host.site import find_site

    try:
        site = find_site(named_site.SITE_NAMED, Path.cwd())
        names = [*site.file.server]
        for book in dict.fromkeys(entry.rulebook for entry in site.file.server.values()):
            names += names_in_rulebook(book, site.folder)
    except Trouble:
        return []
    return [name for name in dict.fromkeys(names) if name.startswith(incomplete)]
