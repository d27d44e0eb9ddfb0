"""What a rulebook wants beyond reading and writing its server's files, and whether the site file allows it.

A rulebook may come from a stranger. What it runs is named by a digest in the site file, so that a changed command is
asked for again.
"""

from __future__ import annotations

import hashlib
import os

from msgspec import json

from roundgate.core.rulebook.commands import commands_of
from roundgate.core.rulebook.model import Rulebook
from roundgate.host.site_file.tables import ServerEntry

_DIGITS = 16


def consent_for(book: Rulebook) -> str:
    """Return the word for ``allow`` in the site file that lets a rulebook run its commands; empty where it has none."""
    commands = {name: query.run for name, query in book.query.items() if query.run}
    if not commands:
        return ""
    return f"run:{hashlib.sha256(json.encode(commands, order='sorted')).hexdigest()[:_DIGITS]}"


def may_run(entry: ServerEntry, book: Rulebook) -> bool:
    """Return whether the site file allows the commands of a rulebook as they are now, or there are none."""
    return consent_for(book) in ("", *entry.allow)


def wishes(book: Rulebook) -> list[str]:
    """Describe what a rulebook wants beyond its server's files: commands, and files outside of the server's folder."""
    found = [f"runs '{command}' to read values (query {name})" for name, command in commands_of(book).items()]
    places = [("logs", path) for path in book.server.logs] + [("a file", file.path) for file in book.file.values()]
    return found + [
        f"names {what} outside of the server's folder, which 'outside' in the site file has to allow: {path}"
        for what, path in places
        if _leaves(path)
    ]


def _leaves(path: str) -> bool:
    return path.startswith(("/", "~")) or os.path.normpath(path).startswith("..")
