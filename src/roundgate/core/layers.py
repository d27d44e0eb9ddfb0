"""The four layers of a value: default, on disk, on the slate, running; and in plain words where they differ."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from roundgate.core import values
from roundgate.core.files import ServerFiles, say, value_of
from roundgate.core.rulebook.model import Setting


class Known(Struct, frozen=True):
    """All that is known of a server's values at one moment."""

    disk: ServerFiles
    slate: ServerFiles
    started: ServerFiles | None = None
    """The files as they were when the running server started; None where none runs."""
    live: Mapping[str, str] | None = None
    """What was sent to the console since, by setting, as stored."""
    asked: Mapping[str, str] | None = None
    """What the running server answered when it was asked, by setting, as stored."""
    drifted: Mapping[str, int] | None = None
    """The settings that no longer hold what a round wrote, with that round's number."""
    world: Mapping[str, str] | None = None
    """What the running world was made with, by setting, as stored."""


class Layers(Struct, frozen=True):
    """One setting's layers, as stored (None: not there), and a word for each difference."""

    name: str
    default: str | None
    disk: str | None
    slate: str | None
    running: str | None
    runs: bool
    differences: tuple[str, ...]


def layers_of(name: str, known: Known) -> Layers:
    """Work out a setting's layers and what to say of them."""
    spec = known.disk.book.setting[name]
    default = None if spec.default is None else values.plain_text(spec.default, spec)
    disk, slate = known.disk.stored(name), known.slate.stored(name)
    running = _running(name, known)
    words = tuple(_differences(name, spec, known, running))
    return Layers(name, default, disk, slate, running, known.started is not None, words)


def _running(name: str, known: Known) -> str | None:
    for source in (known.asked, known.live, known.world):
        if source and name in source:
            return source[name]
    return known.started.stored(name) if known.started else None


def _differences(name: str, spec: Setting, known: Known, running: str | None) -> list[str]:
    disk, slate = known.disk.stored(name), known.slate.stored(name)
    words = []
    if slate != disk:
        words.append(f"on the slate: {say(slate, spec) if slate is not None else 'to be taken out'}")
    if known.started is not None:
        words += _running_words(name, spec, known, running)
    if known.drifted and name in known.drifted:
        words.append(f"reset by something other than Round Gate since round {known.drifted[name]}")
    return words


def _running_words(name: str, spec: Setting, known: Known, running: str | None) -> list[str]:
    disk = known.disk.stored(name)
    if value_of(disk, spec) == value_of(running, spec):
        return []
    if known.live and name in known.live:
        if known.slate.stored(name) == running:
            return ["in force by the console; goes into the file at the next stop"]
        return ["set at the console only: lost at the next restart"]
    if known.asked and name in known.asked and known.started and known.started.stored(name) == disk:
        return ["on disk, but the server says otherwise: changed at its console since, or it did not take the value"]
    if spec.takes == "new-world":
        return ["on disk but not running: needs a restart and a new world"]
    return ["on disk but not running: restart"]
