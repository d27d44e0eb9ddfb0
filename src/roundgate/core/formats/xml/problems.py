"""What people get wrong in XML, found by a scan of the tags that does not give up. It runs only where expat does."""

from __future__ import annotations

from typing import TYPE_CHECKING

from roundgate.core.findings import Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.shared.common_problems import (
    empty,
    flood,
    handful,
    hidden_characters,
    merge_markers,
    not_utf8,
    with_place,
)
from roundgate.core.formats.shared.repair_loop import only_proven
from roundgate.core.formats.xml.recovery import Scan
from roundgate.core.formats.xml.single_slip import single_slip, tags_in_text
from roundgate.core.patterns import lazy
from roundgate.core.text import Text

if TYPE_CHECKING:
    from roundgate.core.formats.xml.document import XmlDocument

_DECLARED = lazy(r"<\?xml[^>]*?encoding\s*=\s*[\"']([\w.\-]+)[\"']")


def problems_of(document: XmlDocument) -> list[Problem]:
    """Find every problem of an XML text, in the order of the file."""
    body = document.text.body
    if nothing := empty(body, "error"):
        return nothing
    if document.error is None:
        return flood([*_encoding(document), *tags_in_text(body), *hidden_characters(body)])
    if marks := list(merge_markers(body)):
        return marks
    scan = Scan(body)
    scan.run()
    found = _or_single_slip(body, handful(scan.found), document.error.at)
    if not any(mistake.level == "error" for mistake in found):
        at = min(document.error.at, max(len(body) - 1, 0))
        cause = "The reader of XML cannot go on here."
        return [*found, problem("not-understood", (at, at + 1), cause, "Compare with a line that works.")]
    return with_place(only_proven(body, found, _first_error), document.error.at, body)


def _or_single_slip(body: str, found: list[Problem], at: int) -> list[Problem]:
    """Return what the scan found, or the one slip that explains the text where that is clearer."""
    errors = [mistake for mistake in found if mistake.level == "error"]
    is_alone = len(errors) == 1 and errors[0].repair and errors[0].code not in ("tag-unclosed", "tag-extra")
    if is_alone and _first_error(Text(body).spliced(errors[0].repair).body) is None:
        return found
    slip = single_slip(body, at, lambda text: _first_error(text) is None)
    if slip is None:
        return found
    return [*(mistake for mistake in found if mistake.level != "error"), slip]


def _first_error(body: str) -> tuple[int, int] | None:
    """Return where expat gives up, or None."""
    from roundgate.core.formats.xml.reader import XmlReading

    error = XmlReading(Text(body)).error
    return (error.at, error.at) if error else None


def _encoding(document: XmlDocument) -> list[Problem]:
    hit = _DECLARED.match(document.text.body)
    if not hit:
        is_marked = document.text.encoding.startswith("utf-16")
        return [] if is_marked else list(not_utf8(document.text, "error"))
    name = hit[1].lower().replace("_", "-")
    mine = document.text.encoding
    fits = {"utf-8": ("utf-8",), "utf-16-le": ("utf-16", "utf-16le"), "utf-16-be": ("utf-16", "utf-16be")}
    singles = ("iso-8859-1", "latin-1", "windows-1252", "cp1252", "iso-8859-15")
    if name in fits.get(mine, singles) or (mine == "utf-8" and document.text.body.isascii()):
        return []
    cause = f"The first line says {hit[1]}, and the file is written in {mine}."
    return [
        problem("encoding-differs", hit.span(1), cause, f"Write {mine.upper()} there, or save the file as {hit[1]}.")
    ]
