"""Texts of TOML that break off, or hold what they cannot."""

from __future__ import annotations

import re

from roundgate.core.findings import Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.toml.recovery_place import STRINGS, Scene, scene_at
from roundgate.core.text import Splice


def broken_text(scene: Scene) -> Problem | None:
    """A text that breaks off, or holds what it cannot."""
    at = scene.error.at
    sign = scene.body[at : at + 1]
    line_quote = _line_quote(scene, at)
    if sign in ("\n", "\r", "") and line_quote >= 0:
        end = scene.end
        hit = re.match(r"[^\r\n]*?(?=[ \t]*(?:[,\]}][ \t,\]}]*)?$)", scene.body[line_quote:end])
        end = line_quote + hit.end() if hit and hit.end() > 1 else end
        cause = "This quote is opened and not closed on its line."
        repair = Splice(end, end, scene.body[line_quote])
        return problem(
            "quote-unclosed",
            (line_quote, max(end, line_quote + 1)),
            cause,
            "Write a quote where the text ends.",
            [repair],
        )
    if sign and (sign < " " or sign == "\x7f"):
        written = "\\t" if sign == "\t" else f"\\u{ord(sign):04x}"
        cause = "There is a control character here; no reader takes it."
        return problem(
            "control-character",
            (at, at + 1),
            cause,
            "Delete it.",
            [Splice(at, at + 1, written if line_quote >= 0 else "")],
        )
    return None


def _line_quote(scene: Scene, at: int) -> int:
    """Return the quote on the line of an index that is still open there, or -1."""
    index = scene.start
    while index < min(at, scene.end):
        found = re.compile(r"[\"']").search(scene.body, index, scene.end)
        if not found:
            return -1
        closed = re.compile(r'"(?:[^"\\\n\r]|\\.)*"|\'[^\'\n\r]*\'').match(scene.body, found.start(), scene.end)
        if closed is None:
            return found.start()
        index = closed.end()
    return -1


def never_closed(scene: Scene) -> Problem | None:
    """A text that is opened and closed nowhere."""
    begun = _open_text(scene.body)
    if begun < 0:
        return None
    mark = scene.body[begun : begun + 3]
    if mark not in ('"""', "'''"):
        return broken_text(scene_at(scene.body, begun, scene.error))
    line_end = scene.body.find("\n", begun)
    line_end = line_end if line_end >= 0 else len(scene.body)
    end = begun + len(scene.body[begun:line_end].rstrip())
    cause = "This text is opened with three quotes and never closed, so it swallows the rest of the file."
    cuts = [Splice(end, end, mark)] if end > begun + 3 else []
    return problem("text-unclosed", (begun, begun + 3), cause, f"Write {mark} where it should end.", cuts)


def _open_text(body: str) -> int:
    """Return where the text begins that is not closed, or -1."""
    at = 0
    while at < len(body):
        opening = re.compile(r"[\"'#]").search(body, at)
        if opening is None:
            return -1
        whole = STRINGS.match(body, opening.start())
        if whole is None or (body.startswith(('"""', "'''"), opening.start()) and len(whole[0]) == 2):
            return opening.start()
        at = whole.end()
    return -1


def broken_escape(scene: Scene) -> Problem | None:
    """A backslash before something that it cannot escape."""
    back = scene.body.rfind("\\", 0, scene.error.at + 1)
    if back < scene.start:
        return None
    lone = [
        scene.start + match.start()
        for match in re.finditer(r'(?<!\\)\\(?![btnfr"\\uU\\])|(?<!\\)\\u(?![0-9a-fA-F]{4})', scene.line)
    ]
    cause = "Between double quotes a backslash begins an escape, and this is not a valid one."
    do = "Write \\\\ for a backslash, / in a path, or single quotes around the text."
    cuts = [Splice(at, at, "\\") for at in lone] or [Splice(back, back, "\\")]
    return problem("escape-broken", (back, back + 2), cause, do, cuts)
