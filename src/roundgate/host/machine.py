"""Facts about processes and ports of this machine."""

from __future__ import annotations

import os
import socket
from collections.abc import Iterable
from contextlib import suppress
from typing import NamedTuple

import psutil

from roundgate.core.patterns import compiled
from roundgate.host.fleet.networks import network_elsewhere, sockets_of
from roundgate.host.fleet.one_look import LOOKS


class OwnedPort(NamedTuple):
    """A port that a process listens on."""

    protocol: str
    address: str
    port: int
    process: int | None


def is_alive(process: int, born: float | None = None) -> bool:
    """Return whether a process lives and is the one that was born then (seconds since 1970), not a later namesake."""
    try:
        found = psutil.Process(process)
        return found.status() != psutil.STATUS_ZOMBIE and (born is None or abs(found.create_time() - born) < 2)
    except psutil.Error:
        return False


def family(process: int) -> list[int]:
    """Return a process and all its descendants."""
    try:
        top = psutil.Process(process)
        return [process, *(child.pid for child in top.children(recursive=True))]
    except psutil.Error:
        return []


def session_members(leader: int) -> list[int]:
    """Return the living processes of the session that ``leader`` began."""
    members = []
    for pid in psutil.pids():
        try:
            # By session and not by parent: a child whose parent has ended has another parent.
            if os.getsid(pid) == leader and is_alive(pid):
                members.append(pid)
        except (ProcessLookupError, PermissionError):
            continue
    return members


def listening(processes: Iterable[int]) -> list[OwnedPort]:
    """Return the ports that some processes own, TCP listening and UDP bound."""
    found = []
    for process in processes:
        if network_elsewhere(process):
            found += [OwnedPort(*held[:3], process) for held in sockets_of(process)]
            continue
        try:
            connections = psutil.Process(process).net_connections("inet")
        except psutil.Error:
            continue
        found += [port for connection in connections if (port := _owned(connection, process))]
    return found


def _owned(connection: object, process: int | None) -> OwnedPort | None:
    local = getattr(connection, "laddr", None)
    kind = getattr(connection, "type", None)
    if not local or (kind == socket.SOCK_STREAM and getattr(connection, "status", "") != psutil.CONN_LISTEN):
        return None
    return OwnedPort("tcp" if kind == socket.SOCK_STREAM else "udp", local.ip, local.port, process)


def holders(protocol: str, port: int, near: Iterable[int] = ()) -> list[OwnedPort]:
    """Return whoever owns a port on any address; the process may be hidden from this user.

    Where processes ``near`` are in a network namespace of their own, in that one.
    """
    elsewhere = next(filter(None, map(network_elsewhere, near)), "")
    if elsewhere:
        owners = listening(process for process in psutil.pids() if network_elsewhere(process) == elsewhere)
    else:
        owners = all_owned()
    return [owned for owned in owners if (owned.protocol, owned.port) == (protocol, port)]


def all_owned() -> list[OwnedPort]:
    """Return every port that is open on this machine, and who owns it; the process may be hidden from this user."""
    found = (_owned(connection, connection.pid) for connection in psutil.net_connections("inet"))
    return [owned for owned in found if owned]


def folder_of_process(process: int | None) -> str:
    """Return the folder that a process works in; empty where that cannot be told."""
    try:
        return "" if process is None else psutil.Process(process).cwd()
    except psutil.Error:
        return ""


def started_at(process: int) -> float | None:
    """Return when a process began, in seconds since 1970; None where it has ended."""
    try:
        return psutil.Process(process).create_time()
    except psutil.Error:
        return None


def name_process(process: int | None) -> str:
    """Name a process for a person."""
    if process is None:
        # Root sees everybody's; what it cannot see is elsewhere, or has just gone.
        return "another user's process" if os.geteuid() else "a process that has just ended, or is in a container"
    try:
        return f"process {process} ({psutil.Process(process).name()})"
    except psutil.Error:
        return f"process {process}"


def running_in(folder: str, pattern: str) -> list[int]:
    """Find processes that work in a folder and whose command line fits a pattern."""
    if not pattern:
        return []
    wanted, found = compiled(pattern), []
    for process in _by_folder().get(os.path.realpath(folder), ()):
        # It has ended since the list was made, or is another user's.
        with suppress(psutil.Error):
            if wanted.search(" ".join(process.cmdline())):
                found.append(process.pid)
    return found


def _by_folder() -> dict[str, list[psutil.Process]]:
    """Return the processes of this machine by the folder that they work in."""
    found: dict[str, list[psutil.Process]] = LOOKS[-1] if LOOKS else {}
    if found:
        return found
    for process in psutil.process_iter():
        # The folder of another user's process is not shown; the server's own user is ours, or we are root.
        with suppress(psutil.Error):
            found.setdefault(process.cwd(), []).append(process)
    return found
