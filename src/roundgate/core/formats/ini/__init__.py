"""The registry's entry for ini files."""

from __future__ import annotations

from collections.abc import Sequence

from roundgate.core.findings import Problem
from roundgate.core.formats.ini.document import IniDocument
from roundgate.core.formats.ini.reader import Triple
from roundgate.core.formats.protocol import USUAL, Dialect, Document
from roundgate.core.formats.shared.window import Within, confirmed
from roundgate.core.text import Text


class IniFormat:
    """The registry's entry for ini files."""

    name = "ini"

    def read(self, text: Text, dialect: Dialect = USUAL) -> IniDocument:
        """Read a text. Never raises."""
        return IniDocument(text, dialect)

    def problems(self, document: Document) -> Sequence[Problem]:
        """Report what is wrong or doubtful with the text itself."""
        from roundgate.core.formats.ini.problems import problems_of

        assert isinstance(document, IniDocument)
        return problems_of(document)

    def confirms(self, document: Document, expected: object) -> bool:
        """Let both readers agree."""
        if isinstance(expected, Within):
            return confirmed(self, document, expected)
        section = document.section if isinstance(document, IniDocument) else ""
        return bool(document.plain() == expected == read_plainly(document.text.body, document.dialect, section))

    def read_in(self, text: Text, dialect: Dialect, section: str) -> IniDocument:
        """Read lines of a section without its heading."""
        return IniDocument(text, dialect, section)


def read_plainly(body: str, dialect: Dialect = USUAL, section: str = "") -> list[Triple]:
    """Read line by line with plain text functions only, sharing nothing with the reader above."""
    marks = tuple(dialect.marks.split()) or (";", "#")
    found: list[Triple] = []
    lines = body.replace("\r\n", "\n").replace("\r", "\n").split("\n")
    if dialect.blocks or dialect.goes_on:
        lines = _with_long_values(lines, marks, dialect)
    before, _, behind = dialect.heading.partition("{name}")
    for line in lines:
        stripped = line.strip(" \t\ufeff")
        if not stripped or stripped.startswith(marks):
            continue
        if dialect.heading:
            name = stripped[len(before) : len(stripped) - len(behind)]
            if stripped.startswith(before) and stripped.endswith(behind) and "=" not in name:
                section = name.strip()
                found.append((section, "[", ""))
                continue
        elif line.lstrip(" \t").startswith("[") and "]" in line:
            name, _, rest = line.lstrip(" \t")[1:].partition("]")
            if not rest.strip(" \t") or rest.strip(" \t")[0] in ";#":
                section = name.strip()
                found.append((section, "[", ""))
                continue
        if section in dialect.items:
            item, tail = line.strip(" \t"), dialect.tail.strip()
            item = _before_note(item, marks) if dialect.notes else item
            item = item[: -len(tail)].rstrip(" \t") if tail and item.endswith(tail) else item
            found.append((section, "", _plain_value(item, marks, dialect)))
            continue
        key, sign, value = line.partition("=")
        if not sign:
            head, colon, rest = line.partition(":")
            name = head.lstrip(" \t")
            is_key = name[:1].isalpha() or name[:1] == "_"
            is_key = is_key and all(char.isalnum() or char in "_.- " for char in name)
            if colon and is_key and (not rest or rest[0] in " \t"):
                key, sign, value = head, ":", rest
        if not sign or not key.strip(" \t"):
            found.append((section, "", _plain_value(line.strip(" \t"), marks, dialect)))
        elif "\n" in value or _JOINED in value:
            found.append((section, key.strip(" \t"), value.lstrip(" \t").replace(_JOINED, "")))
        else:
            found.append((section, key.strip(" \t"), _plain_value(value.lstrip(" \t"), marks, dialect)))
    return found


_JOINED = "\ufdd0"
"""Stands where the lines of one value were joined."""


def _with_long_values(lines: Sequence[str], marks: tuple[str, ...], dialect: Dialect) -> list[str]:
    """Make one line of those that hold one value."""
    found: list[str] = []
    signs = dict(block.split(" ") for block in dialect.blocks)
    at = 0
    while at < len(lines):
        line = lines[at]
        at += 1
        key, sign, value = line.partition("=")
        if not sign or not key.strip() or line.strip().startswith(marks):
            found.append(line)
            continue
        opened = value.strip(" \t")
        depth, inner = 1, list[str]()
        for stop in range(at, len(lines)) if opened in signs else ():
            stripped = lines[stop].strip(" \t")
            depth += (stripped.endswith(opened) and signs[opened] != opened) - (stripped == signs[opened])
            if not depth:
                break
            inner.append(lines[stop])
        if opened in signs and not depth:
            at += len(inner) + 1
            is_same = signs[opened] == opened
            text = "\n".join(inner) if is_same else "\n".join((opened, *inner, lines[at - 1].rstrip(" \t")))
            found.append(f"{key}={_JOINED}{text}{_JOINED}")  # blanks at its beginning belong to the text
            continue
        if dialect.goes_on == "indented":
            while at < len(lines) and lines[at][:1] in (" ", "\t") and lines[at].strip(" \t"):
                if lines[at].strip(" \t").startswith(marks):
                    break
                line, at = line.rstrip(" \t") + "\n" + lines[at].strip(" \t"), at + 1
        while dialect.goes_on == "backslash" and line.rstrip(" \t").endswith("\\") and at < len(lines):
            line, at = line.rstrip(" \t")[:-1] + _JOINED + lines[at].strip(" \t"), at + 1
        found.append(line)
    return found


def _plain_value(value: str, marks: tuple[str, ...], dialect: Dialect) -> str:
    if dialect.notes:
        value = _before_note(value, marks)
    value = value.rstrip(" \t")
    if dialect.quotes != "kept" and len(value) > 1 and value[0] == value[-1] and value[0] in "\"'":
        inner = value[1:-1]
        is_one = value[0] not in inner or (value[0] == '"' and _all_escaped(inner))
        if is_one and (value[0] == "'" or not _ends_in_escape(inner)):
            return inner
    return value


def _before_note(value: str, marks: tuple[str, ...]) -> str:
    if value.startswith(marks):
        return ""
    quote = value[:1] if value[:1] in ("'", '"') else ""
    at, open_quote = 1 if quote else 0, quote
    while at < len(value):
        if open_quote:
            if value[at] == "\\" and open_quote == '"':
                at += 1
            elif value[at] == open_quote:
                open_quote = ""
        elif value[at] in " \t" and value[at + 1 :].startswith(marks):
            return value[:at]
        at += 1
    if open_quote:  # never closed: the quote is a letter like any other
        ends = [value.find(blank + mark) for mark in marks for blank in " \t"]
        ends = [end for end in ends if end >= 0]
        return value[: min(ends)] if ends else value
    return value


def _all_escaped(inner: str) -> bool:
    at = 0
    while at < len(inner):
        if inner[at] == "\\":
            at += 2
            continue
        if inner[at] == '"':
            return False
        at += 1
    return True


def _ends_in_escape(inner: str) -> bool:
    return (len(inner) - len(inner.rstrip("\\"))) % 2 == 1


FORMAT = IniFormat()
