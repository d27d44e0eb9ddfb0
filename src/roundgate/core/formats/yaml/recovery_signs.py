"""Quotes, brackets and signs of YAML that are not as they should be."""

from __future__ import annotations

import re
from collections.abc import Collection

from roundgate.core.findings import Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.yaml.recovery_place import Line, Scene, line_at
from roundgate.core.text import Splice

_CLOSERS = {"[": "]", "{": "}"}


def quote_value(line: Line, column: int, why: str) -> Problem:
    """A value from a column of its line on that needs quotes."""
    start = line.start + column
    end = max(line.end, start + 1)
    text = line.text[column : end - line.start]
    quoted = f'"{text}"' if '"' not in text and "\\" not in text else "'" + text.replace("'", "''") + "'"
    return problem("quotes-needed", (start, end), why, "Put quotes around the value.", [Splice(start, end, quoted)])


def after_quote(line: Line) -> Problem | None:
    """Find what stands after a closing quote, or a quote inside a text."""
    found = re.match(
        r"(?P<lead> *(?:- +)*(?:[\w.\-]+:[ \t]+)?)(?P<quote>[\"'])(?P<text>.*?)(?P=quote)(?P<rest>.*)", line.text
    )
    if (
        not found
        or not (rest := re.sub(r"(?:^|[ \t])#.*", "", found["rest"]).strip())
        or rest[:1] in (":", ",", "]", "}")
    ):
        return None
    quote, start = found["quote"], line.start + found.start("quote")
    last = line.text.rstrip().rfind(quote)
    end_inner = line.start + found.end("text")
    if line.start + last > end_inner:
        inner = [
            line.start + match.start()
            for match in re.finditer(quote, line.text)
            if start < line.start + match.start() < line.start + last
        ]
        cuts = [Splice(at, at, "'" if quote == "'" else "\\") for at in inner]
        cause = "This quote ends the text too early: more of it follows on the line."
        do = "Write it twice." if quote == "'" else 'Write \\" for a quote inside a text.'
        return problem("quote-inside", (inner[0], inner[0] + 1), cause, do, cuts)
    span = (end_inner + 1, line.start + len(line.text.rstrip()))
    cause = "The text ends at the quote, and this comes after it."
    tail = line.text[span[0] - line.start : span[1] - line.start]
    cuts = [Splice(end_inner, span[1], tail + quote)] if quote not in tail else []
    return problem("text-after-quote", span, cause, "Put the quotes around all of it, or take them away.", cuts)


def unclosed_quote(scene: Scene) -> Problem | None:
    """A quote that is never closed."""
    start = scene.error.begun
    line = line_at(scene.body, start)
    quote = scene.body[start : start + 1]
    if quote not in ("'", '"'):
        return None
    end = line.start + len(line.text.rstrip())
    cause = "This quote is opened and never closed, so all that follows is read as part of the text."
    return problem(
        "quote-unclosed", (start, end), cause, "Write a quote where the text ends.", [Splice(end, end, quote)]
    )


def flow_end(scene: Scene) -> Problem | None:
    """A list or map in brackets that does not go on as it should."""
    begun, at, body = scene.error.begun, scene.error.at, scene.body
    sign = body[begun : begun + 1]
    if sign not in _CLOSERS:
        return None
    right = _CLOSERS[sign]
    if body[at : at + 1] in ("]", "}") and body[at] != right:
        cause = f"This {body[at]} closes what was opened with {sign}; it should be {right}."
        return problem("bracket-wrong", (at, at + 1), cause, f"Write {right} here.", [Splice(at, at + 1, right)])
    here = line_at(body, at)
    opened = line_at(body, begun)
    block_line = re.match(r" *(?:- )?[\w.\-\"']+:(?:\s|$)| *- |$", here.text) is not None and here.start > opened.start
    if not body[at:].strip() or (block_line and here.indent <= opened.indent):
        end = opened.end
        cause = f"This {sign} is opened and never closed."
        cuts = [Splice(end, end, right)]
        return problem("bracket-unclosed", (begun, begun + 1), cause, f"Write {right} where it should end.", cuts)
    before = body[:at].rstrip()
    if block_line and before.endswith((",", sign)):
        end = len(before.rstrip(","))
        cause = f"This {sign} is opened and never closed."
        return problem(
            "bracket-unclosed",
            (begun, begun + 1),
            cause,
            f"Write {right} where it should end.",
            [Splice(end, end, right)],
        )
    end = len(before)
    cause = "A comma is missing here, after the item that ends."
    return problem("comma-missing", (end, end + 1), cause, "Write a comma.", [Splice(end, end, ",")])


def flow_node(scene: Scene) -> Problem | None:
    """A comma with nothing before it."""
    at = scene.error.at
    if scene.body[at : at + 1] == ",":
        cause = "There is nothing before this comma."
        return problem("comma-extra", (at, at + 1), cause, "Delete it.", [Splice(at, at + 1, "")])
    return None


def cannot_start(scene: Scene) -> Problem | None:
    """A sign with which no text begins."""
    at = scene.error.at
    line = line_at(scene.body, at)
    sign = scene.body[at : at + 1]
    if sign in ("@", "`", "%"):
        return quote_value(line, at - line.start, f"A text cannot begin with {sign} unless it is in quotes.")
    return None


def begins_with_sign(scene: Scene) -> Problem | None:
    """A text that begins with a sign that means something else."""
    at = scene.error.begun
    line = line_at(scene.body, at)
    sign = scene.body[at : at + 1]
    if sign not in ("*", "&", "!", "%", "|", ">"):
        return None
    return quote_value(line, at - line.start, f"A text cannot begin with {sign} unless it is in quotes.")


def unknown_alias(body: str, at: int, known: Collection[str]) -> Problem:
    """Report that a reference leads to nothing that is marked above."""
    name = re.match(r"\*([^\s,\[\]{}]+)", body[at : at + 200])
    anchor = name[1] if name else ""
    from roundgate.core.nearest import nearest

    near = nearest(anchor, known, least=60)
    hint = f" Did you mean *{near}?" if near else ""
    cause = f"Nothing above is marked &{anchor}.{hint}"
    cuts = [Splice(at + 1, at + 1 + len(anchor), near)] if near else []
    do = f"Write *{near}." if near else "Mark the part it stands for, or put quotes around it if it is a text."
    return problem("anchor-unknown", (at, at + 1 + len(anchor)), cause, do, cuts)


def broken_escape(scene: Scene) -> Problem | None:
    """A backslash that begins no escape."""
    body, start = scene.body, scene.error.begun
    found = re.compile(r'\\(?:x(?![0-9a-fA-F]{2})|u(?![0-9a-fA-F]{4})|[^0abtnvfre "/\\N_LPxuU\r\n])').search(
        body, start
    )
    if found is None:
        return None
    line = line_at(body, found.start())
    text = line.text[found.start() - line.start :]
    lone = [found.start() + match.start() for match in re.finditer(r"(?<!\\)\\(?!\\)", text)]
    cause = "Between double quotes a backslash begins an escape, and this is not a valid one."
    do = "Write \\\\ for a backslash, / in a path, or single quotes around the text."
    return problem("escape-broken", found.span(), cause, do, [Splice(at, at, "\\") for at in lone])


def block_header(scene: Scene) -> Problem | None:
    """A text right after the sign that announces one on the lines below."""
    line = scene.here
    found = re.search(r"(?<=[:\-] )[|>][^\s#]?.*", line.text)
    if not found:
        return None
    return quote_value(line, found.start(), "| and > begin a text on the lines below; on one line it needs quotes.")
