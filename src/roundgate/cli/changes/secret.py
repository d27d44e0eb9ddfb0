"""The value of a secret: asked for at the terminal, else read from standard input."""

from __future__ import annotations

import sys

from roundgate.host.errors import WrongUsage


def ask_secret(name: str, of: str) -> str:
    """Return the value of the secret ``name`` of a server or file. Raises WrongUsage where nothing comes."""
    if sys.stdin.isatty():
        from getpass import getpass

        return getpass(f"{name} of {of} (not shown): ")
    line = sys.stdin.readline()
    if not line:
        raise WrongUsage(f"{name} is asked for, and nothing came on standard input.", "Give it there, one line.")
    return line.rstrip("\r\n")
