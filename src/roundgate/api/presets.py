"""Presets: named sets of values, from a rulebook or from the site's folder ``presets``."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import msgspec
from msgspec import Struct

from roundgate.core import values
from roundgate.core.facts import absence_of
from roundgate.core.files import ServerFiles
from roundgate.core.formats.toml.writer import key_text, value_text
from roundgate.core.next_step import typed_command
from roundgate.core.rulebook.model import Preset, Rulebook, TomlValue
from roundgate.core.values import ValueProblem
from roundgate.host.cache import ParsedFiles
from roundgate.host.errors import Trouble, WrongUsage
from roundgate.host.files import write_durably
from roundgate.host.servers import Server
from roundgate.host.site import STATE_FOLDER, Site

_NAME = re.compile(r"[A-Za-z][A-Za-z0-9_-]{0,39}")


class PresetFile(Struct, frozen=True, forbid_unknown_fields=True):
    """A file of the folder ``presets``: the rulebook that it is for, and the values as people say them."""

    rulebook: str
    set: dict[str, TomlValue]
    about: str = ""


def presets_of(site: Site, server: Server) -> dict[str, Preset]:
    """Return the presets for a server, by name: those of its rulebook, then those of the site that are for it.

    Raises Trouble where a preset's file is wrong.
    """
    found = dict(server.book.preset)
    games = (server.entry.rulebook, *server.book.rulebook.layers)
    folder = site.folder / "presets"
    for path in sorted(folder.glob("*.toml")) if folder.is_dir() else ():
        read = _read(path, site)
        if read.rulebook in games:
            found[path.stem] = Preset(set=_known(read, server.book, path), about=read.about)
    return found


def game_of_preset(site: Site, name: str) -> str:
    """Return the rulebook that a preset of the site is for; empty where there is no such preset. Raises Trouble."""
    path = site.folder / "presets" / f"{name}.toml"
    return _read(path, site).rulebook if path.is_file() else ""


def left_out(preset: Preset, files: ServerFiles) -> dict[str, str]:
    """Return the settings of a preset that a server does not have, and what would have them."""
    absent = {name: absence_of(files.book.setting[name], files.facts) for name in preset.set}
    return {name: absence.needs for name, absence in absent.items() if absence is not None}


def missing_mode(preset: Preset, files: ServerFiles) -> dict[str, TomlValue]:
    """Return the values of a preset's mode that the files do not have: without them the preset does not count."""
    book = files.book
    return {
        name: value
        for name, value in preset.mode.items()
        if files.counting(name) != values.parse(values.plain_text(value, book.setting[name]), book.setting[name])
    }


def _read(path: Path, site: Site) -> PresetFile:
    from roundgate.core.rulebook.toml import RulebookProblem

    try:
        raw: Any = ParsedFiles(site.folder / STATE_FOLDER).toml(path)
        return msgspec.convert(raw, PresetFile)
    except RulebookProblem as error:
        place = error.findings[0].place
        where = f"presets/{path.name}:{place.line}:{place.column}"
        raise Trouble(f"{where}: {error.findings[0].cause}", "Correct the line.") from error
    except (msgspec.ValidationError, OSError) as error:
        raise Trouble(f"presets/{path.name}: {error}.", f"Correct {path}.") from error


def _known(read: PresetFile, book: Rulebook, path: Path) -> dict[str, TomlValue]:
    """See that a preset's settings and values are right. Raises Trouble."""
    known = {name: value for name, value in read.set.items() if name in book.setting or not _of_a_world(name, book)}
    for name, value in known.items():
        spec = book.setting.get(name)
        if spec is None:
            raise Trouble(
                f"presets/{path.name}: the rulebook {read.rulebook} has no setting '{name}'.", f"Correct {path}."
            )
        try:
            values.parse(values.plain_text(value, spec), spec)
        except ValueProblem as error:
            raise Trouble(f"presets/{path.name}: {name}: {error.cause}", f"Correct {path}.") from error
    return known


def _of_a_world(name: str, book: Rulebook) -> bool:
    """Return whether a setting is one of a world that this server does not have: others have it in theirs."""
    family, at, _ = name.partition("@")
    return bool(at) and any(other.partition("@")[0] == family for other in book.setting)


def assignments_of(several: Mapping[str, TomlValue], book: Rulebook) -> list[str]:
    """Return the values of a preset as arguments of ``set``: NAME=VALUE."""
    return [f"{name}={values.plain_text(value, book.setting[name])}" for name, value in several.items()]


def save_preset(site: Site, name: str, rulebook: str, chosen: Mapping[str, TomlValue], *, force: bool = False) -> Path:
    """Write a preset into the site's folder; ``chosen`` are values as people say them. Raises WrongUsage or Trouble."""
    if not _NAME.fullmatch(name):
        raise WrongUsage(f"'{name}' cannot be a preset's name.", "Use letters, digits, - and _.")
    if not rulebook:
        raise Trouble(
            "A preset needs a rulebook, and this server has none.", typed_command("rulebook draft", "<server>")
        )
    if not chosen:
        raise Trouble("Nothing differs, so there is nothing to save.", "Name another side with --against.")
    path = site.folder / "presets" / f"{name}.toml"
    if path.exists() and not force:
        raise Trouble(f"{path} already exists; nothing was written.", "--force overwrites it.")
    lines = [f"rulebook = {value_text(rulebook)}", 'about = ""', "", "[set]"]
    lines += [f"{key_text((setting,))} = {value_text(value)}" for setting, value in chosen.items()]
    try:
        path.parent.mkdir(exist_ok=True)
        write_durably(str(path), ("\n".join(lines) + "\n").encode(), 0o644)
    except OSError as error:
        why = (error.strerror or str(error)).lower()
        raise Trouble(f"{path} cannot be written: {why}.", "Check the folder's permissions.") from error
    return path
