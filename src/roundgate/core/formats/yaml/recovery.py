"""From the place where libyaml gives up to the mistake that a person made.

What was most likely meant, and the repair.
"""

from __future__ import annotations

import re
from collections.abc import Callable

from roundgate.core.findings import Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.shared.common_problems import HIDDEN, visible
from roundgate.core.formats.yaml.events import YamlError
from roundgate.core.formats.yaml.recovery_place import Line, Scene, line_at, line_before
from roundgate.core.formats.yaml.recovery_signs import (
    after_quote,
    begins_with_sign,
    block_header,
    broken_escape,
    cannot_start,
    flow_end,
    flow_node,
    quote_value,
    unclosed_quote,
)
from roundgate.core.patterns import lazy
from roundgate.core.text import LINE_END, Splice

_KEY_LINE = lazy(r"(?P<lead>[ ]*(?:- +)*)(?P<key>[\w.\-/]+|\"[^\"]*\"|'[^']*')[ \t]*:(?P<gap>[ \t]+|$)(?P<value>.*)")


_TIGHT = lazy(r"([ ]*(?:- +)*)([\w.\-]+):(?=[^\s:])")


_EQUALS = lazy(r"([ ]*(?:- +)*)([\w.\-]+)([ \t]*=>?[ \t]*)(?=\S|$)")


_WORD_VALUE = lazy(r"([ ]*(?:- +)*)([\w.\-]+)[ \t]+(\S.*)")


_DASH_TIGHT = lazy(r"([ ]*)-(?=[^\s\-])")


def diagnose(body: str, error: YamlError) -> Problem | None:
    """Return the first mistake of a text that libyaml refuses, or None where it cannot be told."""
    at = min(error.at, max(len(body) - 1, 0))
    scene = Scene(body, error, line_at(body, at))
    if not scene.here.content:
        above = line_before(body, scene.here)
        scene = Scene(body, error, above or scene.here)
    found = _unseen(scene) or _tab(scene)
    if found:
        return found
    for message, look in _LOOKS:
        if message in str(error):
            found = look(scene)
            if found:
                return found
    return _any_line(scene)


def _unseen(scene: Scene) -> Problem | None:
    begun = line_at(scene.body, scene.error.begun)
    for line in dict.fromkeys((begun, line_before(scene.body, scene.here) or scene.here, scene.here)):
        found = HIDDEN.search(line.text)
        if found and not re.search(r"[\"']", line.text[: found.start()]):
            at = line.start + found.start()
            cause = f"A character that cannot be seen (U+{ord(found[0]):04X}) is here; it is not a space."
            cut = Splice(at, at + 1, visible(found[0]))
            return problem("hidden-between", (at, at + 1), cause, "Delete it and type a plain space.", [cut], safe=True)
    if "unreadable" in str(scene.error):
        at = scene.error.at
        cause = f"A control character (U+{ord(scene.body[at]):04X}) is here; no reader takes it."
        return problem("control-character", (at, at + 1), cause, "Delete it.", [Splice(at, at + 1, "")])
    return None


def _tab(scene: Scene) -> Problem | None:
    begun = line_at(scene.body, scene.error.begun)
    for line in dict.fromkeys((begun, line_before(scene.body, scene.here) or scene.here, scene.here)):
        lead = re.match(r" *\t[ \t]*(?=\S)", line.text)
        if lead and not line.text.lstrip().startswith("#"):
            at = line.start + lead[0].index("\t")
            cause = "There is a tab in the indentation; YAML counts spaces only."
            cut = Splice(line.start, line.start + lead.end(), _blanks_for(scene.body, line, lead[0]))
            return problem("tab-indent", (at, line.start + lead.end()), cause, "Write spaces for the tab.", [cut])
    if "tab" in str(scene.error) or scene.body[scene.error.at : scene.error.at + 1] == "\t":
        at = scene.error.at
        cause = "There is a tab here; YAML wants a space."
        return problem("tab-indent", (at, at + 1), cause, "Write a space for the tab.", [Splice(at, at + 1, " ")])
    return None


def _blanks_for(body: str, line: Line, lead: str) -> str:
    """Return the spaces that a tab was meant to be: as deep as the file's own steps, or as a neighbour."""
    unit = re.search(r"^( +)(?=[^\s#-])", body, re.MULTILINE)
    step = len(unit[1]) if unit else 2
    above = line_before(body, line)
    width = lead.count("\t") * step + lead.count(" ")
    if above and above.text.rstrip().endswith(":") and not above.text.startswith("\t"):
        width = above.indent + step
    elif above and not above.text.startswith("\t") and abs(above.indent - width) < step:
        width = above.indent
    return " " * width


def _mapping_values(scene: Scene) -> Problem | None:
    """A colon where none may be: in a value, or on a line that is too deep for what is above."""
    line = scene.here
    key = _KEY_LINE.match(line.text)
    if key and line.start + key.end("gap") <= scene.error.at and key["value"]:
        return quote_value(line, key.start("value"), "There is a colon with a space inside this value.")
    off = _parent_off(scene.body, line)
    if off:
        return off
    above = line_before(scene.body, line)
    if above is None:
        return None
    if ":" not in above.content and above.indent < line.indent and not above.content.startswith("-"):
        cause = "This line has no colon, and the lines below belong to it."
        return problem(
            "colon-absent",
            (above.end, above.end + 1),
            cause,
            "Write a colon at its end.",
            [Splice(above.end, above.end, ":")],
        )
    if above.indent < line.indent:
        lead = re.match(r" *(?:- +)*", above.text)
        return _uneven(line, lead.end() if lead else above.indent)
    return _without_colon(above)


def _parent_off(body: str, line: Line) -> Problem | None:
    """Find a line right above that was commented out although this one depends on it."""
    at = line.start
    while at > 0:
        above = line_at(body, at - 2 if body[at - 2 : at] == "\r\n" else at - 1)
        at = above.start
        off = re.match(r"([ ]*)#( *)([\w.\-\"']+:)[ \t]*$", above.text)
        if off and max(len(off[1]), len(off[2])) < line.indent:
            mark = above.start + len(off[1])
            cause = "This line is commented out, and the lines below it belong to it."
            tight = [width for width in (1, 2) if above.text[len(off[1]) + 1 :].startswith(" ") or width == 1]
            columns = _columns_above(body, above)
            fits = [width for width in tight if len(off[1]) + len(off[2]) + 1 - width in columns]
            cut = Splice(mark, mark + (fits or tight)[0], "")
            return problem("parent-off", (mark, above.start + off.end()), cause, "Take the comment sign away.", [cut])
        if above.content or not above.text.strip():
            return None
    return None


def _uneven(line: Line, meant: int) -> Problem:
    cut = Splice(line.start, line.start + line.indent, " " * meant)
    cause = f"This line begins in column {line.indent + 1}; the ones it belongs to begin in column {meant + 1}."
    span = (line.start, line.start + max(line.indent, 1))
    code = "dash-depth" if line.content.startswith("- ") or line.content == "-" else "indent-uneven"
    return problem(code, span, cause, f"Begin it in column {meant + 1}.", [cut])


def _without_colon(line: Line) -> Problem | None:
    """Look at a line that should be a name, a colon and a value, and is not."""
    tight = _TIGHT.match(line.text)
    if tight and not line.text[tight.end() :].startswith("//"):
        at = line.start + tight.end()
        cause = "A space is missing after this colon, so it is part of the text."
        return problem("colon-space", (at - 1, at), cause, "Write a space after the colon.", [Splice(at, at, " ")])
    equals = _EQUALS.match(line.text)
    if equals:
        span = (line.start + equals.start(3), line.start + equals.end(3))
        sign = (span[0] + len(equals[3]) - len(equals[3].lstrip()), span[0] + len(equals[3].rstrip()))
        cause = "YAML has a colon here, not an equals sign."
        return problem("equals-sign", sign, cause, "Write a colon and a space.", [Splice(*span, ": ")])
    dash = _DASH_TIGHT.match(line.text)
    if dash and not line.content.startswith("---") and not re.match(r"-[\d.]", line.content):
        at = line.start + dash.end()
        cause = "A space is missing after this dash, so it is part of the text."
        return problem("dash-space", (at - 1, at), cause, "Write a space after the dash.", [Splice(at, at, " ")])
    if line.content[:1] in ("'", '"') or ":" in line.content or line.content[:1] in "[]{}&*!|>%@`#-?":
        return None
    word = _WORD_VALUE.match(line.text)
    at = line.start + (word.end(2) if word else len(line.text.rstrip()))
    at = min(at, line.end) if not word else at
    cause = "This line has no colon: a name, a colon and a value belong here."
    return problem("colon-absent", (at, at + 1), cause, "Write a colon after the name.", [Splice(at, at, ":")])


def _no_colon_found(scene: Scene) -> Problem | None:
    """A name was begun and its colon never came: the line where it began is the one to look at."""
    line = line_at(scene.body, scene.error.begun)
    first = scene.body[scene.error.begun : scene.error.begun + 1]
    if first in ("'", '"'):
        rest = line.text[scene.error.begun - line.start + 1 :]
        if first not in rest:
            return unclosed_quote(scene)
        return after_quote(line) or _without_colon(line)
    tight = _DASH_TIGHT.match(line.text)
    return (None if tight else _no_dash(scene.body, line)) or _without_colon(line)


def _no_dash(body: str, line: Line) -> Problem | None:
    """A line among the items of a list, in the column of their dashes, without one."""
    above = line_before(body, line)
    if not above or not above.content.startswith("- ") or above.indent != line.indent or _KEY_LINE.match(line.text):
        return None
    at = line.start + line.indent
    cause = "The lines around it are items of a list, and this one has no dash."
    return problem("dash-depth", (at, at + 1), cause, "Write a dash and a space before it.", [Splice(at, at, "- ")])


def _expected_key(scene: Scene) -> Problem | None:
    """A line that does not fit into the map it stands in."""
    line = scene.here
    quoted = after_quote(line_at(scene.body, scene.error.at))
    if quoted:
        return quoted
    off = _parent_off(scene.body, line)
    if off:
        return off
    if scene.body[scene.error.at : scene.error.at + 1] in ("]", "}"):
        at = scene.error.at
        cause = f"This {scene.body[at]} closes nothing."
        return problem("bracket-extra", (at, at + 1), cause, "Delete it.", [Splice(at, at + 1, "")])
    dash = _dash_column(scene.body, line)
    if dash is not None:
        return _uneven(line, dash)
    sibling = _sibling_off(scene.body, line)
    if sibling:
        return sibling
    columns = _columns_above(scene.body, line)
    if columns and line.indent not in columns:
        return _uneven(line, min(columns, key=lambda column: (abs(column - line.indent), -column)))
    above = line_before(scene.body, line)
    return (_without_colon(line) or (_without_colon(above) if above else None)) if above else _without_colon(line)


def _dash_column(body: str, line: Line) -> int | None:
    """Return the column in which a dash should stand: that of the nearest list above."""
    if not (line.content.startswith("- ") or line.content == "-"):
        return None
    above = line_before(body, line)
    while above is not None:
        if above.content.startswith("- ") and above.indent != line.indent:
            return above.indent
        if above.indent < line.indent and not above.content.startswith("- "):
            return above.indent + 2 if above.content.endswith(":") else None
        above = line_before(body, above)
    return None


def _sibling_off(body: str, line: Line) -> Problem | None:
    """Find a commented-out name in this line's column further up, with deeper lines left standing below it."""
    deeper = False
    above = line
    while above.start > 0:
        above = line_at(body, above.start - (2 if body[above.start - 2 : above.start] == "\r\n" else 1))
        off = re.match(r"( *)#( *)([\w.\-\"']+:)[ \t]*$", above.text)
        if off and deeper and line.indent in (len(off[1]) + len(off[2]), len(off[1]) + max(len(off[2]) - 1, 0)):
            mark = above.start + len(off[1])
            width = 1 if len(off[1]) + len(off[2]) == line.indent else 2
            cause = "This line is commented out, and the lines below it belong to it."
            span = (mark, above.start + off.end())
            return problem("parent-off", span, cause, "Take the comment sign away.", [Splice(mark, mark + width, "")])
        if above.content and above.indent <= line.indent:
            return None
        deeper = deeper or bool(above.content)
    return None


def _columns_above(body: str, line: Line) -> list[int]:
    """Return the columns in which the groups that are still open above a line began."""
    columns: list[int] = []
    least = 10_000
    above = line_before(body, line)
    while above is not None and least > 0:
        lead = re.match(r" *(?:- +)*", above.text)
        for column in {above.indent, lead.end() if lead else above.indent}:
            if column < least:
                columns.append(column)
        least = min(least, above.indent)
        above = line_before(body, above)
    return columns


def _expected_dash(scene: Scene) -> Problem | None:
    """A line in a list that is not an item of it."""
    line = scene.here
    tight = _without_colon(line) if _DASH_TIGHT.match(line.text) else None
    if tight:
        return tight
    dash = _dash_column(scene.body, line)
    if dash is not None:
        return _uneven(line, dash)
    dashless = _no_dash(scene.body, line)
    if dashless:
        return dashless
    return _expected_key(scene)


def _dash_not_allowed(scene: Scene) -> Problem | None:
    line = scene.here
    key = re.match(r" *(?:- +)*[\w.\-]+:[ \t]+(?=- )", line.text)
    if key:
        at = line.start + key.end()
        cause = "A list begins on the line after its name, one item to a line."
        newline = LINE_END.search(scene.body)
        gap = (newline.group() if newline else "\n") + " " * (line.indent + 2)
        cuts = [Splice(line.start + len(key[0].rstrip()), at, gap)]
        return problem("dash-depth", (at, at + 1), cause, "Put the dash on a separate line.", cuts)
    above = line_before(scene.body, line)
    if above and ":" not in above.content:
        return _without_colon(above)
    return _uneven(line, above.indent) if above and above.indent != line.indent else None


def _document_start(scene: Scene) -> Problem | None:
    """The outermost part is over, and something follows."""
    off = _parent_off(scene.body, scene.here)
    if off:
        return off
    quoted = after_quote(scene.here)
    if quoted:
        return quoted
    if scene.body[scene.error.at : scene.error.at + 1] in ("]", "}"):
        return _expected_key(scene)
    columns = _columns_above(scene.body, scene.here)
    least = min(columns) if columns else 0
    if scene.here.indent < least:
        return _uneven(scene.here, least)
    above = line_before(scene.body, scene.here)
    if above and not _KEY_LINE.match(above.text) and _KEY_LINE.match(scene.here.text):
        return _without_colon(above)
    return _without_colon(scene.here)


def _any_line(scene: Scene) -> Problem | None:
    """Nothing fits what the reader said: look at the lines around for what is plain to see."""
    for line in (line_before(scene.body, scene.here), scene.here):
        found = (
            (after_quote(line) or (_without_colon(line) if line.content and not _KEY_LINE.match(line.text) else None))
            if line
            else None
        )
        if found and found.code in ("colon-space", "equals-sign", "dash-space", "text-after-quote", "quote-inside"):
            return found
    return None


_LOOKS: tuple[tuple[str, Callable[[Scene], Problem | None]], ...] = (
    ("mapping values are not allowed", _mapping_values),
    ("could not find expected ':'", _no_colon_found),
    ("did not find expected key", _expected_key),
    ("did not find expected '-' indicator", _expected_dash),
    ("did not find expected ',' or", flow_end),
    ("did not find expected node content", flow_node),
    ("unexpected end of stream", unclosed_quote),
    ("unexpected document indicator", unclosed_quote),
    ("that cannot start any token", cannot_start),
    ("unknown escape", broken_escape),
    ("hexdecimal", broken_escape),
    ("hexadecimal", broken_escape),
    ("sequence entries are not allowed", _dash_not_allowed),
    ("<document start>", _document_start),
    ("alphabetic or numeric", begins_with_sign),
    ("comment or line break", block_header),
    ("whitespace or line break", begins_with_sign),
    ("tag", begins_with_sign),
    ("directive", begins_with_sign),
)
