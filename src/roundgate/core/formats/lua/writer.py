"""Values written as Lua has them, in the style of the file."""

from __future__ import annotations

import re
from functools import cached_property

from roundgate.core.formats.lua.reader import LuaReading
from roundgate.core.formats.protocol import EditRefused, PlainData
from roundgate.core.formats.shared import bracket_edits as bracketed
from roundgate.core.formats.shared.scalars import Number, is_number
from roundgate.core.patterns import lazy

NAME = lazy(r"[A-Za-z_][A-Za-z_0-9]*")


KEYWORDS = frozenset(
    [
        "and",
        "break",
        "do",
        "else",
        "elseif",
        "end",
        "false",
        "for",
        "function",
        "goto",
        "if",
        "in",
        "local",
        "nil",
        "not",
        "or",
        "repeat",
        "return",
        "then",
        "true",
        "until",
        "while",
    ]
)


class Code(str):
    """Text to be written as it is."""

    __slots__ = ()


_SHORT = {"\n": "\\n", "\t": "\\t", "\r": "\\r"}


def key_text(name: str, quote: str) -> str:
    """Write a field's name: bare where Lua takes it so, else in brackets and quotes."""
    if NAME.fullmatch(name) and name not in KEYWORDS:
        return name
    escaped = name.replace("\\", "\\\\").replace(quote, "\\" + quote).replace("\n", "\\n").replace("\r", "\\r")
    return f"[{quote}{escaped}{quote}]"


def plain_scalar(value: PlainData) -> str | None:
    """Return a single value as an entry holds it; None for a list or map."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if value is None:
        return "nil"
    return str(value) if isinstance(value, str | int | float) else None


def is_lua_number(value: str) -> bool:
    """Return whether a text is a number as Lua writes them."""
    return (
        is_number(value)
        or re.fullmatch(r"-?(?:0[xX][0-9a-fA-F]+|[0-9]+\.?[0-9]*(?:[eE][+-]?[0-9]+)?)", value) is not None
    )


class LuaWriting(LuaReading):
    """A Lua data file, read, in whose style values are written."""

    def written(self, value: PlainData, like: str = "", indent: str = "", *, spread: bool = False) -> str:
        """Write a value; ``like`` begins as what stood there did, ``spread`` gives each item a line."""
        if isinstance(value, Number | Code):
            return str(value)
        if value is None:
            return "nil"
        if isinstance(value, bool):
            return "true" if value else "false"
        if isinstance(value, int | float):
            return repr(value)
        if isinstance(value, str):
            return self.quoted(value, like)
        inner = indent + self.unit
        items = [self.written(item, like, inner) for item in (value.values() if isinstance(value, dict) else value)]
        if isinstance(value, dict):
            items = [f"{key_text(name, self.quote_sign)} = {text}" for name, text in zip(value, items, strict=True)]
        if not items:
            return "{}"
        if not spread:
            return "{ " + ", ".join(items) + " }"
        newline = self.text.newline
        return "{" + "".join(f"{newline}{inner}{item}," for item in items) + newline + indent + "}"

    @cached_property
    def quote_sign(self) -> str:
        """The quotes that the file uses more."""
        return "'" if self.text.body.count("'") > self.text.body.count('"') else '"'

    @cached_property
    def unit(self) -> str:
        """One step of the file's indentation."""
        return bracketed.unit_of(self.text.body)

    def quoted(self, value: str, like: str) -> str:
        """Write a text in the quotes, or the long brackets, of what ``like`` begins with. Raises EditRefused."""
        if (
            like[:1] == "["
            and "]]" not in value
            and "\r" not in value
            and not value.startswith("\n")
            and not value.endswith("]")
        ):
            return f"[[{value}]]"
        quote = like[0] if like[:1] in ("'", '"') and like[:1] else self.quote_sign
        if any("\ud800" <= char <= "\udfff" for char in value):
            raise EditRefused("half a character cannot be written")
        ascii_only = not self.text.encoding.startswith("utf")
        pieces = []
        for char in value:
            if char in (quote, "\\"):
                pieces.append("\\" + char)
            elif char in _SHORT:
                pieces.append(_SHORT[char])
            elif char < " " or char == "\x7f":
                pieces.append(f"\\{ord(char):03d}")
            elif ascii_only and char > "~":
                pieces.append("".join(f"\\{byte:03d}" for byte in char.encode()))
            else:
                pieces.append(char)
        return quote + "".join(pieces) + quote
