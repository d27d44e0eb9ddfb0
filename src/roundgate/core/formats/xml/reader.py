"""Reading XML files: what stands where, and what it says. ``xml`` edits them."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import cached_property
from typing import Any
from xml.parsers import expat

from roundgate.core.formats.protocol import USUAL, Dialect, EditRefused, Entry, Path
from roundgate.core.formats.shared.gc_paused import gc_paused
from roundgate.core.formats.xml.spans import Attribute, Element, attributes, elements, meaning
from roundgate.core.patterns import lazy
from roundgate.core.text import Text

Event = tuple[str, str, Any]
"""One event of expat: ``<`` name attributes, ``>`` name, or ``t`` text; spaces between elements are left out."""


_OFF = lazy(
    r"<!--[ \t\r\n]*(?P<element><(?P<name>[A-Za-z_][\w.\-:]*)(?:\s[^<>]*)?"
    r"(?:/>|>(?:(?!-->).)*</(?P=name)[ \t\r\n]*>))[ \t\r\n]*-->",
    re.S,
)


class XmlError(ValueError):
    """The text is no XML; ``at`` is where expat gave up."""

    def __init__(self, what: str, at: int) -> None:
        """Keep what expat said, and where."""
        super().__init__(what)
        self.at = at


def well_formed(body: str) -> None:
    """Let expat read a text without keeping anything. Raises XmlError."""
    _parse(body, expat.ParserCreate("utf-8"))


def _parse(body: str, parser: Any) -> None:
    data = body.encode("utf-8", "surrogatepass")
    try:
        parser.Parse(data, True)
    except expat.ExpatError as error:
        at = len(data[: parser.ErrorByteIndex].decode("utf-8", "replace"))
        raise XmlError(expat.errors.messages.get(error.code, "") or str(error), min(at, len(body))) from error


def read_events(body: str) -> list[Event]:
    """Return all that a text says, by expat. Raises XmlError."""
    events: list[Event] = []
    parser = expat.ParserCreate("utf-8")
    parser.buffer_text = True
    parser.ordered_attributes = True
    parser.StartElementHandler = lambda name, given: events.append(("<", name, tuple(given)))
    parser.EndElementHandler = lambda name: events.append((">", name, None))
    parser.CharacterDataHandler = lambda text: events.append(("t", text, None))
    with gc_paused():
        _parse(body, parser)
        return _without_gaps(events)


def _without_gaps(events: list[Event]) -> list[Event]:
    """Join texts and leave out those of spaces that only part elements."""
    found: list[Event] = []
    add = found.append
    text: Event | None = None
    before = ""
    for event in events:
        sign = event[0]
        if sign == "t":
            text = event if text is None else ("t", text[1] + event[1], None)
            continue
        if text is not None:
            inner = text[1]
            if (inner and not inner.isspace()) or (before == "<" and sign == ">" and "\n" not in inner):
                add(text)
            text = None
        add(event)
        before = sign
    return found if text is None else [*found, text]


class XmlReading:
    """An XML file, read: what stands where."""

    def __init__(self, text: Text, dialect: Dialect = USUAL) -> None:
        """Read ``text``; expat is only asked when something is."""
        self.text = text
        self.dialect = dialect

    @cached_property
    def error(self) -> XmlError | None:
        """Why the text is no XML, or None where it is."""
        try:
            well_formed(self.text.body)
        except XmlError as error:
            return error
        return None

    def _refuse_broken(self) -> None:
        if self.error:
            raise EditRefused("the file has mistakes; fix them first (roundgate check)")

    @cached_property
    def events(self) -> list[Event]:
        """All that the file says."""
        self._refuse_broken()
        return read_events(self.text.body)

    def plain(self) -> list[Event]:
        """Return all that the file says."""
        return self.events

    @cached_property
    def elements(self) -> list[Element]:
        """Every element, in order. Raises EditRefused where the text cannot be read."""
        self._refuse_broken()
        with gc_paused():
            return elements(self.text.body)

    def resolve(self, key: str) -> Path:
        """Read a path as people write it; the root's name may be left out."""
        from roundgate.core.formats.shared.paths import parse_path

        path = parse_path(key)
        if not self.error and self.elements and path[:1] != (self.elements[0].name,):
            return (self.elements[0].name, *path)
        return path

    # --- what stands there ---

    @cached_property
    def _paths(self) -> dict[int, Path]:
        """Return each element's path, in one pass."""
        found: dict[int, Path] = {}
        for element in self.elements:
            if element.parent is None:
                found[element.number] = (element.name,)
            numbers: dict[str, int] = {}
            counts: dict[str, int] = {}
            for child in element.children:
                counts[child.name] = counts.get(child.name, 0) + 1
            for child in element.children:
                number = numbers.get(child.name, 0)
                numbers[child.name] = number + 1
                step: Path = (child.name, number) if counts[child.name] > 1 else (child.name,)
                found[child.number] = (*found[element.number], *step)
        return found

    def entries(self) -> Sequence[Entry]:
        """Return every attribute, and the text of every element that holds no other."""
        if self.error:
            return []
        found: list[Entry] = []
        for element in self.elements:
            path = self._paths[element.number]
            mine = [self._attribute_entry(path, attribute) for attribute in attributes(self.text.body, element)]
            found += mine
            if not element.children and (not element.is_alone or not mine):
                found.append(self._text_entry(path, element))
        return found

    def _attribute_entry(self, path: Path, attribute: Attribute) -> Entry:
        value = meaning(
            self.text.body[slice(*attribute.value)].replace("\r\n", "\n").replace("\n", " ").replace("\t", " ")
        )
        return Entry((*path, f"@{attribute.name}"), value, *attribute.key, *attribute.value)

    def _text_entry(self, path: Path, element: Element) -> Entry:
        start, end = self._text_span(element)
        raw = self.text.body[start:end]
        is_cdata = self.text.body[start - 9 : start] == "<![CDATA["
        value = raw if is_cdata else meaning(re.sub(r"<!\[CDATA\[(.*?)\]\]>", r"\1", raw, flags=re.S))
        key = (element.start + 1, element.start + 1 + len(element.name))
        return Entry(path, value.replace("\r\n", "\n"), *key, start, end, "map" if element.children else "text")

    def _text_span(self, element: Element) -> tuple[int, int]:
        """Return the span of an element's text: without the spaces around, and inside CDATA where it is all of it."""
        raw = self.text.body[element.inner : element.close]
        whole = re.fullmatch(r"(\s*<!\[CDATA\[)((?:(?!\]\]>).)*)\]\]>\s*", raw, re.S)
        if whole:
            start = element.inner + whole.end(1)
            return start, start + len(whole[2])
        if not raw.strip():
            return element.inner, element.close
        return element.inner, element.close

    def _locate(self, path: Path) -> Element | None:
        """Find an element. Raises EditRefused where several have the name and the path does not say which."""
        here: Element | None = None
        at = 0
        while at < len(path):
            name = path[at]
            several = here.children if here is not None else self.elements[:1]
            same = [element for element in several if element.name == name]
            number = path[at + 1] if at + 1 < len(path) else None
            if isinstance(number, int):
                at += 1
            elif len(same) > 1:
                raise EditRefused(f"there are {len(same)} of {name} there; say which: {name}[0] is the first")
            which = number if isinstance(number, int) else 0
            if which >= len(same):
                return None
            here, at = same[which], at + 1
        return here

    def _attribute(self, path: Path) -> Attribute | None:
        if not path or not isinstance(path[-1], str) or not path[-1].startswith("@"):
            return None
        element = self._locate(path[:-1])
        if element is None:
            return None
        return next(
            (attribute for attribute in attributes(self.text.body, element) if attribute.name == path[-1][1:]), None
        )

    def find(self, path: Path) -> Entry | None:
        """Return an attribute or an element's text, or None; None too where the path does not say which of several."""
        if self.error or not path:
            return None
        try:
            if isinstance(path[-1], str) and path[-1].startswith("@"):
                attribute = self._attribute(path)
                return self._attribute_entry(path[:-1], attribute) if attribute else None
            element = self._locate(path)
        except EditRefused:
            return None
        return self._text_entry(path, element) if element else None

    def switched_off(self) -> Sequence[Entry]:
        """Return the elements that stand commented out, one to a comment."""
        if self.error:
            return []
        found = []
        for off in _OFF.finditer(self.text.body):
            outer = [
                element for element in self.elements if element.inner <= off.start() and off.end() <= element.close
            ]
            path = (*(self._paths[outer[-1].number] if outer else ()), off["name"])
            found.append(Entry(path, off["element"], *off.span("name"), *off.span("element")))
        return found
