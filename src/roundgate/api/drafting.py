"""Drafting a rulebook from the files of servers as they are."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

from roundgate.core.draft.writer import Draft, draft
from roundgate.core.files import ServerFiles
from roundgate.core.formats import format_name
from roundgate.core.formats.detect import format_for, sniffed_settings
from roundgate.core.formats.protocol import Dialect
from roundgate.core.patterns import lazy
from roundgate.core.rulebook.model import NO_RULEBOOK, File, Rulebook
from roundgate.core.text import Text
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
    book = Rulebook(
        rulebook=NO_RULEBOOK.rulebook,
        file={path: file_by_its_looks(path, text) for path, text in now.files.texts.items()},
    )
    files = ServerFiles(book, now.files.texts)
    elsewhere = {other.name: ServerFiles(book, other.read_only(paths).files.texts) for other in others}
    return draft(name, files, [f"{path}: {why.cause}" for path, why in now.unreadable.items()], elsewhere)


def file_by_its_looks(path: str, text: Text) -> File:
    """Return a file's format by its name, else by its content with what is commented out in it.

    Keys whose values have remarks after them are no properties, whose values run to the end of the line.
    """
    if format_name(path):
        return File(path=path, format=format_for(path, text.body))
    name = sniffed_settings(text.body) or "lines"
    pairs = len(_PAIR.findall(text.body))
    if name == "properties" and len(_REMARK.findall(text.body)) > pairs * _SHARE:
        return File(path=path, format="ini", dialect=Dialect(notes=True))
    return File(path=path, format=name)


_PAIR = lazy(r"^[ \t]*#?[\w.-]+[ \t]*=", re.MULTILINE)
_REMARK = lazy(r"^[ \t]*#?[\w.-]+[ \t]*=[^#\n]*[ \t]#", re.MULTILINE)
_SHARE = 0.2


def write_draft(made: Draft, path: Path) -> None:
    """Write a drafted rulebook, and see that it passes every check of rulebooks. Raises Trouble or BrokenRulebook."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write_durably(str(path), made.text.encode(), 0o644)
    except OSError as error:
        why = (error.strerror or str(error)).lower()
        raise Trouble(f"{path} cannot be written: {why}.", "Name another file with --to.") from error
    check_rulebook(str(path), None)
