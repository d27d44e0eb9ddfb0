"""What people get wrong in XML, found by a scan of the tags that does not give up. It runs only where expat does."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from roundgate.core.findings import Problem
from roundgate.core.formats.anywhere import (
    empty,
    flood,
    handful,
    hidden_characters,
    merge_markers,
    with_place,
)
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.xml_scan import Scan

if TYPE_CHECKING:
    from roundgate.core.formats.xml import XmlDocument

_DECLARED = re.compile(r"<\?xml[^>]*?encoding\s*=\s*[\"']([\w.\-]+)[\"']")


def problems_of(document: XmlDocument) -> list[Problem]:
    """Find every problem of an XML text, in the order of the file."""
    body = document.text.body
    if nothing := empty(body, "error"):
        return nothing
    if document.error is None:
        return flood([*_encoding(document), *hidden_characters(body)])
    if marks := list(merge_markers(body)):
        return marks
    scan = Scan(body)
    scan.run()
    found = handful(scan.found)
    if not any(one.level == "error" for one in found):
        at = min(document.error.at, max(len(body) - 1, 0))
        cause = "The reader of XML cannot go on here."
        return [*found, problem("not-understood", (at, at + 1), cause, "Compare with a line that works.")]
    return with_place(found, document.error.at, body)


def _encoding(document: XmlDocument) -> list[Problem]:
    said = _DECLARED.match(document.text.body)
    if not said:
        return []
    name = said[1].lower().replace("_", "-")
    mine = document.text.encoding
    fits = {"utf-8": ("utf-8",), "utf-16-le": ("utf-16", "utf-16le"), "utf-16-be": ("utf-16", "utf-16be")}
    singles = ("iso-8859-1", "latin-1", "windows-1252", "cp1252", "iso-8859-15")
    if name in fits.get(mine, singles) or (mine == "utf-8" and document.text.body.isascii()):
        return []
    cause = f"The first line says {said[1]}, and the file is written in {mine}."
    return [
        problem("encoding-differs", said.span(1), cause, f"Write {mine.upper()} there, or save the file as {said[1]}.")
    ]
