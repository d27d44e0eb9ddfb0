"""What the keeper is told when it starts: a JSON file, readable by this user only."""

from __future__ import annotations

import contextlib
import os
from typing import TypedDict


class KeeperConfig(TypedDict):
    """All that a keeper needs to know of its server."""

    server: str
    command: list[str]
    folder: str
    run_in: str
    """The folder that it is run in; empty: its own."""
    user: str
    """The user that it runs as; empty: the keeper's."""
    umask: str
    """Its file mode mask, in octal digits; empty: the keeper's."""
    terminal: bool
    """Whether it gets a terminal of its own."""
    environment: dict[str, str]
    state: str
    """The folder for the socket, the log and the copies of the files as the server read them."""
    ready: str
    joined: str
    left: str
    files: dict[str, str]
    """Files to copy at each start: the path within the server's folder, and where it really is."""
    pidfile: str
    """Where the start command writes the process that it leaves in the background; empty: it stays itself."""
    restart: bool
    recover: list[str]
    """The command that recovers a broken-off round; the round's number is put after it."""
    tick: list[str]
    """The command that carries out what is due of the timetable; its last argument but one is the site's folder."""
    notify: list[str]
    """The command that sends a notice of what happened; the event, the exit code, and whether it comes back are put
    after it. Empty: nobody wants to know."""


def read_config(state: str) -> KeeperConfig:
    """Read the configuration in a state folder. The file keeps the name that running keepers know."""
    import json

    with open(os.path.join(state, "orders.json"), encoding="utf-8") as file:
        config: KeeperConfig = json.load(file)
    return config


def write_config(config: KeeperConfig) -> None:
    """Write the configuration of a keeper that is about to start, or for its next start of the server.

    One that is the same already is left alone, so that a full disk does not keep a server down. Raises OSError.
    """
    import json

    path = os.path.join(config["state"], "orders.json")
    # One that cannot be read, or makes no sense, is rewritten.
    with contextlib.suppress(OSError, ValueError, RecursionError):
        if read_config(config["state"]) == config:
            return
    temporary = f"{path}.{os.getpid()}.new"
    try:
        with os.fdopen(os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w", encoding="utf-8") as file:
            json.dump(config, file)
        os.replace(temporary, path)
    except OSError:
        with contextlib.suppress(OSError):
            os.unlink(temporary)
        raise


def socket_address(state: str) -> tuple[str, int]:
    """Return an address for the socket in a state folder that is short however deep the folder lies, and its handle.

    The kernel allows 107 bytes; the way through the handle is shorter. Close the handle after use.
    """
    handle = os.open(state, os.O_RDONLY | os.O_DIRECTORY)
    return f"/proc/self/fd/{handle}/keeper.sock", handle
