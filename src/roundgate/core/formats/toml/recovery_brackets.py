"""Arrays and inline tables of TOML that do not go on as they should."""

from __future__ import annotations

import re

from roundgate.core.findings import Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.toml.recovery_place import KEY, NEXT_KEY, STRINGS, Scene, scene_at
from roundgate.core.formats.toml.spans import value_at
from roundgate.core.text import Splice


def unclosed(scene: Scene) -> Problem | None:
    """An array or inline table that does not go on as it should."""
    opened = open_bracket(scene)
    at = min(scene.error.at, len(scene.body.rstrip()))
    if opened < 0:
        return None
    sign = scene.body[opened]
    right = "]" if sign == "[" else "}"
    here = scene.body[at : at + 1]
    if here in ("]", "}", ")") and here != right and here:
        cause = f"This {here} closes what was opened with {sign}; it should be {right}."
        return problem("bracket-wrong", (at, at + 1), cause, f"Write {right} here.", [Splice(at, at + 1, right)])
    before = len(scene.body[:at].rstrip())
    if sign == "{":
        return _in_braces(scene, opened, at, before)
    following = scene_at(scene.body, at, scene.error)
    if at >= len(scene.body.rstrip()) or (following.start > opened and NEXT_KEY.match(following.line)):
        end = len(re.sub(r"[ \t]*#[^\n]*\Z", "", scene.body[:before])) if "#" in scene.body[opened:before] else before
        end = end - 1 if scene.body[end - 1 : end] == "," else end
        cause = f"This {sign} is opened and never closed."
        return problem(
            "bracket-unclosed",
            (opened, opened + 1),
            cause,
            f"Write {right} where it should end.",
            [Splice(end, end, right)],
        )
    end = before
    cause = "A comma is missing here, after the item that ends."
    return problem("comma-missing", (end, end + 1), cause, "Write a comma.", [Splice(end, end, ",")], safe=True)


def _in_braces(scene: Scene, opened: int, at: int, before: int) -> Problem | None:
    if re.search(r"[\r\n]", scene.body[opened:at]) or scene.body[at : at + 1] in ("\n", "\r"):
        close = value_at(scene.body, opened).end
        inner = scene.body[opened:close]
        if inner.endswith("}") and "#" not in inner:
            joined = re.sub(r",?\s*\}$", " }", re.sub(r"\s*[\r\n]\s*", " ", inner))
            cause = "A table in curly brackets must be on one line."
            breaks = re.search(r"[\r\n]", inner)
            where = opened + (breaks.start() if breaks else 0)
            return problem(
                "break-in-braces",
                (where, where + 1),
                cause,
                "Join the lines, or give the table a heading.",
                [Splice(opened, close, joined)],
            )
        end = scene.start + len(scene.line.rstrip())
        cause = "This { is opened and not closed on its line."
        first = scene_at(scene.body, opened, scene.error)
        end = first.end
        return problem(
            "bracket-unclosed", (opened, opened + 1), cause, "Write } where it should end.", [Splice(end, end, " }")]
        )
    if scene.body[at : at + 1] == "}" and scene.body[before - 1] == ",":
        cut = Splice(before - 1, before, "")
        return problem(
            "comma-last",
            (before - 1, before),
            "After this comma another key is expected.",
            "Delete it.",
            [cut],
            safe=True,
        )
    if scene.body[at : at + 1] == ":":
        return problem(
            "separator-wrong",
            (at, at + 1),
            "TOML has an equals sign here, not a colon.",
            "Write =.",
            [Splice(at, at + 1, " =")],
            safe=True,
        )
    if re.match(rf"{KEY}=", scene.body[at:]):
        return problem(
            "comma-missing",
            (before, before + 1),
            "A comma is missing here.",
            "Write a comma.",
            [Splice(before, before, ",")],
            safe=True,
        )
    if at >= len(scene.body.rstrip()):
        return problem(
            "bracket-unclosed",
            (opened, opened + 1),
            "This { is opened and never closed.",
            "Write }.",
            [Splice(before, before, " }")],
        )
    return None


_NEAR = 40
"""So many lines with an equals sign before a mistake are looked at: what is before them was read well."""


def open_bracket(scene: Scene) -> int:
    """Return the innermost bracket that is open where the reader gave up, or -1."""
    begun = [found.start() for found in re.finditer(rf"^{KEY}=", scene.body[: scene.error.at + 1], re.M)]
    for start in reversed(begun[-_NEAR:]):
        sign = scene.body.find("=", start) + 1
        stack: list[int] = []
        index = sign
        while index < min(scene.error.at, len(scene.body)):
            string = STRINGS.match(scene.body, index)
            if string:
                index = string.end()
                continue
            if scene.body[index] in "[{":
                stack.append(index)
            elif scene.body[index] in "]}" and stack:
                stack.pop()
            index += 1
        if stack:
            return stack[-1]
    return -1


def in_table(scene: Scene) -> Problem | None:
    """A key that is none, inside an inline table."""
    opened = open_bracket(scene)
    if opened < 0 or scene.body[opened] != "{":
        return None
    at = scene.error.at
    return _in_braces(scene, opened, at, len(scene.body[:at].rstrip()))
