"""Words of a command that a person can paste into a shell, and the placeholders in them that only a person can fill."""

from __future__ import annotations

PLACEHOLDERS = (
    "entry", "field", "file", "folder", "format", "higher-number", "id", "key", "line", "list", "name", "new",
    "new-name", "number", "other", "other-rank", "permission", "rank", "record", "roster", "server", "set", "value",
    "who",
)  # fmt: skip
"""What advice leaves open is in angle brackets, such as ``<rank>``: a shell refuses that, and so does the program."""


def quoted(word: str) -> str:
    """Quote a word for a shell, where it needs quoting."""
    from shlex import quote

    return quote(word)


def placeholder_in(word: str) -> str:
    """Return the placeholder that a word still has, or an empty text."""
    if "<" not in word:
        return ""
    return next((f"<{name}>" for name in PLACEHOLDERS if f"<{name}>" in word), "")
