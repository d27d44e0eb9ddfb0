"""A Lua text as the grammar reads it, and its tables and calls as items with spans.

The grammar is given one byte for each character, with a question mark for what is not ASCII, so that its indexes count
characters. Such characters only stand in texts and comments, and there they make no difference to it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

import tree_sitter
import tree_sitter_lua

from roundgate.core.formats.protocol import EntryKind, Path
from roundgate.core.formats.shared.bounded_parse import bounded_parse, reads_needed
from roundgate.core.patterns import lazy

_LANGUAGE = tree_sitter.Language(tree_sitter_lua.language())
_KINDS: dict[str, EntryKind] = {"string": "text", "number": "number", "true": "bool", "false": "bool", "nil": "null"}
_ESCAPE = lazy(r"\\(?:z\s*|x([0-9a-fA-F]{2})|u\{([0-9a-fA-F]+)\}|(\d{1,3})|(\r\n|\n\r|.))", re.S)
_LETTERS = {"a": "\a", "b": "\b", "f": "\f", "n": "\n", "r": "\r", "t": "\t", "v": "\v"}
TOKEN = lazy(
    r"--\[\[.*?\]\]|--\[=\[.*?\]=\]|--\[==\[.*?\]==\]|--[^\r\n]*|\[\[.*?\]\]|\[=\[.*?\]=\]|\[==\[.*?\]==\]"
    r"|\"(?:[^\"\\\r\n]|\\.)*\"|'(?:[^'\\\r\n]|\\.)*'|[A-Za-z_][A-Za-z_0-9]*|\.?[0-9](?:[eEpP][+-]|[\w.])*|\.\.\.?|[=~<>]=|::|//|<<|>>|\S",
    re.S,
)


class Item(NamedTuple):
    """One value: its step in its parent, the spans of its whole, its name and itself, and its node."""

    step: str | int
    whole_start: int
    whole_end: int
    key_start: int
    key_end: int
    node: Any


def parse(body: str) -> Any:
    """Return the grammar's root node; one that has an error where the text is too tangled to be read."""
    root = bounded_parse(_LANGUAGE, body.encode("ascii", "replace"))
    return root if root is not None else tree_sitter.Parser(_LANGUAGE).parse(b"= =").root_node


_WORK = 60_000
"""So many pieces the grammar may ask for in all while repairs are tried."""


def tries_left(body: str) -> int:
    """Return how often a text may be read while repairs are tried: a tangled one costs the grammar much each time."""
    return _WORK // max(1, reads_needed(_LANGUAGE, body.encode("ascii", "replace")))


def outermost(root: Any, start: int, end: int) -> Any:
    """Return the outermost statement that a span is inside of, or None."""
    node = root.descendant_for_byte_range(start, max(start, end - 1))
    while node is not None and node.parent is not None and node.parent.parent is not None:
        node = node.parent
    return node if node is not None and node.parent is not None else None


def tokens(body: str) -> list[str]:
    """Return the tokens of a text, comments left out, by one pattern: it shares nothing with the grammar."""
    return [token for token in TOKEN.findall(body) if token[:2] != "--"]


def text_of(raw: str) -> str:
    """Return the text that a string stands for."""
    if raw[0] == "[":
        level = raw.index("[", 1) + 1
        inner = raw[level:-level]
        return re.sub(r"\r\n|\n\r|\r", "\n", re.sub(r"\A(?:\r\n|\n\r|\n|\r)", "", inner))
    inner = raw[1:-1]
    if "\\" not in inner:
        return inner
    return _joined(_ESCAPE.sub(_unescaped, inner))


def _unescaped(match: re.Match[str]) -> str:
    if match[1]:
        return chr(0xDC00 + int(match[1], 16)) if int(match[1], 16) > 127 else chr(int(match[1], 16))
    if match[2]:
        code = int(match[2], 16)
        return chr(code) if code < 0x110000 else match[0]
    if match[3]:
        code = int(match[3])
        return match[0] if code > 255 else chr(0xDC00 + code) if code > 127 else chr(code)
    if match[4]:
        return "\n" if match[4] in ("\r\n", "\n\r", "\n", "\r") else _LETTERS.get(match[4], match[4])
    return ""


def _joined(text: str) -> str:
    """Make characters of bytes that were written as numbers."""
    if not any("\udc80" <= char <= "\udcff" for char in text):
        return text
    return text.encode("utf-8", "surrogateescape").decode("utf-8", "replace")


def kind_of(node: Any, body: str) -> EntryKind:
    """Return what a value is."""
    if node.type == "table_constructor":
        fields = [child for child in node.named_children if child.type == "field"]
        return "list" if all(field.child_by_field_name("name") is None for field in fields) else "map"
    if node.type == "unary_expression" and re.fullmatch(r"-\s*[\w.]+", body[node.start_byte : node.end_byte]):
        return "number" if node.named_child_count == 1 and node.named_children[0].type == "number" else "code"
    return _KINDS.get(node.type, "code")


def fields(body: str, table: Any) -> Iterator[Item]:
    """Yield the items of a table; those without a name are numbered from 0."""
    number = 0
    for child in table.named_children:
        if child.type != "field":
            continue
        name, value = child.child_by_field_name("name"), child.child_by_field_name("value")
        if value is None:
            continue
        step: str | int = number
        key = (child.start_byte, child.start_byte)
        if name is None:
            number += 1
        else:
            key = (name.start_byte, name.end_byte)
            step = _field_name(body[key[0] : key[1]], name.type, bracketed=body[child.start_byte] == "[")
        yield Item(step, child.start_byte, child.end_byte, *key, value)


def _field_name(raw: str, kind: str, *, bracketed: bool) -> str:
    if not bracketed:
        return raw
    return text_of(raw) if kind == "string" else f"[{raw}]"


class Statement(NamedTuple):
    """One outermost statement that holds data: the path it sets, its span, and what can be reached in it."""

    path: Path
    start: int
    end: int
    key: tuple[int, int]
    value: Any
    arguments: tuple[Any, ...] = ()


def statements(body: str, nodes: Sequence[Any]) -> Iterator[Statement]:
    """Yield the assignments, calls and the return at the outermost level, as paths to their values."""
    counts: dict[Path, int] = {}
    for node in nodes:
        whole = node
        if node.type == "variable_declaration" and node.named_child_count:
            node = node.named_children[0]
        if node.type == "assignment_statement":
            yield from _assignments(body, node, whole)
        elif node.type == "function_call":
            found = _call(body, node)
            if found is None:
                continue
            if len(found.path) == 1:
                counts[found.path] = counts.get(found.path, -1) + 1
                found = found._replace(path=(*found.path, counts[found.path]))
            yield found
        elif node.type == "return_statement" and node.named_child_count:
            values = node.named_children[0].named_children
            if len(values) == 1:
                span = (node.start_byte, node.start_byte + 6)
                yield Statement(("return",), node.start_byte, node.end_byte, span, values[0])


def _assignments(body: str, node: Any, whole: Any) -> Iterator[Statement]:
    if node.named_child_count < 2:
        return
    names, values = node.named_children[0].named_children, node.named_children[1].named_children
    for name, value in zip(names, values, strict=False):
        raw = body[name.start_byte : name.end_byte]
        yield Statement(_names(raw), whole.start_byte, whole.end_byte, (name.start_byte, name.end_byte), value)


def _names(raw: str) -> Path:
    steps = re.findall(r"([A-Za-z_]\w*)|\[\s*(\"(?:[^\"\\]|\\.)*\"|'(?:[^'\\]|\\.)*')\s*\]|(\[[^\]]*\])", raw)
    return tuple(name or (text_of(quoted) if quoted else other) for name, quoted, other in steps)


def _call(body: str, node: Any) -> Statement | None:
    """Return a call that takes a text and a table, ``role("X", {...})`` or ``role "X" {...}``, or only a table."""
    name, given = node.child_by_field_name("name"), node.child_by_field_name("arguments")
    if name is None or given is None:
        return None
    arguments = list(given.named_children)
    if name.type == "function_call":
        inner = name.child_by_field_name("arguments")
        arguments = [*(inner.named_children if inner else []), *arguments]
        name = name.child_by_field_name("name")
    arguments = [argument for argument in arguments if argument.type != "comment"]
    if name is None or not arguments:
        return None
    called = body[name.start_byte : name.end_byte]
    first = arguments[0]
    span = (node.start_byte, node.end_byte)
    if first.type == "string":
        path: Path = (called, text_of(body[first.start_byte : first.end_byte]))
        rest = tuple(arguments[1:])
        value = rest[0] if len(rest) == 1 and rest[0].type == "table_constructor" else None
        return Statement(path, *span, (first.start_byte, first.end_byte), value, rest)
    value = first if len(arguments) == 1 else None
    return Statement((called,), *span, (name.start_byte, name.end_byte), value, tuple(arguments))
