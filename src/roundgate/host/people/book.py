"""The file of the people book."""

from __future__ import annotations

from roundgate.core.people.book import BookProblem, People, read_people
from roundgate.core.text import NotText, Text, decode
from roundgate.host.errors import Trouble
from roundgate.host.files import read_bytes, write_durably
from roundgate.host.site import Site

BOOK = "people.toml"


def load_people(site: Site) -> People:
    """Read the people book; an empty one where there is none. Raises Trouble with the place of a mistake."""
    path = site.folder / BOOK
    try:
        raw = read_bytes(str(path))
        return read_people(decode(raw) if raw is not None else Text(""))
    except (BookProblem, NotText, OSError) as error:
        raise Trouble(f"{BOOK}: {error}.", f"Correct {path}.") from error


def save_people(site: Site, text: Text) -> None:
    """Write the people book, once it can be read back. Raises Trouble."""
    path = site.folder / BOOK
    try:
        read_people(text)
        write_durably(str(path), text.encode(), 0o644)
    except (BookProblem, OSError) as error:
        raise Trouble(f"{path} was not written: {error}.", "Look at the folder's permissions.") from error
