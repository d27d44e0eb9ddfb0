"""What people get wrong in a list with one entry to a line."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING

from roundgate.core.findings import Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.shared.common_problems import flood, hidden_characters, is_plainly_right, merge_markers
from roundgate.core.text import Splice

if TYPE_CHECKING:
    from roundgate.core.formats.lines.document import LinesDocument

_SUSPICIOUS = tuple(
    re.compile(pattern, re.MULTILINE) for pattern in (r",[ \t]*\r?$", r"[\"']", r"^(?:<<<<<<<|>>>>>>>)", r"\r(?!\n)")
)


def problems_of(document: LinesDocument) -> list[Problem]:
    """Find every problem of a list, in the order of the file. An empty list is none."""
    body = document.text.body
    if not document.dialect.marks and is_plainly_right(body, _SUSPICIOUS):
        return []
    found = [*merge_markers(body), *_commas(document), *_quotes(document)]
    for row in document.rows:
        found += hidden_characters(body, row.start, row.whole_end)
    return flood(sorted(found, key=lambda mistake: mistake.start))


def _commas(document: LinesDocument) -> Iterator[Problem]:
    counts = [len(document.text.body[row.start : row.end].split()) for row in document.rows]
    if "," in document.dialect.separator or sum(count <= 3 for count in counts) * 2 < len(counts):
        return  # the text of a page, not a list
    for row in document.rows:
        if document.text.body[row.start : row.end].endswith(","):
            span = (row.end - 1, row.end)
            cause = "This comma becomes part of the entry: only the line end separates entries here."
            yield problem("comma-at-end", span, cause, "Delete the comma.", [Splice(*span, "")])


def _quotes(document: LinesDocument) -> Iterator[Problem]:
    for row in document.rows:
        stripped = document.text.body[row.start : row.end].rstrip(",")
        if (
            len(stripped) > 1
            and stripped[0] in "\"'\N{LEFT DOUBLE QUOTATION MARK}"
            and stripped[-1] in "\"'\N{RIGHT DOUBLE QUOTATION MARK}"
        ):
            end = row.start + len(stripped)
            cuts = [Splice(row.start, row.start + 1, ""), Splice(end - 1, end, "")]
            cause = "The quotes are read as part of the entry."
            yield problem("quotes-kept", (row.start, end), cause, "Delete both quotes.", cuts)
