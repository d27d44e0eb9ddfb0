"""Trying the way to a rented server's files: one step after another, each with what was found."""

from __future__ import annotations

import secrets
import socket
import time
from collections.abc import Callable, Iterator
from contextlib import suppress

from msgspec import Struct

from roundgate.host.errors import OutOfReach, Trouble
from roundgate.host.rented.address import Address
from roundgate.host.rented.protocol import RemoteFiles, moment_of
from roundgate.host.rented.ssh import HostKey, Ssh

_WITHIN = 10.0
_DATA = b"A file of Round Gate's, to see what can be done here. It may be deleted.\n"
_GRAIN = 1.1
"""Seconds between two files whose times tell whether the service knows seconds."""


class PlaceStep(Struct, frozen=True):
    """One step: its name, and what was found."""

    step: str
    found: str


def reach(address: Address, ssh: Ssh | None, confirm: Callable[[HostKey], bool]) -> Iterator[PlaceStep]:
    """Go to the service that has a server's files; nothing is signed in to yet.

    ``confirm`` is asked whether to trust a host key that is not known yet. Raises OutOfReach, Trouble at the step that
    does not succeed.
    """
    if ssh is None:
        yield from _reached(address)
    else:
        yield _host_key(ssh, confirm)


def try_files(address: Address, files: RemoteFiles) -> Iterator[PlaceStep]:
    """Sign in and try what a round needs; nothing of ours stays there. Raises as ``reach`` does."""
    began = time.monotonic()
    listed = files.listing()
    folders = sum(one.is_folder for one in listed.values())
    yield PlaceStep("sign in", f"as {address.user or 'your configuration of ssh says'}")
    yield PlaceStep("folder", f"files: {len(listed) - folders}, folders: {folders}")
    yield PlaceStep("answer", f"the list came within {time.monotonic() - began:.1f} s")
    yield from _tried(files)


def _reached(address: Address) -> Iterator[PlaceStep]:
    try:
        found = socket.getaddrinfo(address.host, address.port, type=socket.SOCK_STREAM)
    except OSError as error:
        raise OutOfReach(f"There is no machine called {address.host}.", "Correct the address.") from error
    yield PlaceStep("name", f"{address.host} is {found[0][4][0]}")
    try:
        socket.create_connection((address.host, address.port), _WITHIN).close()
    except OSError as error:
        what = "does not answer" if isinstance(error, TimeoutError) else "refuses the connection"
        raise OutOfReach(f"{address.where} {what}.", "Correct the port, or try again when the service runs.") from error
    yield PlaceStep("port", f"{address.port} is open")


def _host_key(ssh: Ssh, confirm: Callable[[HostKey], bool]) -> PlaceStep:
    key = ssh.host_key()
    if key.is_known:
        return PlaceStep("host key", f"{key.fingerprint}, known here")
    if not confirm(key):
        raise Trouble("The host key is not trusted, so nothing was sent.", "Compare it with what the service says.")
    ssh.trust(key.fingerprint)
    return PlaceStep("host key", f"{key.fingerprint}, trusted from now on")


def _tried(files: RemoteFiles) -> Iterator[PlaceStep]:
    """Write, read, rename and remove files of our own."""
    mark = secrets.token_hex(4)
    # Not hidden ones, which some services do not list.
    first, second = f"roundgate-try-{mark}-a.txt", f"roundgate-try-{mark}-b.txt"
    try:
        before = time.time()
        files.write(first, _DATA)
        if files.read(first) != _DATA:
            raise Trouble("A file came back otherwise than it was written.", "See whether there is room left.")
        yield PlaceStep("write", "a file was written, and came back as it was")
        time.sleep(_GRAIN)  # the times of two files tell how finely the service knows them
        files.write(second, _DATA)
        listed = files.listing()
        if first not in listed or second not in listed:
            raise Trouble("A file that was written is not in the list of its folder.", "Ask the service why.")
        yield PlaceStep("clock", _clock([listed[first].modified, listed[second].modified], before))
        files.rename(second, first)
        over = "a file was renamed over another one"
        aside = "over no other file: the old one is moved aside first"
        yield PlaceStep("rename", over if files.renames_over else aside)
        in_capitals = files.read(first.upper())
        yield PlaceStep("names", "case matters" if in_capitals is None else "case does not matter")
    finally:
        for path in (first, second):
            with suppress(Trouble):
                files.remove(path)
    if any(mark in name for name in files.listing()):
        raise Trouble("A file of ours cannot be removed again.", f"Remove roundgate-try-{mark}-* by hand.")
    yield PlaceStep("remove", "what was written is gone again")


def _clock(times: list[str], before: float) -> str:
    """Describe the service's clock by the times of two files, written a second apart."""
    moments = [moment for moment in map(moment_of, times) if moment is not None]
    if len(moments) < 2:
        return "the service tells no times that can be read; files are compared by size and content"
    grain = "minutes" if all(moment % 60 == 0 for moment in moments) else "seconds"
    off = moments[0] - before
    if abs(off) < (61 if grain == "minutes" else 3):
        return f"as here; the service knows {grain}"
    return f"{abs(off):.0f} s {'ahead of' if off > 0 else 'behind'} this machine; the service knows {grain}"
