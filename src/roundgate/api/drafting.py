"""Drafting a rulebook from the files of servers as they are."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from roundgate.core.draft.writer import Draft, draft
from roundgate.core.files import ServerFiles
from roundgate.core.rulebook.model import NO_RULEBOOK
from roundgate.host.errors import Trouble
from roundgate.host.files import write_durably
from roundgate.host.rulebooks import check_rulebook
from roundgate.host.servers import Server


def draft_rulebook(name: str, servers: Sequence[Server]) -> Draft:
    """Draft a rulebook from the first server's files; what differs in the others is marked.

    Raises Trouble where the folder holds no file whose format can be told.
    """
    first, *others = servers
    paths = first.files_of_known_formats()
    now = first.read_only(paths)
    if not now.files.texts:
        unreadable = "; ".join(why.cause for why in now.unreadable.values())
        raise Trouble(
            f"{first.name} has no file to draft a rulebook from{f' ({unreadable})' if unreadable else ''}.",
            f"Look into {first.folder}: files are known by the endings of their names, such as .properties or .ini.",
        )
    files = ServerFiles(NO_RULEBOOK, now.files.texts)
    elsewhere = {other.name: ServerFiles(NO_RULEBOOK, other.read_only(paths).files.texts) for other in others}
    return draft(name, files, [f"{path}: {why.cause}" for path, why in now.unreadable.items()], elsewhere)


def write_draft(made: Draft, path: Path) -> None:
    """Write a drafted rulebook, and see that it passes every check of rulebooks. Raises Trouble or BrokenRulebook."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write_durably(str(path), made.text.encode(), 0o644)
    except OSError as error:
        why = (error.strerror or str(error)).lower()
        raise Trouble(f"{path} cannot be written: {why}.", "Name another file with --to.") from error
    check_rulebook(str(path), None)
