"""Checking many files: read one after another, on as many cores as there are where there are many."""

from __future__ import annotations

import gc
import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import partial
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from msgspec import Struct, json
from msgspec.structs import replace

from roundgate.core.findings import Finding, Place
from roundgate.host.errors import Trouble
from roundgate.host.files import LARGEST, Folder, read_bytes
from roundgate.host.fleet.ports import PlacedPort, other_ports, placed_ports, shared_ports

if TYPE_CHECKING:
    from roundgate.core.files import ServerFiles
    from roundgate.host.servers import FilesNow, Server
    from roundgate.host.store import Store, Waiting
    from roundgate.host.workspace import Workspace

T = TypeVar("T")


class _Checked(Struct, frozen=True, array_like=True):
    """What a check of one server gives: its findings, and its ports, which only all servers together can clash in."""

    findings: list[Finding]
    ports: list[PlacedPort]


_MANY = 200
_MANY_SERVERS = 16
_CHUNK = 100
_LARGE = 1_000_000


def check_files(found: Sequence[tuple[str, str]], given: str = "") -> Iterator[tuple[str, list[Finding]]]:
    """Check files, in order, each with the folder that it was found in; few at a time are held, whatever their number.

    Small calls stay in this process: a second one costs more than they do.
    """
    cores = os.cpu_count() or 1
    paths = [path for path, _ in found]
    if cores < 2 or len(paths) < 2 or (len(paths) < _MANY and _size(paths) < 2 * _LARGE):
        for path, within in found:
            yield path, check_file(path, given, within)
        return
    made = _on_all_cores(found, partial(_check_chunk, given=given), cores)
    yield from zip(
        paths, (json.decode(content, type=list[Finding]) if content else [] for content in made), strict=True
    )


def _size(paths: Sequence[str]) -> int:
    total = 0
    for path in paths:
        try:
            total += Path(path).stat().st_size
        except OSError:
            continue
    return total


def _on_all_cores(items: Sequence[T], work: Callable[[list[T]], list[bytes]], cores: int) -> Iterator[bytes]:
    """Let every core work on chunks of the items; yield what it says of each item, in order."""
    from concurrent.futures import Future, ProcessPoolExecutor
    from multiprocessing import get_context

    size = max(1, min(_CHUNK, len(items) // (cores * 4) or 1))
    chunks = _chunks(items, size)
    # Forked, so that what is loaded and read already need not be sent to each.
    with ProcessPoolExecutor(cores, get_context("fork")) as pool:
        waiting: list[Future[list[bytes]]] = [pool.submit(work, chunk) for chunk in islice(chunks, cores * 3)]
        while waiting:
            yield from waiting.pop(0).result()
            # A few chunks ahead and no more: the results of thousands of servers are not held at once.
            following = next(chunks, None)
            if following:
                waiting.append(pool.submit(work, following))


def _chunks(items: Iterable[T], size: int) -> Iterator[list[T]]:
    several = iter(items)
    while chunk := list(islice(several, size)):
        yield chunk


def _check_chunk(found: Sequence[tuple[str, str]], given: str) -> list[bytes]:
    return [_packed(check_file(path, given, within)) for path, within in found]


def _packed(found: Sequence[Finding]) -> bytes:
    return json.encode(found) if found else b""


def check_servers(servers: Sequence[Server], store: Store, *, after: bool = False) -> Iterator[Finding]:
    """Check servers one after another, on as many cores as there are where there are many. Raises Trouble.

    With ``after``, their files are checked as the slate would leave them, and not as they are.
    """
    ports: list[PlacedPort] = []
    for found in _checked(servers, store, after=after):
        yield from found.findings
        ports += found.ports
    checked = {server.name for server in servers}
    if servers:
        ports += other_ports(servers[0], checked)
    yield from shared_ports(ports, checked)


def _checked(servers: Sequence[Server], store: Store, *, after: bool) -> Iterator[_Checked]:
    cores = os.cpu_count() or 1
    several = ((server, store.slate(server.name)) for server in servers)
    if cores < 2 or len(servers) < _MANY_SERVERS:
        for server, waiting in several:
            yield _check_server(server, waiting, after=after)
        return
    _INHERITED[:] = several
    try:
        for found in _on_all_cores(range(len(_INHERITED)), partial(_check_inherited, after=after), cores):
            yield json.decode(found, type=_Checked)
    finally:
        _INHERITED.clear()


_INHERITED: list[tuple[Server, list[Waiting]]] = []
"""The servers to check, for processes that are forked: sent to each of them, the site would be there many times."""


def _check_inherited(numbers: Sequence[int], *, after: bool) -> list[bytes]:
    """Check some servers, each as an object of its own: the inherited ones stay, with every document that they read."""
    from roundgate.host.servers import Server

    gc.set_threshold(_GARBAGE, 10, 10)
    found = []
    for number in numbers:
        server, waiting = _INHERITED[number]
        anew = Server(server.site, server.name, lenient=server.lenient)
        found.append(json.encode(_check_server(anew, waiting, after=after)))
    return found


_GARBAGE = 10_000
"""Objects after which such a process looks for waste: what it reads of a server holds itself in circles."""


def _check_server(server: Server, waiting: Sequence[Waiting], *, after: bool) -> _Checked:
    """Check one server: its files on disk, and as the slate would leave them; or, with ``after``, only the latter."""
    from roundgate.host.workspace import Workspace

    workspace = Workspace(server, waiting)
    return _Checked(check_workspace(workspace, after=after), placed_ports(workspace))


def check_one(workspace: Workspace) -> list[Finding]:
    """Check one server as ``check_workspace`` does, and its ports against those of the others of its site."""
    server = workspace.server
    ports = [*placed_ports(workspace), *other_ports(server, {server.name})]
    return [*check_workspace(workspace), *shared_ports(ports, {server.name})]


def check_workspace(workspace: Workspace, *, after: bool = False) -> list[Finding]:
    """Check the files of a server on disk, and as the slate would leave them; or, with ``after``, only the latter.

    One that cannot be looked at at all has that as its finding: it must not hide the others.
    """
    from roundgate.host.errors import Trouble
    from roundgate.host.rulebooks import BrokenRulebook, mistake_in

    server = workspace.server
    mistakes: list[Finding] = []
    try:
        broken = mistake_in(server.entry.rulebook, server.site.folder)
        mistakes += [replace(finding, server=server.name) for finding in broken.problem.findings] if broken else []
        return [*mistakes, *(_check_after(workspace) if after else _check_workspace(workspace))]
    except BrokenRulebook as error:
        return mistakes or [replace(finding, server=server.name) for finding in error.problem.findings]
    except Trouble as error:
        place = Place(str(server.folder))
        return [*mistakes, Finding("server-unreadable", "error", place, error.what, error.do, server.name)]
    except Exception:
        if not mistakes:
            raise
        return mistakes  # the files cannot be measured by a rulebook that is wrong


def _check_around(workspace: Workspace, files: ServerFiles) -> list[Finding]:
    """Check files against what lies around them: their names, people, expectations, and the rest of a cluster."""
    from roundgate.host.fleet.clashes import cores_beyond
    from roundgate.host.fleet.clusters import check_clusters
    from roundgate.host.people.book import check_book
    from roundgate.host.people.ranks import check_expectations, check_strangers

    server = workspace.server
    return [
        *_near_names(server, workspace.read()),
        *check_book(server, files),
        *check_expectations(server, files),
        *check_strangers(server, files),
        *(check_clusters(server, files) if server.site.file.cluster else ()),
        *cores_beyond(server, files),
    ]


def _check_after(workspace: Workspace) -> list[Finding]:
    outcome = workspace.outcome(workspace.operations)
    return [*workspace.findings_of(outcome), *_check_around(workspace, outcome.after)]


def _check_workspace(workspace: Workspace) -> list[Finding]:
    from roundgate.host.fleet.clashes import cores_beyond
    from roundgate.host.people.ranks import check_expectations

    found = [*workspace.findings_on_disk(), *_check_around(workspace, workspace.read().files)]
    if workspace.waiting:
        outcome = workspace.outcome(workspace.operations)
        found += [finding for finding in workspace.findings_of(outcome) if finding.waiting]
        known = {(finding.code, finding.cause) for finding in found}
        server = workspace.server
        after = [*check_expectations(server, outcome.after), *cores_beyond(server, outcome.after)]
        new = [finding for finding in after if outcome.touched and (finding.code, finding.cause) not in known]
        found += [replace(finding, waiting=True) for finding in new]
    return found


def _near_names(server: Server, now: FilesNow) -> Iterator[Finding]:
    """Find files whose names nearly are the one that the rulebook expects, where that one does not exist."""
    from roundgate.core.nearest import nearest
    from roundgate.core.next_step import Advice, Command

    expected = {file.path for file in server.book.file.values() if file.path}
    home = server.files_folder
    for path in sorted(expected - set(now.files.texts) - set(now.unreadable)):
        here = Path(path).parent
        folder = server.folder / here
        others = [name for name in server.names_in(str(here)) if (here / name).as_posix() not in expected]
        is_far = server.mirror is not None
        free = [name for name in others if is_far or home.holds((here / name).as_posix())]
        wanted = Path(path).name
        near = next((name for name in free if name.lower() == wanted.lower()), "") or nearest(wanted, free, least=90)
        if near:
            place = (here / near).as_posix()
            cause = f"The server looks for {path} and does not read {place}: every letter of the name counts."
            do: Advice = Command("", "", (str(folder / near), str(folder / wanted)), program="mv")
            if is_far:
                do = f"Rename it on {server.name}'s machine, with a file client."
            yield Finding("file-name-near", "warning", Place(place), cause, do, server.name)


def check_file(path: str, given: str = "", within: str = "") -> list[Finding]:
    """Check one file. One that was found in a folder is read where its links lead no further than ``within``."""
    from roundgate.core.checks.standalone import check_standalone

    try:
        data = Folder(os.path.realpath(within)).read(os.path.relpath(path, within)) if within else read_bytes(path)
    except Trouble as error:
        return [_unreadable(path, error.what)]
    except OSError as error:
        why = (error.strerror or str(error)).lower()
        return [_unreadable(path, f"{path} cannot be read: {why}.")]
    if data is None:
        return [_unreadable(path, f"There is no file {path}.")]
    if len(data) > LARGEST:
        return [_unreadable(path, f"{path} is larger than {LARGEST >> 20} MB, too large for a configuration file.")]
    return check_standalone(path, data, given)


def _unreadable(path: str, cause: str) -> Finding:
    return Finding("file-unreadable", "error", Place(path), cause, "Check the name.")


def files_below(folder: str) -> list[str]:
    """Name the files of a known format in a folder and all below it, in order; hidden ones are left out."""
    from roundgate.core.formats import format_name

    found = []
    for root, folders, names in os.walk(folder):
        folders[:] = sorted(name for name in folders if not name.startswith("."))
        found += [f"{root}{os.sep}{name}" for name in sorted(names) if format_name(name) and name[0] != "."]
    return found
