"""What each world of a server was made with: settings that are fixed when a world is made are remembered by its name.

The file ``worlds.json`` in a server's state folder holds, for each setting that names a world, the values of the
settings that it fixes. They come from the running server where the rulebook says how to ask, else from the files with
which the world was made.
"""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from typing import TYPE_CHECKING

from msgspec import MsgspecError, json

from roundgate.core.files import ServerFiles, format_value, value_of
from roundgate.core.rulebook.model import Rulebook
from roundgate.core.slate import Outcome
from roundgate.host.errors import Trouble
from roundgate.host.files import read_bytes, write_durably
from roundgate.host.servers import Server

if TYPE_CHECKING:
    from roundgate.core.review import Consequence

_FILE = "worlds.json"
Worlds = dict[str, dict[str, dict[str, str]]]
"""By the setting that names a world, and the world's name: the fixed settings' values, as stored."""


def known_worlds(server: Server) -> Worlds:
    """Return what is remembered of a server's worlds; nothing where that cannot be read."""
    try:
        raw = read_bytes(f"{server.state}/{_FILE}")
        return json.decode(raw, type=Worlds) if raw else {}
    except (OSError, MsgspecError, Trouble):
        return {}


def fixed_by(book: Rulebook) -> dict[str, list[str]]:
    """Return the settings that a world fixes, by the setting that names the world."""
    found: dict[str, list[str]] = {}
    for name, spec in book.setting.items():
        if spec.fixed_by in book.setting:
            found.setdefault(spec.fixed_by, []).append(name)
    return found


def remember_world(server: Server, slot: str, world: str, values: Mapping[str, str]) -> None:
    """Keep what a world was made with. Nothing depends on it, so a disk without room is not a failure.

    A world without a name is made again at each start, and nothing of it is kept.
    """
    if not world:
        return
    worlds = known_worlds(server)
    worlds.setdefault(slot, {}).setdefault(world, {}).update(values)
    with suppress(OSError):
        write_durably(f"{server.state}/{_FILE}", json.encode(worlds))


def world_of(server: Server, files: ServerFiles) -> dict[str, str]:
    """Return what the worlds that the files name were made with, as far as that is known, by setting."""
    worlds = known_worlds(server)
    found: dict[str, str] = {}
    for slot in worlds:
        if slot in server.book.setting and (world := files.counting_text(slot)):
            found.update(worlds[slot].get(world, {}))
    return found


def world_consequences(server: Server, outcome: Outcome) -> list[Consequence]:
    """Return where the files will ask for something else than the world that they name was made with."""
    from roundgate.core.review import Consequence, ConsequenceCode  # a command that only looks needs no review

    made = world_of(server, outcome.after)
    found = []
    for slot, names in fixed_by(server.book).items():
        world = outcome.after.counting_text(slot)
        for name in names:
            spec = server.book.setting[name]
            wanted = outcome.after.stored(name)
            if name in made and value_of(made[name], spec) != value_of(wanted, spec):
                shown = format_value(wanted, spec) if wanted is not None else "the default"
                detail = {"world": world, "made": format_value(made[name], spec), "wanted": shown}
                found.append(Consequence(ConsequenceCode.WORLD_FIXED, (name,), detail))
    return found
