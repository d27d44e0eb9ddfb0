"""One server as the machine has it: its folder, its rulebook, its files as they are now, and where its state lies."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from decimal import Decimal
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import MsgspecError, Struct, json

from roundgate.core.facts import Facts
from roundgate.core.files import ServerFiles, Unreadable
from roundgate.core.formats import format_name
from roundgate.core.formats.detect import sniffed_settings
from roundgate.core.formats.places import key_of
from roundgate.core.formats.protocol import Document
from roundgate.core.rulebook.expansion import for_files, patterns, with_includes
from roundgate.core.rulebook.model import NO_RULEBOOK, Rulebook
from roundgate.core.values import ValueProblem, as_stored
from roundgate.core.values.units import parse_seconds
from roundgate.host.errors import OutOfReach, Trouble
from roundgate.host.facts import facts_of, found_files
from roundgate.host.files import Folder, SeenTexts, read_at_rest, read_bytes, read_texts, write_durably
from roundgate.host.keeper.config import KeeperConfig
from roundgate.host.keeper.interpreter import own
from roundgate.host.rulebooks import load_rulebook
from roundgate.host.site import CATALOGUE, Site, make_private
from roundgate.host.site_file.tables import ServerEntry

if TYPE_CHECKING:
    from roundgate.host.rented.mirror import Mirror
    from roundgate.host.rented.protocol import Remote

_BOOK = "rulebook.json"
_DEEPEST, _MOST_FILES = 4, 500
"""Without a rulebook, so deep and so many files of a server are looked at."""
_LARGEST_FETCHED = 4 * 1024 * 1024
"""Bytes of a file that no rulebook names, and that is fetched from a rented machine all the same."""


class FilesNow(Struct, frozen=True):
    """What the disk holds at one moment: the files that could be read, and why others could not."""

    files: ServerFiles
    unreadable: dict[str, Unreadable]


_Found = tuple[tuple[str, tuple[tuple[str, str], ...]], ...]
_EXPANDED: dict[tuple[int, _Found], tuple[Rulebook, Rulebook]] = {}
"""Rulebooks for the files that a folder has, for most servers of a game have the same; the first of each two is kept,
so that its id stays its own."""


def _expanded(book: Rulebook, found: _Found) -> Rulebook:
    key = (id(book), found)
    if key not in _EXPANDED:
        _EXPANDED[key] = (book, for_files(book, {name: list(paths) for name, paths in found}))
    return _EXPANDED[key][1]


class Server(Struct, frozen=True, dict=True):
    """A server of a site."""

    site: Site
    name: str
    lenient: bool = False
    """True where a broken rulebook must not keep the server from being stopped or looked at: the last good one is
    taken then."""

    @property
    def entry(self) -> ServerEntry:
        """What the site file says of it."""
        return self.site.file.server[self.name]

    @cached_property
    def book(self) -> Rulebook:
        """Its rulebook, for the files that its folder has, without commands that the site file does not allow.

        Raises BrokenRulebook or Trouble.
        """
        book = self.whole_book
        if not any(query.run for query in book.query.values()):
            return book
        from roundgate.core.rulebook.commands import without_commands
        from roundgate.host.asking.consent import may_run  # few rulebooks run anything

        return book if may_run(self.entry, book) else without_commands(book)

    @cached_property
    def whole_book(self) -> Rulebook:
        """Its rulebook as it is written, for the files that its folder has. Raises BrokenRulebook or Trouble."""
        try:
            book = load_rulebook(self.entry.rulebook, self.site.folder)
        except Trouble:
            if not self.lenient:
                raise
            return self._last_good_book() or NO_RULEBOOK
        if book.ranks and (self.site.folder / CATALOGUE).exists():
            from roundgate.host.people.permissions import with_catalogue  # few sites have such a file

            book = with_catalogue(book, self.site)
        if self.mirror is not None:
            self.mirror.pull_book(book)
        found = {name: found_files(self._home, path) for name, path in patterns(book).items()}
        expanded = _expanded(book, tuple((name, tuple(paths)) for name, paths in found.items()))
        return with_includes(
            expanded,
            {name: included_files(self, expanded, name) for name, file in expanded.file.items() if file.includes},
        )

    @cached_property
    def facts(self) -> Facts:
        """What holds of it beside its files; each is looked at when it is asked for."""
        return facts_of(self.name, self._home, self.entry, lambda: self.book.rulebook.version, self.mirror)

    def _last_good_book(self) -> Rulebook | None:
        try:
            raw = read_bytes(f"{self.state}/{_BOOK}")
            return json.decode(raw, type=Rulebook) if raw else None
        except (OSError, MsgspecError):
            return None

    def remember_book(self) -> None:
        """Keep the rulebook as it is now, for the case that it is broken when the server is to be stopped."""
        # On a full disk the one of an earlier start is used, or the broken one is told.
        with suppress(OSError):
            write_durably(f"{self.state}/{_BOOK}", json.encode(self.book))

    @property
    def folder(self) -> Path:
        """Its folder; of a rented server, that of the copy of its files."""
        folder = self.site.folder_of(self.name)
        if self.entry.is_rented and not folder.is_dir():
            for made in (self.site.state, folder.parent, folder):
                make_private(made)
        return folder

    @property
    def files_folder(self) -> Folder:
        """Its folder as the place where files are read and written. Raises Trouble where it is not there."""
        if not self.folder.is_dir():
            raise Trouble(f"The folder of {self.name}, {self.folder}, is not there.", "Fix 'folder' in the site file.")
        return self._home

    @cached_property
    def mirror(self) -> Mirror | None:
        """What keeps the copy of a rented server's files; None for a server of this machine."""
        if not self.entry.is_rented:
            return None
        from roundgate.host.rented.opening import open_mirror  # most servers are here

        return open_mirror(self.site, self.folder, self.entry)

    def fetch(self, paths: Sequence[str]) -> None:
        """Bring the copy of these files to what the place has, to the byte; of a server of this machine, nothing.

        Raises Trouble, OutOfReach.
        """
        if self.mirror is not None:
            self.mirror.pull(paths, whole=True)

    def fetch_logs(self, *, whole: bool = True) -> None:
        """Bring the copies of its logs up to date, packed ones too if ``whole``; here, nothing.

        Raises Trouble, OutOfReach.
        """
        if self.mirror is not None:
            self.mirror.pull_logs(self.book.server.logs, whole=whole)

    def fetch_below(self, folder: str) -> None:
        """Bring the copy of a folder up to date, but for large files and hidden ones; here, nothing.

        Raises Trouble, OutOfReach.
        """
        if self.mirror is not None:
            self.mirror.pull_below(folder, lambda path, one: _is_for_people(path) and one.size <= _LARGEST_FETCHED)

    def names_in(self, folder: str) -> list[str]:
        """Name what is in a folder of the server's. Raises Trouble."""
        return self.mirror.names(folder) if self.mirror is not None else self.files_folder.names(folder)

    def hang_up(self) -> None:
        """Let a rented machine's file service go: many take one or two connections, and another process needs one."""
        if self.mirror is not None:
            self.mirror.remote.close()

    @cached_property
    def _home(self) -> Folder:
        return Folder(str(self.folder), tuple(str(self.site.folder / place) for place in self.entry.outside))

    @cached_property
    def state(self) -> str:
        """The folder that holds what is remembered of it."""
        return str(self.site.state_of(self.name))

    def paths(self, extra: Sequence[str] = ()) -> list[str]:
        """Name its configuration files: those of the rulebook, or all of a known kind where there is no rulebook."""
        known = [file.path for file in self.book.file.values() if file.path]
        if not known:
            known = self.files_of_known_formats()
        return list(dict.fromkeys((*known, *extra)))

    def files_of_known_formats(self) -> list[str]:
        """Name the files below its folder whose names say their format, or whose content does, after ``.conf``.

        Hidden folders and deep ones are left out.
        """
        if self.mirror is not None:
            with suppress(OutOfReach):  # the copy is told to be old at the end
                self._fetch_known_formats(self.mirror)
        home = self.files_folder
        found: list[str] = []
        for path, _, _ in home.walk(skips=lambda path: not _may_hold(path)):
            if _is_for_people(path) and home.holds(path) and _has_format(home, path):
                found.append(path)
            if len(found) > _MOST_FILES:
                return found[:_MOST_FILES]
        return sorted(found, key=lambda path: (path.count("/"), path))

    def _fetch_known_formats(self, mirror: Mirror) -> None:
        """Bring the copies of files up to date that may be of a known format."""

        def wants(path: str, one: Remote) -> bool:
            if one.is_folder:
                return _may_hold(path)
            fits = format_name(path.rpartition("/")[2]) or path.lower().endswith(_OF_SETTINGS)
            return bool(fits) and _is_for_people(path) and one.size <= _LARGEST_FETCHED

        mirror.pull_below("", wants)

    def read(self, extra: Sequence[str] = ()) -> FilesNow:
        """Read its files as they are on disk now; those that the server rewrites while it runs, at rest."""
        return self.read_only(self.paths(extra))

    def read_only(self, paths: Sequence[str]) -> FilesNow:
        """Read these of its files, and no others."""
        if self.mirror is not None:
            self.mirror.refresh(paths)
        busy = [file.path for file in self.book.file.values() if file.rewritten == "while-running"]
        texts, unreadable = read_texts(self.files_folder, [path for path in paths if path not in busy], self._seen)
        if busy:
            more, others = read_at_rest(self.files_folder, [path for path in paths if path in busy])
            texts, unreadable = {**texts, **more}, {**unreadable, **others}
        return FilesNow(ServerFiles(self.book, texts, self.documents, self.facts), unreadable)

    @cached_property
    def _seen(self) -> SeenTexts:
        return SeenTexts()

    @cached_property
    def _seen_started(self) -> SeenTexts:
        return SeenTexts()

    @cached_property
    def documents(self) -> dict[str, Document]:
        """What was read last of each file, so that a large one is not read again where it is still the same."""
        return {}

    def read_started(self) -> ServerFiles:
        """Read the copies of its files as the running server read them at its start."""
        texts, _ = read_texts(Folder(f"{self.state}/started"), self.paths(), self._seen_started)
        return ServerFiles(self.book, texts, None, self.facts)

    def seconds(self, name: str) -> float:
        """Return one of the times ``grace``, ``start_within`` and ``watch``, the site's word before the rulebook's.

        Raises Trouble.
        """
        text = getattr(self.entry, name) or getattr(self.book.server, name)
        try:
            return float(Decimal(text) if text.isascii() and text.isdigit() else parse_seconds(text))
        except ValueProblem as error:
            raise Trouble(f"'{name}' of {self.name}: {error.cause}", "Fix it in the site file.") from error

    @property
    def run_in(self) -> str:
        """The folder that its process is run in."""
        return str(self.folder / self.entry.run_in)

    @property
    def may_kill(self) -> bool:
        """Whether SIGKILL is allowed as the last resort."""
        return self.book.server.kill if self.entry.kill is None else self.entry.kill

    def keeper_config(self) -> KeeperConfig:
        """Return what its keeper needs to know."""
        server = self.book.server
        folder = self.files_folder
        return {
            "server": self.name,
            "command": self.entry.start,
            "folder": str(self.folder),
            "run_in": self.run_in,
            "user": self.entry.user,
            "umask": self.entry.umask,
            "terminal": server.terminal if self.entry.terminal is None else self.entry.terminal,
            "environment": {
                name: value.replace("{folder}", str(self.folder)) for name, value in self.entry.environment.items()
            },
            "state": self.state,
            "ready": server.ready,
            "joined": server.joined,
            "left": server.left,
            "files": self._places(folder),
            "pidfile": self._pidfile(folder),
            "restart": self.entry.restart,
            "recover": own("roundgate.host.rounds", "recover", str(self.site.folder)),
            "tick": own("roundgate.host.timetable", str(self.site.folder), self.name),
            "notify": own("roundgate.host.notices", "life", str(self.site.folder), self.name)
            if self.site.file.notices.recipients
            else [],
        }

    @property
    def goes_into_background(self) -> bool:
        """Whether a keeper holds it by its PID file."""
        return self.entry.driver == "keeper" and bool(self.entry.pidfile or self.book.server.pidfile)

    def _pidfile(self, folder: Folder) -> str:
        """Return where the server's PID file really is; the one that the site file names may be anywhere."""
        if self.entry.pidfile:
            return str((self.folder / self.entry.pidfile).resolve())
        with suppress(Trouble):  # one that leads out of its folder is not read
            return folder.resolve(self.book.server.pidfile) if self.book.server.pidfile else ""
        return ""

    def _places(self, folder: Folder) -> dict[str, str]:
        """Return where each of its files really is; one that leads out of its folder is not copied."""
        places: dict[str, str] = {}
        for path in self.paths():
            with suppress(Trouble):
                places[path] = folder.resolve(path)
        return places


def _is_for_people(path: str, deepest: int = _DEEPEST) -> bool:
    """Return whether a file or folder is neither hidden nor deep."""
    return not path.rpartition("/")[2].startswith(".") and path.count("/") <= deepest


def _may_hold(path: str) -> bool:
    """Return whether a folder may hold files that are for people."""
    return _is_for_people(path, _DEEPEST - 1)


def _has_format(home: Folder, path: str) -> bool:
    """Whether a file is in a known format: by its name, or by its beginning where its name says settings only."""
    if format_name(path.rpartition("/")[2]):
        return True
    if not path.lower().endswith(_OF_SETTINGS):
        return False
    # What cannot be read now has no format; check tells of it where the rulebook names it.
    with suppress(OSError, Trouble), home.open(path) as file:
        return sniffed_settings(file.read(_BEGINNING).decode("utf-8", "replace")) != ""
    return False


def included_files(server: Server, book: Rulebook, name: str) -> list[str]:
    """Return the files that one of a server's files includes, in their order; those that there are."""
    file = book.file[name]
    if not server._home.holds(file.path):
        return []
    with suppress(Trouble, OSError):
        texts, _ = read_texts(server.files_folder, [file.path], server._seen)
        document = ServerFiles(book, texts).document(file.path)
        found = (
            [entry.value for entry in document.entries() if key_of(entry.path[:1]) == file.includes] if document else []
        )
        return [path for path in dict.fromkeys(found) if server._home.holds(path)]
    return []


_OF_SETTINGS = (".conf", ".cnf", ".config", ".settings", ".prefs")
"""Endings of files that hold settings in any format."""
_BEGINNING = 500_000
"""Bytes; long comments come before the first setting."""


def stored_value(server: Server, files: ServerFiles, name: str) -> str:
    """Return a setting as the server will read it: what the file holds, else the default, as text."""
    spec = server.book.setting[name]
    stored = files.stored(name)
    return stored if stored is not None else "" if spec.default is None else as_stored(spec.default, spec)
