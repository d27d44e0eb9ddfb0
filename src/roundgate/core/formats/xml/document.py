"""XML files: attributes and texts of elements, comments, CDATA, entities, declaration.

A path names the elements from the root; a number after a name tells which of several of that name among its
siblings, from 0; ``@name`` at the end is an attribute: ``("buoys", "buoy", 2, "@x")``. Expat reads the text and
confirms every edit; spans come from a scan of the tags, which need not check what expat has read."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import cached_property
from typing import Any

from roundgate.core.formats.protocol import Edit, EditRefused, EntryKind, Path, PlainData
from roundgate.core.formats.shared.key_value import line_span
from roundgate.core.formats.xml.reader import _OFF, Event, XmlReading, _without_gaps
from roundgate.core.formats.xml.spans import Element, attributes, written
from roundgate.core.patterns import lazy
from roundgate.core.text import Splice, Text

_NAME = lazy(r"[A-Za-z_][\w.\-:]*")


class XmlDocument(XmlReading):
    """An XML file, read."""

    format_name = "xml"

    def _edit(self, cuts: Sequence[Splice], events: list[Event]) -> Edit:
        return Edit(tuple(cuts), _without_gaps(events))

    @cached_property
    def _starts(self) -> list[int]:
        return [at for at, event in enumerate(self.events) if event[0] == "<"]

    def _closing(self, start: int) -> int:
        depth = 0
        for at in range(start, len(self.events)):
            depth += (self.events[at][0] == "<") - (self.events[at][0] == ">")
            if depth == 0:
                return at
        return start

    def _events(self, element: Element) -> tuple[int, int]:
        start = self._starts[element.number]
        return start, self._closing(start)

    def set(self, path: Path, value: PlainData, kind: EntryKind | None = None, *, on_copy: bool = False) -> Edit:
        """Set an attribute or a text in its place, or add it in the style of its neighbours. Raises EditRefused."""
        new = _as_text(value)
        if isinstance(path[-1], str) and path[-1].startswith("@"):
            return self._set_attribute(path, new)
        element = self._locate(path)
        if element is None:
            return self._add_child(path, new)
        if element.children:
            raise EditRefused(f"{element.name} holds other elements; a single value cannot take their place")
        return self._set_text(element, new)

    def _set_text(self, element: Element, new: str) -> Edit:
        body = self.text.body
        # Expat joins the text around a comment, so the spans on its two sides cannot be told from each other.
        if "<!--" in body[element.inner : element.close] or "<?" in body[element.inner : element.close]:
            raise EditRefused("there is a comment inside the text; edit it by hand")
        _no_control(new)
        start, end = self._text_span(element)
        # Inside CDATA nothing is escaped; only its own end cannot be written there.
        if body[start - 9 : start] == "<![CDATA[" and "]]>" not in new:
            cut = Splice(start, end, new)
            outer = body[element.inner : start - 9] + new + body[end + 3 : element.close]
        elif element.is_alone:
            slash = body.rindex("/", element.start, element.end)
            cut = Splice(slash, element.end, f">{written(new)}</{element.name}>")
            cut = Splice(len(body[:slash].rstrip()), element.end, f">{written(new)}</{element.name}>")
            outer = new
        else:
            cut, outer = Splice(element.inner, element.close, written(new)), new
        first, last = self._events(element)
        # XML readers give every line end as a line feed, whatever the file has.
        text: list[Event] = [("t", outer.replace("\r\n", "\n"), None)] if outer else []
        return self._edit([cut], [*self.events[: first + 1], *text, *self.events[last:]])

    def _with_attributes(self, element: Element, change: Any) -> list[Event]:
        first = self._starts[element.number]
        given = self.events[first][2]
        pairs = [(given[at], given[at + 1]) for at in range(0, len(given), 2)]
        flat = tuple(word for pair in change(pairs) for word in pair)
        return [*self.events[:first], ("<", self.events[first][1], flat), *self.events[first + 1 :]]

    def _set_attribute(self, path: Path, new: str) -> Edit:
        _no_control(new)
        element = self._locate(path[:-1])
        if element is None:
            raise EditRefused("there is no such element")
        name = str(path[-1])[1:]
        attribute = self._attribute(path)
        if attribute is not None:
            quote = self.text.body[attribute.end - 1]
            cut = Splice(*attribute.value, written(new, quote))
            return self._edit(
                [cut], self._with_attributes(element, lambda all_of: [(k, new if k == name else v) for k, v in all_of])
            )
        if not _NAME.fullmatch(name):
            raise EditRefused(f"'{name}' cannot be an attribute's name")
        at = element.attributes[1]
        before = list(attributes(self.text.body, element))
        gap = self.text.body[before[-1].start : before[-1].key[0]] if before else " "
        quote = self.text.body[before[-1].end - 1] if before else '"'
        cut = Splice(at, at, f"{gap}{name}={quote}{written(new, quote)}{quote}")
        return self._edit([cut], self._with_attributes(element, lambda all_of: [*all_of, (name, new)]))

    def _add_child(self, path: Path, new: str) -> Edit:
        parent = self._locate(path[:-1]) if len(path) > 1 else None
        name = path[-1]
        if parent is None or not isinstance(name, str) or not _NAME.fullmatch(name):
            raise EditRefused("there is no element to put it into")
        _no_control(new)
        text = f"<{name}>{written(new)}</{name}>" if new else f"<{name}/>"
        events: list[Event] = [
            ("<", name, ()),
            *([("t", new.replace("\r\n", "\n"), None)] if new else []),
            (">", name, None),
        ]
        return self._put(parent, len(parent.children), text, events)

    def _put(self, parent: Element, at: int, text: str, events: list[Event]) -> Edit:
        """Put an element in as child number ``at`` of its parent."""
        cuts = [self._place_for(parent, at, text)]
        _, last = self._events(parent)
        index = self._starts[parent.children[at].number] if at < len(parent.children) else last
        return self._edit(cuts, [*self.events[:index], *events, *self.events[index:]])

    def _place_for(self, parent: Element, at: int, text: str) -> Splice:
        body, newline = self.text.body, self.text.newline
        if parent.is_alone:
            start = len(body[: body.rindex("/", parent.start, parent.end)].rstrip())
            return Splice(start, parent.end, f">{text}</{parent.name}>")
        # Text and elements side by side are read differently by nearly every library.
        if not parent.children and body[parent.inner : parent.close].strip():
            raise EditRefused(f"{parent.name} holds a text; it cannot hold elements too")
        if at < len(parent.children):
            here = parent.children[at].start
            return Splice(here, here, text + self._gap(here))
        if parent.children:
            here = parent.children[-1].end
            # A comment behind the last child belongs to it, so the new one goes behind the comment.
            note = re.compile(r"[ \t]*<!--(?:(?!-->).)*-->(?=[ \t]*[\r\n])").match(body, here)
            here = note.end() if note else here
            return Splice(here, here, self._gap(parent.children[-1].start) + text)
        indent = self._indent(parent.start)
        if re.search(r"[\r\n]", body[parent.inner : parent.close]):
            return Splice(parent.inner, parent.inner, newline + indent + self._unit + text)
        return Splice(parent.inner, parent.inner, text)

    def _indent(self, index: int) -> str:
        lead = re.compile(r"[ \t]*").match(self.text.body, self.text.line_around(index)[0])
        return lead.group() if lead else ""

    def _gap(self, index: int) -> str:
        """Return what separates elements: a new line with indentation where one begins its line, else nothing."""
        start = self.text.line_around(index)[0]
        return "" if self.text.body[start:index].strip() else self.text.newline + self.text.body[start:index]

    @cached_property
    def _unit(self) -> str:
        found = re.search(r"^([ \t]+)<", self.text.body, re.MULTILINE)
        return found[1] if found else "  "

    def insert(self, path: Path, value: PlainData, kind: EntryKind | None = None) -> Edit:
        """Put an element in before number ``path[-1]`` of those of its name.

        A map gives its attributes (``@name``), its text (``#text``) and elements with a text; a text gives its text.

        Raises EditRefused.
        """
        if len(path) < 2 or not isinstance(path[-1], int) or not isinstance(path[-2], str):
            raise EditRefused("an element is put in by its name and number")
        parent = self._locate(path[:-2])
        if parent is None or not _NAME.fullmatch(path[-2]):
            raise EditRefused("there is no element to put it into")
        same = [at for at, element in enumerate(parent.children) if element.name == path[-2]]
        at = same[path[-1]] if path[-1] < len(same) else (same[-1] + 1 if same else len(parent.children))
        like = parent.children[same[0]] if same else None
        record = value if isinstance(value, dict) else {"#text": value}
        text, events = self._record(path[-2], record, like)
        return self._put(parent, at, text, events)

    def _record(self, name: str, record: dict[str, PlainData], like: Element | None) -> tuple[str, list[Event]]:
        given = [(key[1:], _as_text(content)) for key, content in record.items() if key.startswith("@")]
        inner = [(key, _as_text(content)) for key, content in record.items() if not key.startswith(("@", "#"))]
        text = _as_text(record.get("#text", ""))
        for key, content in (*given, *inner, (name, text)):
            if not _NAME.fullmatch(key):
                raise EditRefused(f"'{key}' cannot be a name")
            _no_control(content)
        opening = f"<{name}" + "".join(f' {key}="{written(content, chr(34))}"' for key, content in given)
        events: list[Event] = [("<", name, tuple(word for pair in given for word in pair))]
        if not inner and not text:
            return opening + "/>", [*events, (">", name, None)]
        parts = [f"<{key}>{written(content)}</{key}>" for key, content in inner]
        for key, content in inner:
            events += [("<", key, ()), *([("t", content, None)] if content else []), (">", key, None)]
        if text:
            return f"{opening}>{written(text)}</{name}>", [events[0], ("t", text, None), (">", name, None)]
        gap = self._gap(like.children[0].start) if like is not None and like.children else ""
        end = self._gap(like.start) if gap and like is not None else ""
        return opening + ">" + "".join(gap + part for part in parts) + end + f"</{name}>", [*events, (">", name, None)]

    def remove(self, path: Path) -> Edit:
        """Take out an attribute, or an element with its lines. Raises EditRefused."""
        attribute = self._attribute(path)
        if attribute is not None:
            element = self._locate(path[:-1])
            assert element is not None
            cut = Splice(attribute.start, attribute.end, "")
            return self._edit(
                [cut],
                self._with_attributes(element, lambda all_of: [pair for pair in all_of if pair[0] != attribute.name]),
            )
        element = self._locate(path) if path and not str(path[-1]).startswith("@") else None
        if element is None or element.parent is None:
            raise EditRefused("it is not in the file")
        return self._edit([Splice(*self._own_lines(element), "")], self._without(element))

    def _without(self, element: Element) -> list[Event]:
        first, last = self._events(element)
        return [*self.events[:first], *self.events[last + 1 :]]

    def _own_lines(self, element: Element) -> tuple[int, int]:
        """Return the span of an element with its lines, where it has them to itself."""
        body = self.text.body
        start, _ = self.text.line_around(element.start)
        stop = line_span(self.text, element.end)[1]
        note = re.fullmatch(r"[ \t]*(?:<!--(?:(?!-->).)*-->)?[ \t]*(?:\r\n|\r|\n)?", body[element.end : stop])
        if body[start : element.start].strip() or not note:
            return element.start, element.end
        assert element.parent is not None
        # Its parent begins on the same line, which must stay.
        if len(element.parent.children) == 1 and element.parent.inner > start:
            return element.start, element.end
        return start, stop

    def rename(self, path: Path, name: str) -> Edit:
        """Give an attribute or an element another name. Raises EditRefused."""
        if not _NAME.fullmatch(name.removeprefix("@")):
            raise EditRefused(f"'{name}' cannot be a name")
        attribute = self._attribute(path)
        if attribute is not None:
            new = name.removeprefix("@")
            element = self._locate(path[:-1])
            assert element is not None
            if any(other.name == new for other in attributes(self.text.body, element)):
                raise EditRefused(f"{new} already exists")
            renamed = self._with_attributes(
                element, lambda all_of: [(new if k == attribute.name else k, v) for k, v in all_of]
            )
            return self._edit([Splice(*attribute.key, new)], renamed)
        element = self._locate(path) if not str(path[-1]).startswith("@") else None
        if element is None:
            raise EditRefused("there is no name to change")
        cuts = [Splice(element.start + 1, element.start + 1 + len(element.name), name)]
        if not element.is_alone:
            cuts.append(Splice(element.close + 2, element.close + 2 + len(element.name), name))
        first, last = self._events(element)
        events = list(self.events)
        events[first], events[last] = ("<", name, events[first][2]), (">", name, None)
        return self._edit(cuts, events)

    def move(self, path: Path, to: int) -> Edit:
        """Move an element among its siblings of the same name: their texts change places. Raises EditRefused."""
        element = self._locate(path) if path and isinstance(path[-1], int) else None
        if element is None or element.parent is None:
            raise EditRefused("there is no such element")
        same = [child for child in element.parent.children if child.name == element.name]
        if not 0 <= to < len(same):
            raise EditRefused(f"there are elements 0 to {len(same) - 1} of this name")
        order = list(same)
        order.insert(to, order.pop(int(path[-1])))
        cuts = [
            Splice(slot.start, slot.end, self.text.body[source.start : source.end])
            for slot, source in zip(same, order, strict=True)
            if slot is not source
        ]
        events, expected, at = self.events, [], 0
        for slot, source in zip(same, order, strict=True):
            first, last = self._events(slot)
            begin, end = self._events(source)
            expected += [*events[at:first], *events[begin : end + 1]]
            at = last + 1
        return self._edit(cuts, [*expected, *events[at:]])

    def switch(self, path: Path, *, on: bool) -> Edit:
        """Put an element into a comment, or take it out of the one it stands in. Raises EditRefused."""
        if on:
            off = [entry for entry in self.switched_off() if entry.path == path]
            if not off:
                raise EditRefused("no such element is commented out in the file")
            comment = next(match for match in _OFF.finditer(self.text.body) if match.start("element") == off[-1].start)
            cuts = [Splice(*comment.span(), comment["element"])]
            new = XmlDocument(self.text.spliced(cuts))
            element = (
                next((element for element in new.elements if element.start == comment.start()), None)
                if not new.error
                else None
            )
            if element is None or _without_gaps(new._without(element)) != self.events:
                raise EditRefused("what is commented out there is not one whole element")
            return self._edit(cuts, new.events)
        element = self._locate(path)
        if element is None or element.parent is None:
            raise EditRefused("there is no such element")
        text = self.text.body[element.start : element.end]
        if "--" in text:
            raise EditRefused("it holds two dashes in a row, which a comment cannot")
        return self._edit([Splice(element.start, element.end, f"<!-- {text} -->")], self._without(element))


def _as_text(value: PlainData) -> str:
    from roundgate.core.formats.shared.key_value import as_text

    return as_text(value)


def _no_control(value: str) -> None:
    if re.search("[\x00-\x08\x0b\x0c\x0e-\x1f\ud800-\udfff\ufffe\uffff]", value):
        raise EditRefused("XML has no form for a control character or half a character")


_DECLARED = lazy(r"<\?xml[^>]*?encoding\s*=\s*[\"'](?P<name>[\w.\-]+)[\"']")
_SINGLE_BYTE = {"iso-8859-1": "latin-1", "latin1": "latin-1", "windows-1252": "cp1252", "cp1252": "cp1252"}


def as_declared(text: Text) -> Text:
    """Return a text that is plain ASCII the encoding that its first line declares: new letters are written in it."""
    if text.encoding != "utf-8" or text.bom or not text.body.isascii():
        return text
    events = _DECLARED.match(text.body)
    name = _SINGLE_BYTE.get(events["name"].lower(), "") if events else ""
    return Text(text.body, name, text.bom) if name else text
