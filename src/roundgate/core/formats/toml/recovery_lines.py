"""Headings and keys of TOML: lines that are none."""

from __future__ import annotations

import re

from roundgate.core.findings import Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.shared.common_problems import CURLY, DASHES
from roundgate.core.formats.toml.recovery_place import KEY, Scene
from roundgate.core.formats.toml.recovery_values import curly
from roundgate.core.text import Splice


def heading(scene: Scene) -> Problem | None:
    """A heading whose brackets are not closed."""
    found = re.match(r"[ \t]*(\[\[?)([\w.\-\" ]+?)(\]*)[ \t]*(?:#.*)?$", scene.line)
    if not found or len(found[3]) >= len(found[1]):
        return None
    at = scene.start + found.end(3 if found[3] else 2)
    missing = "]" * (len(found[1]) - len(found[3]))
    cause = f"This heading is opened with {found[1]} and not closed with {']' * len(found[1])}."
    twin = rf"^[ \t]*\[\[[ \t]*{re.escape(found[2].strip())}[ \t]*\]\]"
    # A ] too few, or a [ too many: only another heading of this name tells.
    is_sure = not found[3] or re.search(twin, scene.body, re.M) is not None
    other = "" if is_sure else " for one of several tables, or delete one [ for the only one"
    return problem(
        "section-unclosed",
        (scene.start + found.start(1), at),
        cause,
        f"Write {missing} after it{other}.",
        [Splice(at, at, missing)],
        safe=is_sure,
    )


def twice(scene: Scene) -> Problem | None:
    """The same table or key a second time, or a name that is two things."""
    name = re.match(r"[ \t]*(\[\[?)[ \t]*(.+?)[ \t]*\]\]?[ \t]*(?:#.*)?$", scene.line)
    span = (scene.start + len(scene.line) - len(scene.line.lstrip()), scene.end)
    if name:
        is_array = name[1] == "[["
        mark = r"\[" if is_array else r"\[\["
        other = re.search(rf"^[ \t]*{mark}[ \t]*{re.escape(name[2])}[ \t]*\]", scene.body[: scene.start], re.M)
        if other:
            line = scene.body.count("\n", 0, other.start()) + 1
            cause = (
                f"{name[2]} is {'one table' if is_array else 'a list of tables'} since line {line}, and here the other."
            )
            here = (other.start(), other.end()) if is_array else span
            return problem(
                "table-array", here, cause, "Write double brackets for each of several, single ones for one."
            )
        first = re.search(rf"^[ \t]*\[[ \t]*{re.escape(name[2])}[ \t]*\]", scene.body[: scene.start], re.M)
        if first:
            line = scene.body.count("\n", 0, first.start()) + 1
            cause = f"The table {name[2]} begins in line {line} already."
            return problem("table-twice", span, cause, "Put its keys there, or give this one another name.")
        return problem(
            "key-over-value", span, f"{name[2]} already holds a plain value, or is inside one.", "Choose another name."
        )
    key = re.match(rf"({KEY})=", scene.line)
    if not key:
        return None
    shown = key[1].strip()
    span = (
        scene.start + key.start(1) + len(key[1]) - len(key[1].lstrip()),
        scene.start + key.start(1) + len(key[1].rstrip()),
    )
    table = max(scene.body.rfind("\n[", 0, scene.start), -1) + 1
    first = re.search(rf"^[ \t]*{re.escape(shown)}[ \t]*=", scene.body[table : scene.start], re.M)
    if first:
        line = scene.body.count("\n", 0, table + first.start()) + 1
        cause = f"{shown} is in line {line} already; TOML does not allow it twice."
        return problem("key-again", span, cause, "Delete the one that should not count.")
    return problem(
        "key-over-value",
        span,
        f"{shown} is already used for something else, or is inside something that is.",
        "Choose another name.",
    )


def after_key(scene: Scene) -> Problem | None:
    """A key, and no equals sign after it."""
    line = scene.line
    colon = re.match(rf"({KEY})(:[ \t]*)(?=\S)", line)
    if colon:
        at = scene.start + colon.start(2)
        cut = Splice(at, scene.start + colon.end(2), " = " if not colon[1].endswith(" ") else "= ")
        return problem(
            "separator-wrong", (at, at + 1), "TOML has an equals sign here, not a colon.", "Write =.", [cut], safe=True
        )
    match = re.match(r"[ \t]*([A-Za-z0-9_.\-]+)([ \t]+)(?=[\"'\d\[{+\-]|true|false)", line)
    if match:
        at = scene.start + match.end(1)
        cause = "The equals sign between this key and its value is missing."
        return problem(
            "equals-missing", (scene.start + match.start(1), at), cause, "Write = between them.", [Splice(at, at, " =")]
        )
    key = re.match(r"[ \t]*([A-Za-z][\w \-]*?)[ \t]*=", line)
    if key and " " in key[1]:
        cause = f"A key with spaces needs quotes: {key[1]}."
        span = (scene.start + key.start(1), scene.start + key.end(1))
        return problem("quote-missing", span, cause, "Write quotes around it.", [Splice(*span, f'"{key[1]}"')])
    alone = re.match(r"[ \t]*([A-Za-z0-9_.\-]+)[ \t]*(?:#.*)?$", line)
    if alone:
        at = scene.start + alone.end(1)
        return problem(
            "value-missing",
            (scene.start + alone.start(1), at),
            "This key has no value.",
            "Write = and a value after it.",
        )
    return None


def key_start(scene: Scene) -> Problem | None:
    """Something that cannot begin a key."""
    line = scene.line
    at = scene.error.at
    sign = scene.body[at : at + 1]
    if line.lstrip().startswith(("//", ";", "--", "/*")):
        begun = scene.start + len(line) - len(line.lstrip())
        mark = 1 if line.lstrip()[0] == ";" else 2
        cut = Splice(begun, begun + mark, "#")
        return problem(
            "comment-here", (begun, scene.end), "A comment begins with # in TOML.", "Write #.", [cut], safe=True
        )
    if sign and sign in CURLY:
        return curly(scene, at)
    if sign in DASHES and sign:
        return problem(
            "dash-smart", (at, at + 1), "This is a long dash.", "Write a plain one.", [Splice(at, at + 1, "-")]
        )
    key = re.match(r"[ \t]*([^=\"'#\[\]{}]*?)[ \t]*=", line)
    if key and key[1]:
        span = (scene.start + key.start(1), scene.start + key.end(1))
        cause = f"The key {key[1]} has characters that need quotes."
        return problem("quote-missing", span, cause, "Write quotes around it.", [Splice(*span, f'"{key[1]}"')])
    if sign == "=":
        return problem("name-missing", (at, at + 1), "There is no key before this equals sign.", "Write the key.")
    if sign in ("]", "}", ")"):
        return problem(
            "bracket-extra", (at, at + 1), f"This {sign} closes nothing.", "Delete it.", [Splice(at, at + 1, "")]
        )
    return after_key(scene)
