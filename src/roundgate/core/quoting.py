"""Words of a command that a person can paste into a shell."""

from __future__ import annotations


def quoted(word: str) -> str:
    """Quote a word for a shell, where it needs quoting."""
    from shlex import quote

    return quote(word)
