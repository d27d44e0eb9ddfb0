"""Keys and values of properties files: escapes undone and written."""

from __future__ import annotations

import re

from roundgate.core.patterns import lazy

_CONTINUED = lazy(r"\\(?:([^\r\n])|(?:\r\n?|\n)[ \t\f]*)")


_UNESCAPE = lazy(r"\\(?:u([0-9a-fA-F]{4})|(.)|\Z)", re.DOTALL)


_LETTERS = {"t": "\t", "n": "\n", "r": "\r", "f": "\f"}


_WRITTEN = {"\t": "\\t", "\n": "\\n", "\r": "\\r", "\f": "\\f", "\\": "\\\\"}


def unescape(raw: str) -> str:
    """Undo escapes and line continuations of a key or a value. A malformed ``\\u`` loses its backslash only."""
    if "\\" not in raw:
        return raw

    def plain(match: re.Match[str]) -> str:
        if match[1]:
            return chr(int(match[1], 16))
        return _LETTERS.get(match[2], match[2]) if match[2] else ""

    joined = _CONTINUED.sub(lambda match: match[0] if match[1] else "", raw)  # lines first: an escape may run over two
    return _join_surrogates(_UNESCAPE.sub(plain, joined))


def _join_surrogates(value: str) -> str:
    """Join the two halves in which escapes spell a character outside the basic plane."""
    if not any("\ud800" <= char <= "\udbff" for char in value):
        return value
    return value.encode("utf-16-le", "surrogatepass").decode("utf-16-le", "surrogatepass")


def escape(value: str, *, is_key: bool = False, ascii_only: bool) -> str:
    """Write a value (or key) so that every reader of properties files gives it back."""
    written = "".join(_escaped_char(char, is_key=is_key, ascii_only=ascii_only) for char in value)
    needs_mark = ("#", "!") if is_key else (" ", "=", ":")
    return "\\" + written if value[:1] in needs_mark else written


def _escaped_char(char: str, *, is_key: bool, ascii_only: bool) -> str:
    if char in _WRITTEN:
        return _WRITTEN[char]
    if is_key and char in " =:":
        return "\\" + char
    if char < " " or char == "\x7f" or "\ud800" <= char <= "\udfff" or (ascii_only and char > "~"):
        units = char.encode("utf-16-be", "surrogatepass")
        return "".join(f"\\u{units[at]:02X}{units[at + 1]:02X}" for at in range(0, len(units), 2))
    return char


def runs_on(content: str) -> bool:
    """Return whether a natural line ends in an odd number of backslashes, so that the next one continues it."""
    return (len(content) - len(content.rstrip("\\"))) % 2 == 1
