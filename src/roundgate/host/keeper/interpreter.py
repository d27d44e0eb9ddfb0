"""How processes of our own are started."""

from __future__ import annotations

import os
import sys
from collections.abc import Mapping


def own(module: str, *arguments: str) -> list[str]:
    """Return the call that runs a module of this program in a process of its own.

    Without ``-P`` the folder that the caller is in would come first where modules are looked for. People work in their
    servers' folders, and a file there that is called ``json.py`` would be run with their rights.
    """
    return [sys.executable, "-P", "-m", module, *arguments]


_MASK = "ROUNDGATE_UMASK"
"""The variable with the file mode mask, in octal digits, of whoever called the first of our processes."""


def be_private() -> int:
    """Keep from others what this process writes; return the file mode mask that a server should have.

    That is the one of whoever called: a round's own mask must not reach the server that its keeper starts, whose pipes
    and lists others may have to read. Our processes hand it on.
    """
    mask = os.umask(0o077)
    given = os.environ.get(_MASK, "")
    if not given or set(given) - set("01234567"):
        given = os.environ[_MASK] = f"{mask:04o}"
    return int(given, 8) & 0o777


def without_mask(environment: Mapping[str, str]) -> dict[str, str]:
    """Return variables as a server should have them, without what our processes hand on."""
    return {name: value for name, value in environment.items() if name != _MASK}
