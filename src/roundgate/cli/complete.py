"""Completion of server and setting names in the shell. It is called at every tab: nothing heavy here."""

from __future__ import annotations


def complete_server_or_name(incomplete: str) -> list[str]:
    """Give the servers, settings and lists that begin so."""
    from roundgate.cli.place import Standing
    from roundgate.host.errors import Trouble

    try:
        standing = Standing(quiet=True)
        names = [*standing.site.file.server]
        for server in standing.several("@all"):
            names += [*server.book.setting, *server.book.list]
    except Trouble:
        return []
    return [name for name in dict.fromkeys(names) if name.startswith(incomplete)]
