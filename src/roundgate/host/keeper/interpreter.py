"""How processes of our own are started."""

from __future__ import annotations

import sys


def own(module: str, *arguments: str) -> list[str]:
    """Give the call that runs a module of this program in a process of its own.

    Without ``-P`` the folder that the caller is in would come first where modules are looked for. People work in their
    servers' folders, and a file there that is called ``json.py`` would be run with their rights.
    """
    return [sys.executable, "-P", "-m", module, *arguments]
