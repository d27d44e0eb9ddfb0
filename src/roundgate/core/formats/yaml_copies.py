"""Edits of what a YAML file shares between several places, made in one of them alone."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from roundgate.core.formats.protocol import Edit, EditRefused, Kind, Plain
from roundgate.core.formats.scalars import fitted
from roundgate.core.formats.yaml_events import Member
from roundgate.core.formats.yaml_words import flow, kind_of, scalar
from roundgate.core.text import Splice

if TYPE_CHECKING:
    from roundgate.core.formats.yaml import YamlDocument


def set_on_copy(document: YamlDocument, way: Sequence[Member], value: Plain, kind: Kind | None) -> Edit:
    """Change a shared value in one place: a reference gives way to the value, a marked one hands its mark on."""
    stream, event = document.stream, way[-1].value
    said = document.plain()[event]
    if said[0] == "*":
        meant = document.plain()[stream.meant(event)]
        present = kind_of(meant) if meant[0] == "S" else None
        new = value if isinstance(value, dict | list) else fitted(value, kind, present)
        written = flow(new) if isinstance(new, dict | list) else scalar(new, like="", in_flow=True)
        cut = Splice(*stream.spans[event], written.text)
        return Edit((cut,), [*document.plain()[:event], *written.said, *document.plain()[event + 1 :]])
    sharers = stream.aliases(said[2] or "", event)
    if said[0] != "S" or isinstance(value, dict | list):
        raise EditRefused("only a single value can be changed on a copy; write the list or map out by hand")
    new = scalar(fitted(value, kind, kind_of(said)), like="", in_flow=True)
    expected = list(document.plain())
    expected[event] = (*new.said[0][:2], None, said[3], new.said[0][4])
    whole = stream.spans[event]
    start, end = stream.bare(event)
    if said[3] is not None:
        raise EditRefused("a value with a tag cannot be changed on a copy; edit the file by hand")
    cuts = [Splice(*whole, new.text)]
    if sharers:
        first = sharers[0]
        cuts.append(Splice(*stream.spans[first], f"&{said[2]} {document.text.body[start:end]}"))
        expected[first] = said
    return Edit(tuple(cuts), expected)
