"""Words of a command that a person can paste into a shell, and the placeholders in them that only a person can fill."""

from __future__ import annotations

from collections.abc import Iterable

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


def join_typed(words: Iterable[str]) -> str:
    """Quote the words of a command for a shell; what is open in one stays outside its quotes."""
    return " ".join(map(_as_typed, words))


def _as_typed(word: str) -> str:
    if word.replace(":", "").replace("=", "").replace(".", "").isalnum():
        return word
    hole = placeholder_in(word)
    if not hole:
        return quoted(word)
    before, _, after = word.partition(hole)
    return "".join((quoted(before) if before else "", hole, _as_typed(after) if after else ""))


def placeholder_in(word: str) -> str:
    """Return the placeholder that a word still has, or an empty text."""
    if "<" not in word:
        return ""
    return next((f"<{name}>" for name in PLACEHOLDERS if f"<{name}>" in word), "")
