"""The four layers of a value: default, on disk, on the slate, running; and how they differ."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from enum import StrEnum

from msgspec import Struct

from roundgate.core import values
from roundgate.core.files import ServerFiles, format_value, value_of
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


class DifferenceCode(StrEnum):
    """How two layers of a value differ."""

    ON_SLATE = "on-slate"
    """A change waits; it is not in force."""
    NEEDS_RESTART = "needs-restart"
    """On disk, and the running server has read another value."""
    NEEDS_NEW_WORLD = "needs-new-world"
    """On disk, and in force only in a world that is made from now on."""
    LIVE_UNTIL_STOP = "live-until-stop"
    """Sent to the console; the slate writes it into the file at the next stop."""
    LIVE_ONLY = "live-only"
    """Sent to the console, and in no file: the next restart loses it."""
    SERVER_DISAGREES = "server-disagrees"
    """The running server answers with another value than the file that it read."""
    RESET_BY_OTHERS = "reset-by-others"
    """A round wrote it, and something else has given it another value since."""
    GONE_FROM_FILE = "gone-from-file"
    """A round wrote it, and it is no longer in the file."""


class LayerDifference(Struct, frozen=True):
    """One difference between the layers of a value."""

    code: DifferenceCode
    value: str | None = None
    """What waits on the slate, as people say it; None where the value is to be taken out."""
    round: int | None = None
    """The round that wrote the value."""


class Layers(Struct, frozen=True):
    """One setting's layers, as stored (None: not there), and how they differ."""

    name: str
    default: str | None
    disk: str | None
    slate: str | None
    running: str | None
    runs: bool
    differences: tuple[LayerDifference, ...]


def layers_of(name: str, known: Known) -> Layers:
    """Work out a setting's layers and how they differ."""
    spec = known.disk.book.setting[name]
    default = None if spec.default is None else values.as_stored(spec.default, spec)
    disk, slate = known.disk.stored(name), known.slate.stored(name)
    running = _running(name, known)
    differences = tuple(_differences(name, spec, known, running))
    return Layers(name, default, disk, slate, running, known.started is not None, differences)


def differing_layers(known: Known) -> list[Layers]:
    """Return the layers of every setting whose layers differ. Where no file differs, few settings are looked at."""
    found = (layers_of(name, known) for name in _may_differ(known))
    return [layers for layers in found if layers.differences]


def _may_differ(known: Known) -> list[str]:
    book = known.disk.book
    others = [files for files in (known.slate, known.started) if files is not None and files is not known.disk]
    paths = {book.file[spec.file].path for spec in book.setting.values() if spec.file in book.file}
    if any(known.disk.texts.get(path) != files.texts.get(path) for path in paths for files in others):
        return list(book.setting)
    told = {**(known.asked or {}), **(known.live or {}), **(known.world or {}), **(known.drifted or {})}
    return [name for name in book.setting if name in told]


def _running(name: str, known: Known) -> str | None:
    for source in (known.asked, known.live, known.world):
        if source and name in source:
            return source[name]
    return known.started.stored(name) if known.started else None


def _differences(name: str, spec: Setting, known: Known, running: str | None) -> Iterator[LayerDifference]:
    disk, slate = known.disk.stored(name), known.slate.stored(name)
    if slate != disk:
        yield LayerDifference(DifferenceCode.ON_SLATE, format_value(slate, spec) if slate is not None else None)
    if known.started is not None and not spec.kept_in and value_of(disk, spec) != value_of(running, spec):
        yield LayerDifference(_why_not_running(name, spec, known, running))
    if known.drifted and name in known.drifted:
        yield LayerDifference(DifferenceCode.RESET_BY_OTHERS, round=known.drifted[name])


def _why_not_running(name: str, spec: Setting, known: Known, running: str | None) -> DifferenceCode:
    disk = known.disk.stored(name)
    if known.live and name in known.live:
        is_kept = known.slate.stored(name) == running
        return DifferenceCode.LIVE_UNTIL_STOP if is_kept else DifferenceCode.LIVE_ONLY
    if known.asked and name in known.asked and known.started and known.started.stored(name) == disk:
        return DifferenceCode.SERVER_DISAGREES
    return DifferenceCode.NEEDS_NEW_WORLD if spec.takes == "new-world" else DifferenceCode.NEEDS_RESTART
