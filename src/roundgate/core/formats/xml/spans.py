"""Where elements, attributes and texts of a well-formed XML text stand."""

from __future__ import annotations

import re
from collections.abc import Iterator

from roundgate.core.patterns import lazy

_TAG = lazy(
    r"<!--.*?-->|<!\[CDATA\[.*?\]\]>|<\?.*?\?>|<!DOCTYPE[^\[>]*(?:\[(?:\"[^\"]*\"|'[^']*'|<!--.*?-->|[^\]\"'])*\][^>]*)?>"
    r"|<(?P<close>/?)(?P<name>[^\s/>!?=]+)(?P<attributes>(?:\s+[^\s=/>]+\s*=\s*(?:\"[^\"]*\"|'[^']*'))*)\s*(?P<alone>/?)>",
    re.S,
)
_ATTRIBUTE = lazy(r"(\s+)([^\s=/>]+)\s*=\s*(\"[^\"]*\"|'[^']*')")
_REFERENCE = lazy(r"&(?:#(\d+)|#x([0-9a-fA-F]+)|(amp|lt|gt|quot|apos));")
_NAMED = {"amp": "&", "lt": "<", "gt": ">", "quot": '"', "apos": "'"}


class Attribute:
    """One attribute: its name, and where it, its name and its value (without quotes) stand."""

    __slots__ = ("end", "key", "name", "start", "value")

    def __init__(self, start: int, name: str, key: tuple[int, int], value: tuple[int, int], end: int) -> None:
        """Keep the spans; ``start`` is before the spaces between it and what is before it."""
        self.start, self.name, self.key, self.value, self.end = start, name, key, value, end


class Element:
    """One element: its name, its parent and children, and where its tags stand."""

    __slots__ = ("attributes", "children", "close", "end", "inner", "name", "number", "parent", "start")

    def __init__(self, name: str, start: int, inner: int, parent: Element | None, number: int) -> None:
        """Begin with the opening tag; ``inner`` is after it, ``number`` counts elements from 0."""
        self.name, self.start, self.inner, self.parent, self.number = name, start, inner, parent, number
        self.close = self.end = inner
        self.children: list[Element] = []
        self.attributes: tuple[int, int] = (0, 0)

    @property
    def is_alone(self) -> bool:
        """Whether it is written ``<name/>``."""
        return self.close == self.end


def elements(body: str) -> list[Element]:
    """Return every element in the order of their opening tags."""
    found: list[Element] = []
    here: Element | None = None
    for tag in _TAG.finditer(body):
        name = tag["name"]
        if name is None:
            continue
        if tag["close"]:
            if here is not None:
                here.close, here.end = tag.start(), tag.end()
                here = here.parent
            continue
        element = Element(name, tag.start(), tag.end(), here, len(found))
        element.attributes = tag.span("attributes")
        found.append(element)
        if here is not None:
            here.children.append(element)
        if not tag["alone"]:
            here = element
    return found


def attributes(body: str, element: Element) -> Iterator[Attribute]:
    """Yield an element's attributes in order."""
    for match in _ATTRIBUTE.finditer(body, *element.attributes):
        start, end = match.span(3)
        yield Attribute(match.start(), match[2], match.span(2), (start + 1, end - 1), end)


def meaning(raw: str) -> str:
    """Undo references to characters; those to entities of the file's own stay as they are."""

    def plain(match: re.Match[str]) -> str:
        if match[3]:
            return _NAMED[match[3]]
        code = int(match[1]) if match[1] else int(match[2], 16)
        return chr(code) if code < 0x110000 else match[0]

    return _REFERENCE.sub(plain, raw) if "&" in raw else raw


def written(value: str, quote: str = "") -> str:
    """Write a text so that it is read back; ``quote`` is the sign around an attribute's value."""
    value = value.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;").replace("\r", "&#13;")
    if quote:
        value = value.replace(quote, "&quot;" if quote == '"' else "&apos;")
        value = value.replace("\n", "&#10;").replace("\t", "&#9;")
    return value
