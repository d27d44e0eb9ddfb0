"""Making a site, and a folder a server of it: the rulebook is recognised by the files and their content."""

from __future__ import annotations

import contextlib
import os
import re
import stat
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path

import msgspec
from msgspec import Struct, json

from roundgate.core.next_step import typed_command
from roundgate.core.patterns import compiled
from roundgate.core.rulebook.model import Rulebook
from roundgate.core.rulebook.toml import RulebookProblem, parse_toml
from roundgate.host.drivers.taking_over import RunningServer
from roundgate.host.errors import Trouble, WrongUsage
from roundgate.host.files import Folder, read_texts, write_durably
from roundgate.host.rulebooks import load_rulebook, rulebook_names
from roundgate.host.servers import Server
from roundgate.host.site import Site, make_private, read_site
from roundgate.host.site_file.checking import NAME, SITE_FILE
from roundgate.host.site_file.tables import ServerEntry, SiteFile

_SCRIPTS = ("launch.sh", "start.sh", "run.sh")


def make_site(folder: Path, name: str) -> None:
    """Write a site file. Raises Trouble where there is one already."""
    path = folder / SITE_FILE
    if path.exists():
        raise Trouble(f"{path} already exists.", typed_command("adopt", "", "<folder>"))
    try:
        folder.mkdir(parents=True, exist_ok=True)
        title = f"name = {quoted_text(name)}\n" if name else ""
        text = "# The servers that one team runs. Round Gate reads this file; write servers by hand or with 'adopt'.\n"
        write_durably(str(path), f"{text}\n[site]\n{title}".encode(), 0o644)
    except OSError as error:
        raise Trouble(f"{path} cannot be written: {error.strerror}.", "Choose another folder.") from error


def quoted_text(text: str) -> str:
    """Write a text as TOML has it; JSON's form is one of TOML's."""
    return json.encode(text).decode()


class ProcessOptions(Struct, frozen=True):
    """How the server's process is run, where that is not the usual way; see the same keys of the site file."""

    user: str = ""
    run_in: str = ""
    umask: str = ""
    environment: tuple[str, ...] = ()
    """NAME=VALUE each."""

    def lines(self) -> list[str]:
        """Write the keys of the site file. Raises WrongUsage."""
        found = [
            f"{key} = {quoted_text(value)}"
            for key, value in (("user", self.user), ("run-in", self.run_in), ("umask", self.umask))
            if value
        ]
        pairs = []
        for word in self.environment:
            name, sign, value = word.partition("=")
            if not sign or not re.fullmatch(r"[A-Za-z_]\w*", name):
                raise WrongUsage(f"'{word}' is not a variable.", "Give --environment NAME=VALUE.")
            pairs.append(f"{name} = {quoted_text(value)}")
        return [*found, *([f"environment = {{ {', '.join(pairs)} }}"] if pairs else [])]


def checked_name(name: str) -> str:
    """Return a name for a server. Raises WrongUsage where it cannot be one."""
    if not NAME.fullmatch(name):
        raise WrongUsage(f"'{name}' cannot be a server's name.", "Give --name, of letters, digits, - and _.")
    return name


def refuse_taken_name(site: Site, name: str) -> None:
    """Raise Trouble where a site has a server of that name."""
    if name in site.file.server:
        raise Trouble(f"The site has a server '{name}' already.", "Give another --name.")


class Adoption(Struct, frozen=True):
    """What a person asks for when adopting a folder."""

    site: Site
    given: Path
    name: str | None
    rulebook: str | None
    start: str | None
    tags: tuple[str, ...]
    process: ProcessOptions = ProcessOptions()
    running: RunningServer | None = None
    """The server's process, where it runs already and is to be taken over."""

    @property
    def folder(self) -> Path:
        """The folder, whole. Raises Trouble where it is not there."""
        folder = self.given if self.given.is_absolute() else Path.cwd() / self.given
        if not folder.is_dir():
            raise Trouble(f"There is no folder {self.given}.", "Name the folder that holds the server.")
        return folder.resolve()

    @property
    def server_name(self) -> str:
        """The server's name on the site. Raises WrongUsage where it cannot be one."""
        return checked_name(self.name or self.folder.name)

    @property
    def command(self) -> list[str]:
        """The start command. Raises WrongUsage where none is given, none is found, and it does not run."""
        if self.start:
            import shlex

            return shlex.split(self.start)
        script = next((name for name in _SCRIPTS if (self.folder / name).is_file()), None)
        if script is None and self.running is not None:
            return list(self.running.command)
        if script is None:
            raise WrongUsage("How is it started?", 'Give --start "COMMAND", as you would type it in its folder.')
        if not os.access(self.folder / script, os.X_OK):
            return ["sh", script]
        return [f"./{script}"]


class RulebookGuess(Struct, frozen=True):
    """The rulebook that fits, and why."""

    rulebook: str
    reason: str


def recognise(plan: Adoption) -> RulebookGuess:
    """Find the rulebook of a folder: by its files, by the keys in them, by the start script."""
    if plan.rulebook is not None:
        load_rulebook(plan.rulebook, plan.site.folder)
        return RulebookGuess(plan.rulebook, f"{plan.rulebook}, as you said" if plan.rulebook else "none, as you said")
    return best_fit((name, *_score(plan, book)) for name, book in every_rulebook(plan.site))


def every_rulebook(site: Site) -> Iterator[tuple[str, Rulebook]]:
    """Yield the rulebooks of a site that can be read, each with its name."""
    for name in rulebook_names(site.folder):
        with contextlib.suppress(Trouble):
            yield name, load_rulebook(name, site.folder)


_NAMED = 4
"""Files by which a rulebook was found that are named."""


def best_fit(scores: Iterable[tuple[str, float, str]]) -> RulebookGuess:
    """Choose a rulebook by scores, each with its reason; none where all are 0."""
    best, _, why = max(scores, key=lambda one: one[1], default=("", 0.0, ""))
    if not why:
        return RulebookGuess("", "none fits; its files can still be read, checked for syntax, and changed by FILE:KEY")
    return RulebookGuess(best, f"{best} ({why})")


def score_by_keys(folder: Path, book: Rulebook) -> tuple[float, str]:
    """Return how well a rulebook's keys fit the files of a folder, and by what; 0 and nothing where none is known."""
    texts, _ = read_texts(Folder(str(folder)), [file.path for file in book.file.values() if file.path])
    known = {spec.key for spec in book.setting.values()}
    held = {
        match[1]
        for text in texts.values()
        for match in re.finditer(r"^[ \t]*([\w.\-]+)[ \t]*[=:]", text.body, re.MULTILINE)
    }
    shared = len(known & held)
    if shared:
        names = sorted(texts)
        more = f" and {len(names) - _NAMED} more files" if len(names) > _NAMED else ""
        by = f"by {', '.join(names[:_NAMED])}{more}"
        return 1 + shared / len(held), f"{by}, {shared} of their {len(held)} keys known"
    return 0.0, ""


def _score(plan: Adoption, book: Rulebook) -> tuple[float, str]:
    score, why = score_by_keys(plan.folder, book)
    if why:
        return score, why
    script = (_read_inside(plan.folder, plan.command[-1]) if len(plan.command) < 3 else None) or b""
    searched = " ".join(plan.command) + script.decode("utf-8", "replace")
    if book.server.process and compiled(book.server.process).search(searched):
        return 0.5, "by its start command"
    return 0.0, ""


def _read_inside(folder: Path, path: str) -> bytes | None:
    """Read a file of a server's folder; a program elsewhere, or one behind a link that leads out, is not read."""
    try:
        return Folder(str(folder)).read(path)
    except (OSError, Trouble):
        return None


def write_server(plan: Adoption, guess: RulebookGuess) -> None:
    """Put the server into the site file, after what is there. Raises Trouble where the name or folder is taken.

    One at a time: two people who adopt at once must not lose each other's server.
    """
    from filelock import FileLock

    make_private(plan.site.state)
    with FileLock(plan.site.state / "site.lock", mode=0o600):
        _refuse_taken(read_site(plan.site.folder), plan.server_name, plan.folder)
        append_table(plan.site, _table(plan, guess))
    read_site(plan.site.folder)


def append_table(site: Site, table: str) -> None:
    """Put a table behind what the site file has."""
    path = site.folder / SITE_FILE
    old = path.read_bytes()
    gap = b"" if old.endswith(b"\n") or not old else b"\n"
    write_durably(str(path), old + gap + b"\n" + table.encode(), stat.S_IMODE(path.stat().st_mode))


def remove_server(site: Site, name: str) -> None:
    """Take a server's tables out of the site file; its files, its rounds and its state stay where they are.

    Raises Trouble where the file cannot be read again afterwards: then it is left as it was.
    """
    from filelock import FileLock

    with FileLock(site.state / "site.lock", mode=0o600):
        path = site.folder / SITE_FILE
        old = path.read_bytes()
        new = _without_tables(old.decode("utf-8"), name)
        try:
            left = msgspec.convert(parse_toml(SITE_FILE, new), SiteFile).server
        except (RulebookProblem, msgspec.ValidationError) as error:
            raise Trouble(f"{name} cannot be taken out of {path}: {error}.", "Take it out by hand.") from error
        if left != {other: entry for other, entry in site.file.server.items() if other != name}:
            raise Trouble(f"{name} is not written in {path} as a table of its own.", "Take it out by hand.")
        write_durably(str(path), new.encode(), stat.S_IMODE(path.stat().st_mode))


def write_consent(site: Site, name: str, word: str) -> None:
    """Write what a server's rulebook may do as ``allow`` into its table of the site file. Raises Trouble."""
    write_keys(site, name, {"allow": json.encode([word]).decode()})


def write_keys(site: Site, name: str, keys: Mapping[str, str]) -> None:
    """Write keys, their values as TOML, into a server's table of the site file; what they were before goes.

    Raises Trouble where the file cannot be read again afterwards as it should be: then it is left as it was.
    """
    from filelock import FileLock

    with FileLock(site.state / "site.lock", mode=0o600):
        path = site.folder / SITE_FILE
        old = path.read_bytes()
        new = old.decode("utf-8")
        for key, value in keys.items():
            new = _with_key(new, name, key, value)
        given = msgspec.toml.decode("".join(f"{key} = {value}\n" for key, value in keys.items()))
        entry = msgspec.convert({**msgspec.to_builtins(site.file.server[name]), **given}, ServerEntry)
        wanted = {**site.file.server, name: entry}
        try:
            is_right = msgspec.convert(parse_toml(SITE_FILE, new), SiteFile).server == wanted
        except (RulebookProblem, msgspec.ValidationError):
            is_right = False
        if not is_right:
            lines = ", ".join(f"{key} = {value}" for key, value in keys.items())
            raise Trouble(f"{path} could not be changed by itself.", f"Write into [server.{name}]: {lines}")
        write_durably(str(path), new.encode(), stat.S_IMODE(path.stat().st_mode))


def _with_key(text: str, name: str, key: str, value: str) -> str:
    """Put a line below the heading of a server's table, and take out a line of the same key."""
    heading = re.compile(rf"^[ \t]*\[[ \t]*server[ \t]*\.[ \t]*[\"']?{re.escape(name)}[\"']?[ \t]*\][ \t]*(?:#.*)?$")
    kept: list[str] = []
    is_ours = False
    for row in text.splitlines(keepends=True):
        if row.lstrip().startswith("["):
            is_ours = heading.match(row.rstrip("\r\n")) is not None
        end = row[len(row.rstrip("\r\n")) :]
        if not (is_ours and re.match(rf"[ \t]*{re.escape(key)}[ \t]*=", row)):
            kept.append(row)
        if is_ours and row.lstrip().startswith("["):
            kept.append(f"{key} = {value}{end or chr(10)}")
    return "".join(kept)


def _without_tables(text: str, name: str) -> str:
    """Take out the tables of a server, each from its heading to the next one, with the blank lines before it."""
    heading = re.compile(rf"^[ \t]*\[[ \t]*server[ \t]*\.[ \t]*[\"']?{re.escape(name)}[\"']?[ \t]*[.\]]")
    kept: list[str] = []
    is_ours = False
    for line in text.splitlines(keepends=True):
        if line.lstrip().startswith("["):
            is_ours = heading.match(line) is not None
            while is_ours and kept and not kept[-1].strip():
                kept.pop()
        if not is_ours:
            kept.append(line)
    return "".join(kept)


def _refuse_taken(site: Site, name: str, folder: Path) -> None:
    refuse_taken_name(site, name)
    for other in site.file.server:
        if site.folder_of(other).resolve() == folder:
            raise Trouble(f"That folder is the server '{other}' already.", typed_command("status", other))


def _table(plan: Adoption, guess: RulebookGuess) -> str:
    """Write the server's table of the site file."""
    folder = plan.folder
    inside = folder.is_relative_to(plan.site.folder)
    shown = str(folder.relative_to(plan.site.folder)) if inside else str(folder)
    lines = [f"[server.{plan.server_name}]", f"folder = {quoted_text(shown)}"]
    lines += [f"start = {json.encode(plan.command).decode()}"]
    lines += [f"rulebook = {quoted_text(guess.rulebook)}"] if guess.rulebook else []
    lines += [f"tags = {json.encode(plan.tags).decode()}"] if plan.tags else []
    lines += plan.process.lines()
    lines += [f"{key} = {value}" for key, value in plan.running.lines.items()] if plan.running else []
    return "\n".join(lines) + "\n"


def missing_files(server: Server) -> list[str]:
    """Name the files that a server makes at its first run and that are not there yet."""
    texts = server.read().files.texts
    return [file.path for file in server.book.file.values() if file.made == "first-run" and file.path not in texts]
