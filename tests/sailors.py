"""A user of this machine with a password, for tests of services that a person signs in to; only root can make one."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

import pytest

WORD = "ebb-and-flow-3"


class Sailor(NamedTuple):
    """The user's name, and a folder of root's with room for one of the user's: file services want it so."""

    name: str
    jail: Path


@contextmanager
def made_sailor() -> Iterator[Sailor]:
    """Make the user; remove the user, the folder, and all processes in the end."""
    if os.geteuid() != 0:
        pytest.skip("ONLY ROOT CAN MAKE A USER WITH A PASSWORD: signing in by one is not tested")
    name = f"sailor{os.getpid()}"
    jail = Path("/run") / f"roundgate-{name}"
    command = ["openssl", "passwd", "-6", WORD]
    hashed = subprocess.run(command, capture_output=True, text=True, check=True).stdout.strip()
    subprocess.run(["useradd", "-M", "-N", "-d", str(jail), "-s", "/bin/sh", "-p", hashed, name], check=True)
    try:
        jail.mkdir(0o755)
        yield Sailor(name, jail)
    finally:
        subprocess.run(["pkill", "-KILL", "-u", name], check=False)
        subprocess.run(["userdel", name], check=True, capture_output=True)
        shutil.rmtree(jail)
