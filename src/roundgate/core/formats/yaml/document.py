"""YAML files: maps, lists and scalars in block and flow style, anchors, several documents.

Read by libyaml, by its events; they carry indexes, so spans cost nothing more. A path leads into the first document;
``#2`` as its first step into the second. What an anchor shares between several places is not edited, unless a copy is
asked for. An edit is confirmed by reading the new text again: every event must be as before, but for those asked for.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from roundgate.core.formats.protocol import Edit, EditRefused, EntryKind, Path, PlainData
from roundgate.core.formats.shared import bracket_edits as bracketed
from roundgate.core.formats.shared.key_value import closed_before, line_span
from roundgate.core.formats.shared.scalars import fitted
from roundgate.core.formats.shared.trees import nested
from roundgate.core.formats.yaml.events import Member
from roundgate.core.formats.yaml.insertion import YamlPlaces
from roundgate.core.formats.yaml.reader import _OFF
from roundgate.core.formats.yaml.writer import BOOL_WORDS, Bare, Written, block, block_text, flow, kind_of, scalar
from roundgate.core.text import LINE_END, Splice, Text

_OPEN, _CLOSE = ("{", "", None, None, True), ("}", "", None, None, True)
_LIST, _LIST_END = ("[", "", None, None, True), ("]", "", None, None, True)


class YamlDocument(YamlPlaces):
    """A YAML file, read."""

    format_name = "yaml"

    def alone(self, text: Text) -> YamlDocument:
        """Read another text as this one was read."""
        return YamlDocument(text, self.dialect)

    def set(self, path: Path, value: PlainData, kind: EntryKind | None = None, *, on_copy: bool = False) -> Edit:
        """Replace a value in its place, keeping its quotes, or add a name in the style of its neighbours."""
        if on_copy:
            from roundgate.core.formats.yaml.copies import set_on_copy

            edit = set_on_copy(self, path, value, kind)
            if edit is not None:
                return edit
        way = self.stream.locate(path)
        if way is None:
            from roundgate.core.formats.yaml.switching import set_switched_off

            off = (
                set_switched_off(self, path, fitted(value, kind, None))
                if path and _OFF.search(self.text.body)
                else None
            )
            return off or self._add(path, value, kind)
        event = way[-1].value
        events = self.stream.events[event]
        self.refuse_shared(way)
        if events[0] in "[{":
            return self._replace_collection(way, value)
        if isinstance(value, dict | list):
            return self._replace_scalar(way, self._collection(way, value))
        return self._replace_scalar(way, self._scalar_like(way, value, kind))

    def _scalar_like(self, way: Sequence[Member], value: PlainData, kind: EntryKind | None) -> Written:
        event = way[-1].value
        events = self.stream.events[event]
        present = kind_of(events)
        start, _ = self.stream.bare(event)
        # YAML 1.1 has on, off, yes and no as well: the word that the file uses stays, for some servers know only that
        # one.
        if isinstance(value, str) and kind is None and present == "bool" and value.lower() in BOOL_WORDS:
            new: PlainData = Bare(value)
        else:
            new = fitted(value, kind, "text" if present == "code" else present)
        sign = self.text.body[start : start + 1] if not events[4] else ""
        if sign in ("|", ">") and isinstance(new, str):
            column = self._block_indent(way)
            written = block_text(new, "|", column, self.text.newline) if column else None
            if written:
                return written
        return scalar(new, like=sign, in_flow=self.in_flow(way), ascii_only=self.ascii_only)

    def _block_indent(self, way: Sequence[Member]) -> str:
        """Return the indentation of a block of text that stands there."""
        start, end = self.stream.bare(way[-1].value)
        found = re.compile(r"[^\r\n]*(?:(?:\r\n|\r|\n)[ \t]*(?=[\r\n]|\Z))*(?:\r\n|\r|\n)( +)").match(
            self.text.body, start, end
        )
        # A number in the header fixes the indentation, so a block rewritten with another one would be read
        # otherwise.
        header = re.match(r"[|>][-+]?\d", self.text.body[start:])
        return "" if header or not found else found[1]

    def _replace_scalar(self, way: Sequence[Member], new: Written) -> Edit:
        event = way[-1].value
        events = self.stream.events[event]
        start, _ = self.stream.bare(event)
        end = max(start, self.stream.content_end(event))
        if not events[4] and self.text.body[start : start + 1] in ("|", ">"):
            # A block's span runs on over the blank lines behind it; those belong to what follows.
            end = start + len(self.text.body[start:end].rstrip(" \t\r\n"))
        text = new.text
        if start == end:
            text = self.into_nothing(way, start, text)
        expected = self.plain()
        # Anchor and tag stay in the text before the span, so they stay in what is expected too.
        made = [(*new.events[0][:2], events[2], events[3], new.events[0][4]), *new.events[1:]]
        return Edit((Splice(start, end, text),), [*expected[:event], *made, *expected[event + 1 :]])

    def _collection(self, way: Sequence[Member], value: PlainData) -> Written:
        """Write a map or list for the place of a scalar: on lines of its own, or in brackets where those are needed."""
        member = way[-1]
        # Lines of their own are not allowed inside brackets, and an empty collection has no form but brackets.
        if not value or self.in_flow(way) or member.key < 0 or self.stream.events[member.value][1]:
            return flow(value, ascii_only=self.ascii_only)
        indent = " " * (self.column(self.stream.spans[member.key][0]) + len(self.unit))
        written = block(value, indent, self.unit, self.text.newline, ascii_only=self.ascii_only)
        return Written(self.text.newline + indent + written.text, written.events)

    def _replace_collection(self, way: Sequence[Member], value: PlainData) -> Edit:
        event = way[-1].value
        if not isinstance(value, dict | list):
            raise EditRefused("there is a list or a map here, and a single value cannot replace it")
        events, stream = self.stream.events[event], self.stream
        new = flow(value, ascii_only=self.ascii_only)
        start, end = stream.bare_start(event), stream.content_end(event)
        if not stream.is_flow(event) and way[-1].key >= 0:
            colon = self.text.body.rfind(":", 0, start)
            # A block collection begins on the line below its key; in brackets it begins behind the colon.
            has_line = LINE_END.search(self.text.body, colon, start)
            start = colon + 1 if has_line and not self.text.body[colon + 1 : start].strip() else start
        lead = " " if self.text.body[start - 1 : start] == ":" else ""
        made = [(*new.events[0][:2], events[2], events[3], True), *new.events[1:]]
        after = stream.after(event)
        return Edit((Splice(start, end, lead + new.text),), [*self.plain()[:event], *made, *self.plain()[after:]])

    def _add(self, path: Path, value: PlainData, kind: EntryKind | None) -> Edit:
        depth = len(path) - 1
        while depth > 0 and self.stream.locate(path[:depth]) is None:
            depth -= 1
        way = self.stream.locate(path[:depth])
        name = path[depth]
        new = nested(path[depth + 1 :], fitted(value, kind, None))
        if way is None or (way[-1].value < len(self.plain()) and self.plain()[way[-1].value][0] == "d"):
            return self._first(name, new)
        self.refuse_shared(way)
        events = self.stream.events[way[-1].value]
        if events[0] == "S" and kind_of(events) == "null" and not events[1]:
            if len(way) == 1:
                return self._first(name, new)
            return self._replace_scalar(way, self._collection(way, {name: new}))
        if events[0] != "{" or isinstance(name, int):
            raise EditRefused(f"there is no {name} in what is there")
        return self._add_member(way, name, new)

    def _first(self, name: str | int, new: PlainData) -> Edit:
        """Put the first name into a file that says nothing yet."""
        written = block({str(name): new}, "", self.unit, self.text.newline, ascii_only=self.ascii_only)
        at = len(self.text.body)
        lead = "" if closed_before(self.text, at) else self.text.newline
        cut = Splice(at, at, lead + written.text + self.text.newline)
        return Edit((cut,), [("D", "", None, None, True), *written.events, ("d", "", None, None, True)])

    def _can_open(self, way: Sequence[Member]) -> bool:
        """Return whether a map is an empty pair of brackets that may give way to lines of their own."""
        event, stream, body = way[-1].value, self.stream, self.text.body
        if not stream.is_flow(event) or list(stream.members(event)) or self.in_flow(way[:-1]):
            return False
        if stream.events[event][2:4] != (None, None) or (len(way) > 1 and way[-1].key < 0):
            return False
        start, end = stream.bare_start(event), stream.content_end(event)
        rest = body[end : self.text.line_around(end)[1]]
        before = body[self.text.line_around(start)[0] : start].strip()
        return body[start:end].strip("{} ") == "" and not rest.strip() and (len(way) > 1 or not before)

    def _opened(self, way: Sequence[Member], value: PlainData) -> Edit:
        """Write the first names of a map on lines of their own, in the place of its empty brackets."""
        event, stream = way[-1].value, self.stream
        start, end = stream.bare_start(event), stream.content_end(event)
        if len(way) == 1:
            new = block(value, "", self.unit, self.text.newline, ascii_only=self.ascii_only)
        else:
            new = self._collection(way, value)
            start = len(self.text.body[:start].rstrip(" \t"))
        after = stream.after(event)
        return Edit((Splice(start, end, new.text),), [*self.plain()[:event], *new.events, *self.plain()[after:]])

    def _add_member(self, way: Sequence[Member], name: str, new: PlainData) -> Edit:
        event = way[-1].value
        stream, last = self.stream, self.stream.closing[event]
        if self._can_open(way):
            return self._opened(way, {name: new})
        if stream.is_flow(event):
            written = flow({name: new}, ascii_only=self.ascii_only)
            cuts = bracketed.added(self.brackets(event), len(list(stream.members(event))), written.text[1:-1])
        else:
            members = list(stream.members(event))
            indent = " " * self.column(stream.spans[members[0].key][0])
            written = self._like_neighbour({name: new}, members, name, new, indent)
            cuts = [self.line_behind(stream.content_end(members[-1].value), indent + written.text)]
        events = self.plain()
        return Edit(tuple(cuts), [*events[:last], *written.events[1:-1], *events[last:]])

    def _like_neighbour(
        self, whole: PlainData, members: Sequence[Member], name: str, new: PlainData, indent: str
    ) -> Written:
        """Write a member on lines of its own; what its neighbours have in brackets, in brackets too."""
        stream = self.stream
        sign = "{" if isinstance(new, dict) else "[" if isinstance(new, list) else ""
        alike = [member.value for member in members if sign and stream.events[member.value][0] == sign]
        if not alike or not new:
            return block(whole, indent, self.unit, self.text.newline, ascii_only=self.ascii_only)
        last = alike[-1]
        if not stream.is_flow(last):
            inner = [stream.members(event) for event in alike if not stream.is_flow(event)]
            flat = {str(member.step) for several in inner for member in several if self._in_brackets(member.value)}
            return block(whole, indent, self.unit, self.text.newline, ascii_only=self.ascii_only, flat=frozenset(flat))
        written = flow(new, ascii_only=self.ascii_only)
        start = stream.bare_start(last)
        pad = " " if self.text.body[start + 1 : start + 2] == " " else ""
        text = f"{written.text[0]}{pad}{written.text[1:-1]}{pad}{written.text[-1]}"
        if isinstance(whole, dict):
            key = scalar(name, like="", in_flow=False, ascii_only=self.ascii_only)
            return Written(f"{key.text}: {text}", [_OPEN, *key.events, *written.events, _CLOSE])
        return Written(f"- {text}", [_LIST, *written.events, _LIST_END])

    def _in_brackets(self, event: int) -> bool:
        return self.stream.events[event][0] in "[{" and self.stream.is_flow(event)

    def insert(self, path: Path, value: PlainData, kind: EntryKind | None = None) -> Edit:
        """Put an item into a list."""
        way, items = self.list_at(path)
        event, at = way[-1].value, min(int(path[-1]), len(items))
        present = kind_of(self.plain()[items[0].value]) if items else None
        new = fitted(value, kind, present if present in ("text", "number", "bool") else None)
        if self.stream.is_flow(event):
            written = flow(new, ascii_only=self.ascii_only)
            cuts = bracketed.added(self.brackets(event), at, written.text)
        else:
            dash = self.dashes(event, items)[min(at, len(items) - 1)]
            indent = " " * self.column(dash)
            written = self._like_neighbour([new], items, "", new, indent)
            written = Written(written.text, written.events[1:-1])
            cuts = [self._block_item(items, at, dash, indent, written.text)]
        index = items[at].value if at < len(items) else self.stream.closing[event]
        events = self.plain()
        return Edit(tuple(cuts), [*events[:index], *written.events, *events[index:]])

    def _block_item(self, items: Sequence[Member], at: int, dash: int, indent: str, text: str) -> Splice:
        if at == len(items):
            return self.line_behind(self.stream.content_end(items[-1].value), indent + text)
        return Splice(dash, dash, text + self.text.newline + indent)

    def remove(self, path: Path) -> Edit:
        """Take out a name or an item, with its own comment. Raises EditRefused."""
        way = self.stream.locate(path)
        if way is None or len(way) < 2:
            raise EditRefused("it is not in the file")
        self.refuse_shared(way)
        parent = way[-2].value
        members = list(self.stream.members(parent))
        gone = [at for at, member in enumerate(members) if member.step == path[-1]]
        # YAML forbids the same name twice, and readers take the first or the last: which one to take out is a person's
        # decision.
        if len(gone) > 1:
            raise EditRefused("it is there more than once; delete the ones that should not count first")
        self._refuse_sharers(members[gone[0]])
        cuts = self._cut(parent, members, gone[0])
        first = members[gone[0]].key if members[gone[0]].key >= 0 else members[gone[0]].value
        events = self.plain()
        return Edit(tuple(cuts), [*events[:first], *events[self.stream.after(members[gone[0]].value) :]])

    def _refuse_sharers(self, member: Member) -> None:
        for at in range(member.value, self.stream.after(member.value)):
            anchor = self.plain()[at][2]
            # To take the anchor out would leave its aliases without what they mean, and the file could not be read any
            # more.
            if anchor and self.stream.aliases(anchor, at):
                raise EditRefused(f"*{anchor} elsewhere refers to a part of it")

    def _cut(self, parent: int, members: Sequence[Member], at: int) -> list[Splice]:
        stream, body = self.stream, self.text.body
        if stream.is_flow(parent):
            return bracketed.removed(self.brackets(parent), at)
        starts = (
            self.dashes(parent, members) if members[0].key < 0 else [stream.spans[member.key][0] for member in members]
        )
        if len(members) == 1:
            return [self.emptied(parent, starts[0], stream.content_end(members[0].value))]
        start, end = starts[at], stream.content_end(members[at].value)
        line_start = self.text.line_around(start)[0]
        if body[line_start:start].strip(" "):
            return [Splice(start, starts[at + 1], "")] if at + 1 < len(starts) else self._refuse_odd()
        stop = end if closed_before(self.text, end) and end else line_span(self.text, end)[1]
        return [Splice(self._own_start(line_start, start - line_start, at), stop, "")]

    def _refuse_odd(self) -> list[Splice]:
        raise EditRefused("it is written in a way that cannot be taken out; edit the file by hand")

    def _own_start(self, line_start: int, column: int, at: int) -> int:
        """Take along the comment right above in the same column, unless it is the first one: that is the group's."""
        if at == 0:
            return line_start
        start = line_start
        while start > 0:
            above = self.text.line_around(start - 1)[0]
            if self.text.body[start - 2 : start] == "\r\n":
                above = self.text.line_around(start - 2)[0]
            line = self.text.body[above:start].rstrip("\r\n")
            if len(line) - len(line.lstrip(" ")) != column or line[column : column + 1] != "#" or _OFF.match(line):
                break
            start = above
        return start

    def rename(self, path: Path, name: str) -> Edit:
        """Return a name of a map another spelling. Raises EditRefused."""
        way = self.stream.locate(path)
        if way is None or way[-1].key < 0 or self.plain()[way[-1].key][0] != "S":
            raise EditRefused("there is no name to change")
        self.refuse_shared(way[:-1])
        if self.stream.locate((*path[:-1], name)) is not None:
            raise EditRefused(f"{name} already exists")
        keys = [member.key for member in self.stream.members(way[-2].value) if member.step == path[-1]]
        expected, cuts = list(self.plain()), []
        for key in keys:
            start, end = self.stream.bare(key)
            like = "" if expected[key][4] else self.text.body[start : start + 1]
            new = scalar(name, like=like, in_flow=self.in_flow(way), ascii_only=self.ascii_only)
            cuts.append(Splice(start, end, new.text))
            expected[key] = (*new.events[0][:2], expected[key][2], expected[key][3], new.events[0][4])
        return Edit(tuple(cuts), expected)

    def move(self, path: Path, to: int) -> Edit:
        """Move an item of a list: the items change places with what stands after them on their lines.

        Raises EditRefused.
        """
        way, items = self.list_at(path)
        event, at = way[-1].value, int(path[-1])
        if not (0 <= at < len(items) and 0 <= to < len(items)):
            raise EditRefused(f"the list has items 0 to {len(items) - 1}")
        order = list(range(len(items)))
        order.insert(to, order.pop(at))
        events = self.plain()
        nodes = [events[item.value : self.stream.after(item.value)] for item in items]
        expected = [*events[: items[0].value], *(node for number in order for node in nodes[number])]
        expected += events[self.stream.closing[event] :]
        if self.stream.is_flow(event):
            return Edit(tuple(bracketed.moved(self.brackets(event), at, to)), expected)
        spans = [self._item_span(item) for item in items]
        cuts = [
            Splice(*spans[slot], self.text.body[slice(*spans[source])])
            for slot, source in enumerate(order)
            if slot != source
        ]
        return Edit(tuple(cuts), expected)

    def _item_span(self, item: Member) -> tuple[int, int]:
        """Return the span of an item from after its dash to the end of its last line."""
        start = self.stream.spans[item.value][0]
        end = self.stream.content_end(item.value)
        rest = re.compile(r"[ \t]*(?:#[^\r\n]*)?(?=[\r\n]|\Z)").match(self.text.body, end)
        return start, rest.end() if rest and not (closed_before(self.text, end) and end) else end

    def switch(self, path: Path, *, on: bool) -> Edit:
        """Comment a name and its lines out, or set the one that stands commented out."""
        from roundgate.core.formats.yaml.switching import switched

        return switched(self, path, on=on)
