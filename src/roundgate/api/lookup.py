"""Which setting or list does a word mean? Its name, the native key, any unambiguous ending, or ``FILE:KEY``."""

from __future__ import annotations

from pathlib import Path, PurePosixPath
from typing import Protocol

from msgspec import Struct

from roundgate.core.formats import format_name
from roundgate.core.formats.places import split_assignment
from roundgate.core.nearest import nearest
from roundgate.core.next_step import Advice, did_you_mean, typed_command
from roundgate.core.quoting import placeholder_in
from roundgate.core.rulebook.expansion import family, setting_at
from roundgate.core.rulebook.model import ListOf, Rulebook, Setting
from roundgate.host.errors import UnknownName, WrongUsage


class FileHome(Protocol):
    """What has files that a word can name: a server, its workspace, or a standalone file."""

    @property
    def name(self) -> str:
        """The server's name; empty where the files belong to none."""
        ...

    @property
    def book(self) -> Rulebook:
        """The rulebook of the files."""
        ...

    @property
    def folder(self) -> Path:
        """The folder that holds the files."""
        ...

    def paths(self) -> list[str]:
        """Name the configuration files."""
        ...


class SettingTarget(Struct, frozen=True):
    """What a word means: a setting of the rulebook, or a key of a file that no rulebook knows."""

    name: str
    file: str
    key: str
    spec: Setting | None


OPEN = "<value>"
"""In advice, in the place of a value that only the user knows: a shell refuses it, and so do the commands."""


def assignment(typed: str) -> tuple[str, str | None]:
    """Part NAME=VALUE that somebody typed; None: there is no value. Raises WrongUsage for one that is still open."""
    left = placeholder_in(typed)
    if left:
        raise WrongUsage(f"'{typed}': {left} stands for what you mean.", "Put that in its place.")
    return split_assignment(typed)


def find_name(book: Rulebook, word: str) -> str:
    """Return the setting or list that a word means, or an empty text. Raises WrongUsage where it means several."""
    lowered = word.lower()
    names = {name.lower(): name for name in (*book.setting, *book.list)}
    if lowered in names:
        return names[lowered]
    by_key = [name for name, spec in book.setting.items() if spec.key.lower() == lowered]
    by_family = [name for low, name in names.items() if family(low) == lowered]
    by_ending = [name for low, name in names.items() if low.endswith("." + lowered)]
    by_key_ending = [name for name, spec in book.setting.items() if spec.key.lower().endswith("." + lowered)]
    found = list(dict.fromkeys(by_family or by_key or by_ending or by_key_ending))
    if len(found) > 1:
        raise WrongUsage(f"'{word}' could be {' or '.join(found)}.", "Say which.")
    return found[0] if found else ""


def setting_of(server: FileHome, word: str, *, new_file: bool = False) -> SettingTarget:
    """Return the setting or key that a word means. Raises UnknownName with the nearest name.

    ``new_file``: a file that does not exist yet is to be made under the name given.

    Raises WrongUsage.
    """
    book = server.book
    file, colon, key = word.partition(":")
    if colon:
        return _key_of_file(server, file, key, new_file=new_file)
    name = find_name(book, word)
    if name in book.setting:
        spec = book.setting[name]
        return SettingTarget(name, book.file[spec.file].path, spec.key, spec)
    if name:
        raise WrongUsage(f"{name} is a list.", typed_command("add", server.name, name, "<entry>"))
    raise _unknown(server, word, "setting", [*book.setting, *(spec.key for spec in book.setting.values())])


def _key_of_file(server: FileHome, file: str, key: str, *, new_file: bool) -> SettingTarget:
    paths = server.paths()
    if file not in paths and not (server.folder / file).is_file():
        _new_file(server, file, key, paths, wanted=new_file)
    name = setting_at(server.book, file, key) or _in_file(server.book, file, key)
    if name:
        spec = server.book.setting[name]
        return SettingTarget(name, server.book.file[spec.file].path, spec.key, spec)
    return SettingTarget(f"{file}:{key}", file, key, None)


def _in_file(book: Rulebook, file: str, word: str) -> str:
    """Return the setting of a file by pattern that a word means there: ``worlds/bay/rules.ini:tide.height``."""
    if not word:
        return ""
    found = (
        name
        for name, spec in book.setting.items()
        if "@" in name and book.file[spec.file].path == file and name.partition("@")[0].lower() == word.lower()
    )
    return next(found, "")


def _new_file(server: FileHome, file: str, key: str, paths: list[str], *, wanted: bool) -> None:
    """See that a file that does not exist may be made. Raises UnknownName or WrongUsage."""
    same = next((path for path in paths if path.lower() == file.lower()), "")
    if wanted and not same and format_name(file) and ".." not in PurePosixPath(file).parts:
        return
    near = same or nearest(file, paths)
    hint = did_you_mean(f"{file}:{key}", f"{near}:{key}") if near else f"Files: {', '.join(paths)}" if paths else ""
    if wanted and not same:
        raise WrongUsage(
            f"'{file}' cannot be made: its name does not say its format, or it is not in the folder.", hint
        )
    if wanted:
        raise WrongUsage(f"'{file}' is not made: {same} differs from it by capitals only.", hint)
    new = " To make a new file, add --new-file."
    raise UnknownName(f"{server.name} has no file '{file}'.{new}", hint)


def list_of(server: FileHome, word: str) -> tuple[str, ListOf]:
    """Return the list that a word means. Raises UnknownName with the nearest name. Raises WrongUsage."""
    name = find_name(server.book, word)
    if name in server.book.list:
        return name, server.book.list[name]
    if name:
        raise WrongUsage(f"{name} is a setting, not a list.", typed_command("set", server.name, f"{name}={OPEN}"))
    known = [*server.book.list, *server.book.records, *server.book.roster]
    raise _unknown(server, word, "list", list(dict.fromkeys(known)))


def _unknown(server: FileHome, word: str, what: str, known: list[str]) -> UnknownName:
    head, sign, rest = word.partition("/")
    sets = list(server.book.records)
    here = [name for name in (*known, *sets) if "@" in name and name.partition("@")[0].lower() == head.lower()]
    if here:  # there is one for each world, or each platform
        return UnknownName(
            f"{server.name} has no {what} '{word}'.", did_you_mean(word, *(f"{name}{sign}{rest}" for name in here))
        )
    if sign:
        near = nearest(head, sets)
        hint: Advice = did_you_mean(word, f"{near}/{rest}") if near else typed_command("show", server.name)
        return UnknownName(f"{server.name} has no set of records '{head}'.", hint)
    known = [*known, *sets]
    family = list(dict.fromkeys(name for name in known if name.lower().startswith(word.lower() + ".")))
    if family:
        return UnknownName(f"{server.name} has no {what} '{word}'.", f"Did you mean one of {', '.join(family)}?")
    by_ending = {name.rpartition(".")[2]: name for name in reversed(known)}
    near = by_ending.get(nearest(word, by_ending, least=75)) or nearest(word, known)
    if near:
        return UnknownName(f"{server.name} has no {what} '{word}'.", did_you_mean(word, near))
    hint = typed_command(
        "show", server.name, options=("--search", word), hint="<file>:<key> for what no rulebook knows"
    )
    return UnknownName(f"{server.name} has no {what} '{word}'.", hint)
