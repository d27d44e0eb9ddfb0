"""XML files: attributes and texts of elements, comments, CDATA, entities, declaration.

A path names the elements from the root; a number behind a name tells which of several of that name among its
siblings, from 0; ``@name`` at the end is an attribute: ``("buoys", "buoy", 2, "@x")``. Expat reads the text and
confirms every edit; spans come from a scan of the tags, which need not check what expat has read."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import Any
from xml.parsers import expat

from roundgate.core.findings import Problem
from roundgate.core.formats.flat import line_span
from roundgate.core.formats.protocol import USUAL, Dialect, Document, Edit, EditRefused, Entry, Kind, Path, Plain
from roundgate.core.formats.xml_spans import Attribute, Element, attributes, elements, meaning, written
from roundgate.core.text import Splice, Text

Said = tuple[str, str, Any]
"""One event of expat: ``<`` name attributes, ``>`` name, or ``t`` text; blanks between elements are left out."""

_NAME = re.compile(r"[A-Za-z_][\w.\-:]*")
_OFF = re.compile(
    r"<!--[ \t\r\n]*(?P<element><(?P<name>[A-Za-z_][\w.\-:]*)(?:\s[^<>]*)?(?:/>|>[^<>]*</(?P=name)>))[ \t\r\n]*-->"
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


def read_events(body: str) -> list[Said]:
    """Give all that a text says, by expat. Raises XmlError."""
    said: list[Said] = []
    parser = expat.ParserCreate("utf-8")
    parser.buffer_text = True
    parser.ordered_attributes = True
    parser.StartElementHandler = lambda name, given: said.append(("<", name, tuple(given)))
    parser.EndElementHandler = lambda name: said.append((">", name, None))
    parser.CharacterDataHandler = lambda text: said.append(("t", text, None))
    _parse(body, parser)
    return list(_without_gaps(said))


def _without_gaps(said: list[Said]) -> Iterator[Said]:
    """Join texts and leave out those of blanks that only part elements."""
    at = 0
    while at < len(said):
        if said[at][0] != "t":
            yield said[at]
            at += 1
            continue
        end = at
        while end < len(said) and said[end][0] == "t":
            end += 1
        text = "".join(one[1] for one in said[at:end])
        is_leaf = at > 0 and said[at - 1][0] == "<" and end < len(said) and said[end][0] == ">"
        if text.strip() or (is_leaf and "\n" not in text):
            yield "t", text, None
        at = end


class XmlDocument:
    """An XML file, read."""

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
            raise EditRefused("the file has mistakes; mend them first (roundgate check)")

    @cached_property
    def said(self) -> list[Said]:
        """All that the file says."""
        self._refuse_broken()
        return read_events(self.text.body)

    def plain(self) -> list[Said]:
        """Give all that the file says."""
        return self.said

    @cached_property
    def elements(self) -> list[Element]:
        """Every element, in order. Raises EditRefused where the text cannot be read."""
        self._refuse_broken()
        return elements(self.text.body)

    def resolve(self, key: str) -> Path:
        """Read a path as people write it; the root's name may be left out."""
        from roundgate.core.formats.paths import parse_path

        path = parse_path(key)
        if not self.error and self.elements and path[:1] != (self.elements[0].name,):
            return (self.elements[0].name, *path)
        return path

    # --- what stands there ---

    def _path_of(self, element: Element) -> Path:
        steps: list[str | int] = []
        here: Element | None = element
        while here is not None:
            same = [one for one in here.parent.children if one.name == here.name] if here.parent else [here]
            if len(same) > 1:
                steps.append(same.index(here))
            steps.append(here.name)
            here = here.parent
        return tuple(reversed(steps))

    @cached_property
    def _paths(self) -> dict[int, Path]:
        """Give each element's path, in one pass."""
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
        """Give every attribute, and the text of every element that holds no other."""
        if self.error:
            return []
        found: list[Entry] = []
        for element in self.elements:
            path = self._paths[element.number]
            mine = [self._attribute_entry(path, one) for one in attributes(self.text.body, element)]
            found += mine
            if not element.children and (not element.is_alone or not mine):
                found.append(self._text_entry(path, element))
        return found

    def _attribute_entry(self, path: Path, one: Attribute) -> Entry:
        value = meaning(self.text.body[slice(*one.value)].replace("\r\n", "\n").replace("\n", " ").replace("\t", " "))
        return Entry((*path, f"@{one.name}"), value, *one.key, *one.value)

    def _text_entry(self, path: Path, element: Element) -> Entry:
        start, end = self._text_span(element)
        raw = self.text.body[start:end]
        is_cdata = self.text.body[start - 9 : start] == "<![CDATA["
        value = raw if is_cdata else meaning(re.sub(r"<!\[CDATA\[(.*?)\]\]>", r"\1", raw, flags=re.S))
        key = (element.start + 1, element.start + 1 + len(element.name))
        return Entry(path, value.replace("\r\n", "\n"), *key, start, end, "map" if element.children else "text")

    def _text_span(self, element: Element) -> tuple[int, int]:
        """Give the span of an element's text: without the blanks around, and inside CDATA where it is all of it."""
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
            same = [one for one in several if one.name == name]
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
        return next((one for one in attributes(self.text.body, element) if one.name == path[-1][1:]), None)

    def find(self, path: Path) -> Entry | None:
        """Give an attribute or an element's text, or None; None too where the path does not say which of several."""
        if self.error or not path:
            return None
        try:
            if isinstance(path[-1], str) and path[-1].startswith("@"):
                one = self._attribute(path)
                return self._attribute_entry(path[:-1], one) if one else None
            element = self._locate(path)
        except EditRefused:
            return None
        return self._text_entry(path, element) if element else None

    def switched_off(self) -> Sequence[Entry]:
        """Give the elements that stand commented out, one to a comment."""
        if self.error:
            return []
        found = []
        for off in _OFF.finditer(self.text.body):
            outer = [one for one in self.elements if one.inner <= off.start() and off.end() <= one.close]
            path = (*(self._paths[outer[-1].number] if outer else ()), off["name"])
            found.append(Entry(path, off["element"], *off.span("name"), *off.span("element")))
        return found

    def problems(self) -> Sequence[Problem]:
        """Say what is wrong with the text."""
        from roundgate.core.formats.xml_problems import problems_of

        return problems_of(self)

    # --- edits ---

    def _edit(self, cuts: Sequence[Splice], said: list[Said]) -> Edit:
        return Edit(tuple(cuts), list(_without_gaps(said)))

    @cached_property
    def _starts(self) -> list[int]:
        return [at for at, one in enumerate(self.said) if one[0] == "<"]

    def _closing(self, start: int) -> int:
        depth = 0
        for at in range(start, len(self.said)):
            depth += (self.said[at][0] == "<") - (self.said[at][0] == ">")
            if depth == 0:
                return at
        return start

    def _events(self, element: Element) -> tuple[int, int]:
        start = self._starts[element.number]
        return start, self._closing(start)

    def set(self, path: Path, value: Plain, kind: Kind | None = None, *, on_copy: bool = False) -> Edit:
        """Set an attribute or a text in its place, or add it in the style of its neighbours."""
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
        if "<!--" in body[element.inner : element.close] or "<?" in body[element.inner : element.close]:
            raise EditRefused("a comment stands inside the text; edit it by hand")
        _no_control(new)
        start, end = self._text_span(element)
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
        text: list[Said] = [("t", outer.replace("\r\n", "\n"), None)] if outer else []
        return self._edit([cut], [*self.said[: first + 1], *text, *self.said[last:]])

    def _with_attributes(self, element: Element, change: Any) -> list[Said]:
        first = self._starts[element.number]
        given = self.said[first][2]
        pairs = [(given[at], given[at + 1]) for at in range(0, len(given), 2)]
        flat = tuple(one for pair in change(pairs) for one in pair)
        return [*self.said[:first], ("<", self.said[first][1], flat), *self.said[first + 1 :]]

    def _set_attribute(self, path: Path, new: str) -> Edit:
        _no_control(new)
        element = self._locate(path[:-1])
        if element is None:
            raise EditRefused("there is no such element")
        name = str(path[-1])[1:]
        one = self._attribute(path)
        if one is not None:
            quote = self.text.body[one.end - 1]
            cut = Splice(*one.value, written(new, quote))
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
        said: list[Said] = [
            ("<", name, ()),
            *([("t", new.replace("\r\n", "\n"), None)] if new else []),
            (">", name, None),
        ]
        return self._put(parent, len(parent.children), text, said)

    def _put(self, parent: Element, at: int, text: str, said: list[Said]) -> Edit:
        """Put an element in as child number ``at`` of its parent."""
        cuts = [self._place_for(parent, at, text)]
        _, last = self._events(parent)
        index = self._starts[parent.children[at].number] if at < len(parent.children) else last
        return self._edit(cuts, [*self.said[:index], *said, *self.said[index:]])

    def _place_for(self, parent: Element, at: int, text: str) -> Splice:
        body, newline = self.text.body, self.text.newline
        if parent.is_alone:
            start = len(body[: body.rindex("/", parent.start, parent.end)].rstrip())
            return Splice(start, parent.end, f">{text}</{parent.name}>")
        if not parent.children and body[parent.inner : parent.close].strip():
            raise EditRefused(f"{parent.name} holds a text; it cannot hold elements too")
        if at < len(parent.children):
            here = parent.children[at].start
            return Splice(here, here, text + self._gap(here))
        if parent.children:
            here = parent.children[-1].end
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
        """Give what parts elements: a new line with indentation where one begins its line, else nothing."""
        start = self.text.line_around(index)[0]
        return "" if self.text.body[start:index].strip() else self.text.newline + self.text.body[start:index]

    @cached_property
    def _unit(self) -> str:
        found = re.search(r"^([ \t]+)<", self.text.body, re.MULTILINE)
        return found[1] if found else "  "

    def insert(self, path: Path, value: Plain, kind: Kind | None = None) -> Edit:
        """Put an element in before number ``path[-1]`` of those of its name.

        A map gives its attributes (``@name``), its text (``#text``) and elements with a text; a text gives its text.
        """
        if len(path) < 2 or not isinstance(path[-1], int) or not isinstance(path[-2], str):
            raise EditRefused("an element is put in by its name and number")
        parent = self._locate(path[:-2])
        if parent is None or not _NAME.fullmatch(path[-2]):
            raise EditRefused("there is no element to put it into")
        same = [at for at, one in enumerate(parent.children) if one.name == path[-2]]
        at = same[path[-1]] if path[-1] < len(same) else (same[-1] + 1 if same else len(parent.children))
        like = parent.children[same[0]] if same else None
        record = value if isinstance(value, dict) else {"#text": value}
        text, said = self._record(path[-2], record, like)
        return self._put(parent, at, text, said)

    def _record(self, name: str, record: dict[str, Plain], like: Element | None) -> tuple[str, list[Said]]:
        given = [(key[1:], _as_text(one)) for key, one in record.items() if key.startswith("@")]
        inner = [(key, _as_text(one)) for key, one in record.items() if not key.startswith(("@", "#"))]
        text = _as_text(record.get("#text", ""))
        for key, one in (*given, *inner, (name, text)):
            if not _NAME.fullmatch(key):
                raise EditRefused(f"'{key}' cannot be a name")
            _no_control(one)
        opening = f"<{name}" + "".join(f' {key}="{written(one, chr(34))}"' for key, one in given)
        said: list[Said] = [("<", name, tuple(one for pair in given for one in pair))]
        if not inner and not text:
            return opening + "/>", [*said, (">", name, None)]
        parts = [f"<{key}>{written(one)}</{key}>" for key, one in inner]
        for key, one in inner:
            said += [("<", key, ()), *([("t", one, None)] if one else []), (">", key, None)]
        if text:
            return f"{opening}>{written(text)}</{name}>", [said[0], ("t", text, None), (">", name, None)]
        gap = self._gap(like.children[0].start) if like is not None and like.children else ""
        end = self._gap(like.start) if gap and like is not None else ""
        return opening + ">" + "".join(gap + one for one in parts) + end + f"</{name}>", [*said, (">", name, None)]

    def remove(self, path: Path) -> Edit:
        """Take out an attribute, or an element with its lines."""
        one = self._attribute(path)
        if one is not None:
            element = self._locate(path[:-1])
            assert element is not None
            cut = Splice(one.start, one.end, "")
            return self._edit(
                [cut], self._with_attributes(element, lambda all_of: [pair for pair in all_of if pair[0] != one.name])
            )
        element = self._locate(path) if path and not str(path[-1]).startswith("@") else None
        if element is None or element.parent is None:
            raise EditRefused("it does not stand in the file")
        return self._edit([Splice(*self._own_lines(element), "")], self._without(element))

    def _without(self, element: Element) -> list[Said]:
        first, last = self._events(element)
        return [*self.said[:first], *self.said[last + 1 :]]

    def _own_lines(self, element: Element) -> tuple[int, int]:
        """Give the span of an element with its lines, where it has them to itself."""
        body = self.text.body
        start, _ = self.text.line_around(element.start)
        stop = line_span(self.text, element.end)[1]
        note = re.fullmatch(r"[ \t]*(?:<!--(?:(?!-->).)*-->)?[ \t]*(?:\r\n|\r|\n)?", body[element.end : stop])
        if body[start : element.start].strip() or not note:
            return element.start, element.end
        assert element.parent is not None
        if len(element.parent.children) == 1 and element.parent.inner > start:
            return element.start, element.end
        return start, stop

    def rename(self, path: Path, name: str) -> Edit:
        """Give an attribute or an element another name."""
        if not _NAME.fullmatch(name.removeprefix("@")):
            raise EditRefused(f"'{name}' cannot be a name")
        one = self._attribute(path)
        if one is not None:
            new = name.removeprefix("@")
            element = self._locate(path[:-1])
            assert element is not None
            if any(other.name == new for other in attributes(self.text.body, element)):
                raise EditRefused(f"{new} stands there already")
            renamed = self._with_attributes(
                element, lambda all_of: [(new if k == one.name else k, v) for k, v in all_of]
            )
            return self._edit([Splice(*one.key, new)], renamed)
        element = self._locate(path) if not str(path[-1]).startswith("@") else None
        if element is None:
            raise EditRefused("there is no name to change")
        cuts = [Splice(element.start + 1, element.start + 1 + len(element.name), name)]
        if not element.is_alone:
            cuts.append(Splice(element.close + 2, element.close + 2 + len(element.name), name))
        first, last = self._events(element)
        said = list(self.said)
        said[first], said[last] = ("<", name, said[first][2]), (">", name, None)
        return self._edit(cuts, said)

    def move(self, path: Path, to: int) -> Edit:
        """Move an element among its siblings of the same name: their texts change places."""
        element = self._locate(path) if path and isinstance(path[-1], int) else None
        if element is None or element.parent is None:
            raise EditRefused("there is no such element")
        same = [one for one in element.parent.children if one.name == element.name]
        if not 0 <= to < len(same):
            raise EditRefused(f"there are elements 0 to {len(same) - 1} of this name")
        order = list(same)
        order.insert(to, order.pop(int(path[-1])))
        cuts = [
            Splice(slot.start, slot.end, self.text.body[source.start : source.end])
            for slot, source in zip(same, order, strict=True)
            if slot is not source
        ]
        said, expected, at = self.said, [], 0
        for slot, source in zip(same, order, strict=True):
            first, last = self._events(slot)
            begin, end = self._events(source)
            expected += [*said[at:first], *said[begin : end + 1]]
            at = last + 1
        return self._edit(cuts, [*expected, *said[at:]])

    def switch(self, path: Path, *, on: bool) -> Edit:
        """Put an element into a comment, or take it out of the one it stands in."""
        if on:
            off = [one for one in self.switched_off() if one.path == path]
            if not off:
                raise EditRefused("no such element stands in the file commented out")
            comment = next(one for one in _OFF.finditer(self.text.body) if one.start("element") == off[-1].start)
            cuts = [Splice(*comment.span(), comment["element"])]
            new = self.text.spliced(cuts)
            return self._edit(cuts, read_events(new.body))
        element = self._locate(path)
        if element is None or element.parent is None:
            raise EditRefused("there is no such element")
        text = self.text.body[element.start : element.end]
        if "--" in text:
            raise EditRefused("it holds two dashes in a row, which a comment cannot")
        return self._edit([Splice(element.start, element.end, f"<!-- {text} -->")], self._without(element))


def _as_text(value: Plain) -> str:
    from roundgate.core.formats.flat import as_text

    return as_text(value)


def _no_control(value: str) -> None:
    if re.search("[\x00-\x08\x0b\x0c\x0e-\x1f\ud800-\udfff\ufffe\uffff]", value):
        raise EditRefused("XML has no form for a control character or half a character")


class XmlFormat:
    """The registry's entry for XML files."""

    name = "xml"

    def read(self, text: Text, dialect: Dialect = USUAL) -> XmlDocument:
        """Read a text. Never raises."""
        return XmlDocument(text, dialect)

    def confirms(self, document: Document, expected: object) -> bool:
        """Let expat read the new text and compare all that it says."""
        try:
            found = document.plain()
        except (EditRefused, XmlError):
            return False
        return bool(found == expected)


FORMAT = XmlFormat()
