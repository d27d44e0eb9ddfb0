"""The file of the people book."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import date
from functools import lru_cache
from typing import TYPE_CHECKING

from msgspec.structs import replace

from roundgate.core.files import ServerFiles
from roundgate.core.findings import Finding, Place
from roundgate.core.people.book import BookProblem, People, read_people
from roundgate.core.people.rosters import EndedStanding, ended_on
from roundgate.core.text import NotText, Text, decode
from roundgate.host.errors import Trouble
from roundgate.host.files import read_bytes, write_durably
from roundgate.host.servers import Server
from roundgate.host.site import Site

if TYPE_CHECKING:
    from roundgate.core.review import Consequence

BOOK = "people.toml"


def _read(site: Site) -> People:
    """Read the book; one that has not changed is not read again. Raises BookProblem, NotText or OSError."""
    path = site.folder / BOOK
    try:
        found = path.stat()
    except FileNotFoundError:
        return People(Text(""), {})
    return _read_file(str(path), (found.st_ino, found.st_mtime_ns, found.st_size))


@lru_cache(maxsize=2)
def _read_file(path: str, _version: tuple[int, int, int]) -> People:
    raw = read_bytes(path)
    return read_people(decode(raw) if raw is not None else Text(""))


def load_people(site: Site) -> People:
    """Read the people book; an empty one where there is none. Raises Trouble with the place of a mistake."""
    path = site.folder / BOOK
    try:
        return _read(site)
    except BookProblem as error:
        where = f":{error.line}:{error.column}" if error.line else ""
        raise Trouble(f"{BOOK}{where}: {str(error).rstrip('.')}.", f"Correct {path}.") from error
    except (NotText, OSError) as error:
        raise Trouble(f"{BOOK}: {error}.", f"Correct {path}.") from error


def save_people(site: Site, text: Text) -> None:
    """Write the people book, once it can be read back. Raises Trouble."""
    path = site.folder / BOOK
    try:
        read_people(text)
        write_durably(str(path), text.encode(), 0o644)
    except (BookProblem, OSError) as error:
        raise Trouble(f"{path} was not written: {error}.", "Check the folder's permissions.") from error


def places_of(server: Server) -> set[str]:
    """Return the names by which the people book means a server: its name, its tags, and ``@all``."""
    return {f"@{tag}" for tag in server.entry.tags} | {"@all", server.name}


def ended_people(server: Server, files: ServerFiles) -> list[EndedStanding]:
    """Return those on the rosters of a server whose time there is over. A book that cannot be read says nothing."""
    if not files.book.roster:
        return []
    try:
        people = _read(server.site)
    except (BookProblem, NotText, OSError):
        people = People(Text(""), {})
    return list(ended_on(files, people, places_of(server), date.today()))


def with_names(server: Server, consequences: Sequence[Consequence]) -> list[Consequence]:
    """Call those who join or leave a roster by their names, where a file has only their ids and the book knows them."""
    from roundgate.core.review import ConsequenceCode

    of_people = (ConsequenceCode.JOINS, ConsequenceCode.LEAVES)
    if not any(consequence.code in of_people for consequence in consequences):
        return list(consequences)
    try:
        people = _read(server.site)
    except (BookProblem, NotText, OSError):
        return list(consequences)
    found = []
    for consequence in consequences:
        key = people.named(consequence.detail.get("who", ""), server.book.kind) if consequence.code in of_people else ""
        if key:
            consequence = replace(
                consequence,
                detail={**consequence.detail, "who": f"{people.people[key].name} ({consequence.detail['who']})"},
            )
        found.append(consequence)
    return found


def check_book(server: Server, files: ServerFiles) -> Iterator[Finding]:
    """Find what is wrong with the people book, and where a server's rosters do not agree with it.

    What is wrong with the book alone is said of no server.
    """
    from roundgate.core.checks.context import CheckContext
    from roundgate.core.checks.people import check_people, same_ids

    try:
        people = _read(server.site)
    except BookProblem as error:
        do = f"Correct {server.site.folder / BOOK}."
        yield Finding("people-book", "error", Place(BOOK, error.line, error.column), f"{error}", do)
        return
    except (NotText, OSError) as error:
        yield Finding("people-book", "error", Place(BOOK), f"{error}.", "Check that it is the right file.")
        return
    yield from same_ids(people, BOOK)
    if files.book.roster:
        yield from check_people(CheckContext(server.name, files, {}), people, places_of(server), date.today(), BOOK)
