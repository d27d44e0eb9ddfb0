"""What people get wrong in TOML: from where the standard library's reader gives up to the mistake behind it."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import TYPE_CHECKING, NamedTuple

from roundgate.core.findings import Problem
from roundgate.core.formats.anywhere import (
    CURLY,
    DASHES,
    HIDDEN,
    empty,
    flood,
    handful,
    hidden_characters,
    merge_markers,
    not_utf8,
    visible,
)
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.json_words import WORDS, number_meant
from roundgate.core.formats.mending import one_after_another
from roundgate.core.formats.toml import TomlError, read_tree
from roundgate.core.formats.toml_spans import value_at
from roundgate.core.text import Splice

if TYPE_CHECKING:
    from roundgate.core.formats.toml import TomlDocument

_KEY = r"[ \t]*(?:[A-Za-z0-9_\-.]+|\"[^\"\r\n]*\"|'[^'\r\n]*')[ \t]*"
_ASSIGNED = re.compile(rf"(?P<key>{_KEY})=(?P<gap>[ \t]*)(?P<value>[^\r\n]*?)[ \t]*$")
_NEXT_KEY = re.compile(rf"[ \t]*(?:{_KEY}=|\[\[?[\w.\-\" ]+\]\]?[ \t]*(?:#.*)?$)")
_STRINGS = re.compile(
    r'"""(?:[^"\\]|\\.|"(?!""))*"""|' + r"'''(?:[^']|'(?!''))*'''|" + r'"(?:[^"\\\n]|\\.)*"|' + r"'[^'\n]*'|#[^\n]*",
    re.S,
)


class Scene(NamedTuple):
    """Where the reader gave up: the text, what it said, and the line."""

    body: str
    error: TomlError
    start: int
    line: str

    @property
    def said(self) -> str:
        """What the line says, without its comment and the blanks around."""
        return self.line.split("#")[0].strip() if '"' not in self.line and "'" not in self.line else self.line.strip()

    @property
    def end(self) -> int:
        """Where what the line says ends."""
        return self.start + len(self.line.rstrip())


def problems_of(document: TomlDocument) -> list[Problem]:
    """Find every problem of a TOML text, in the order of the file."""
    body = document.text.body
    if not body.strip(" \t\r\n"):
        return empty(body)
    wrong = list(not_utf8(document.text, "error"))
    if document.error is None:
        return flood([*wrong, *_halves(body), *hidden_characters(body)])
    marks = list(merge_markers(body))
    return marks or handful([*wrong, *one_after_another(body, _diagnose, _not_understood)])


def _halves(body: str) -> list[Problem]:
    """Find a lone carriage return: TOML has no such line end, and the standard library's reader lets it pass."""
    found = re.search(r"\r(?!\n)", body)
    if not found:
        return []
    cause = "A lone carriage return stands here; TOML ends a line by a line feed."
    return [problem("control-character", found.span(), cause, "Write a line feed.", [Splice(*found.span(), "\n")])]


def _diagnose(body: str) -> tuple[Problem | None, int] | None:
    try:
        read_tree(body)
    except TomlError as error:
        return diagnose(body, error), error.at
    return None


def _not_understood(body: str, at: int) -> Problem:
    at = min(at, max(len(body.rstrip()) - 1, 0))
    cause = "The reader of TOML cannot go on here."
    return problem("not-understood", (at, at + 1), cause, "Compare with a line that works.")


def scene_at(body: str, at: int, error: TomlError) -> Scene:
    """Give the scene of the line that holds an index."""
    start = body.rfind("\n", 0, at) + 1
    end = body.find("\n", start)
    return Scene(body, error, start, body[start : end if end >= 0 else len(body)].rstrip("\r"))


def diagnose(body: str, error: TomlError) -> Problem | None:
    """Give the first mistake of a text that is no TOML, or None where it cannot be told."""
    at = min(error.at, max(len(body) - 1, 0))
    scene = scene_at(body, at, error)
    if str(error) == "too deep":
        return problem("too-deep", (0, 1), "Brackets stand inside one another too deep.", "Restore the file.")
    found = _unseen(scene)
    if found:
        return found
    for words, look in _LOOKS:
        if words in str(error):
            found = look(scene)
            if found:
                return found
    return _line_alone(scene)


def _unseen(scene: Scene) -> Problem | None:
    found = HIDDEN.search(scene.line)
    if not found or re.search("[\"']", scene.line[: found.start()]):
        return None
    at = scene.start + found.start()
    cause = f"A character that cannot be seen (U+{ord(found[0]):04X}) stands here, and no reader skips it."
    cut = Splice(at, at + 1, visible(found[0]))
    return problem("hidden-between", (at, at + 1), cause, "Delete it and type a plain blank.", [cut], safe=True)


# --- headings ---


def _heading(scene: Scene) -> Problem | None:
    found = re.match(r"[ \t]*(\[\[?)([\w.\-\" ]+?)(\]*)[ \t]*(?:#.*)?$", scene.line)
    if not found or len(found[3]) >= len(found[1]):
        return None
    at = scene.start + found.end(3 if found[3] else 2)
    missing = "]" * (len(found[1]) - len(found[3]))
    cause = f"This heading is opened with {found[1]} and not closed with {']' * len(found[1])}."
    return problem(
        "section-unclosed",
        (scene.start + found.start(1), at),
        cause,
        f"Write {missing} behind it.",
        [Splice(at, at, missing)],
        safe=True,
    )


def _twice(scene: Scene) -> Problem | None:
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
            "key-over-value", span, f"{name[2]} holds, or lies inside, a plain value already.", "Choose another name."
        )
    key = re.match(rf"({_KEY})=", scene.line)
    if not key:
        return None
    said = key[1].strip()
    span = (
        scene.start + key.start(1) + len(key[1]) - len(key[1].lstrip()),
        scene.start + key.start(1) + len(key[1].rstrip()),
    )
    table = max(scene.body.rfind("\n[", 0, scene.start), -1) + 1
    first = re.search(rf"^[ \t]*{re.escape(said)}[ \t]*=", scene.body[table : scene.start], re.M)
    if first:
        line = scene.body.count("\n", 0, table + first.start()) + 1
        cause = f"{said} stands in line {line} already; TOML does not allow it twice."
        return problem("key-again", span, cause, "Delete the one that should not count.")
    return problem(
        "key-over-value", span, f"{said} is, or lies inside, something else already.", "Choose another name."
    )


# --- keys and values ---


def _after_key(scene: Scene) -> Problem | None:
    """A key, and no equals sign behind it."""
    line = scene.line
    colon = re.match(rf"({_KEY})(:[ \t]*)(?=\S)", line)
    if colon:
        at = scene.start + colon.start(2)
        cut = Splice(at, scene.start + colon.end(2), " = " if not colon[1].endswith(" ") else "= ")
        return problem(
            "separator-wrong", (at, at + 1), "TOML has an equals sign here, not a colon.", "Write =.", [cut], safe=True
        )
    words = re.match(r"[ \t]*([A-Za-z0-9_.\-]+)([ \t]+)(?=[\"'\d\[{+\-]|true|false)", line)
    if words:
        at = scene.start + words.end(1)
        cause = "The equals sign between this key and its value is missing."
        return problem(
            "equals-missing", (scene.start + words.start(1), at), cause, "Write = between them.", [Splice(at, at, " =")]
        )
    key = re.match(r"[ \t]*([A-Za-z][\w \-]*?)[ \t]*=", line)
    if key and " " in key[1]:
        cause = f"A key with blanks needs quotes: {key[1]}."
        span = (scene.start + key.start(1), scene.start + key.end(1))
        return problem("quote-missing", span, cause, "Write quotes around it.", [Splice(*span, f'"{key[1]}"')])
    alone = re.match(r"[ \t]*([A-Za-z0-9_.\-]+)[ \t]*(?:#.*)?$", line)
    if alone:
        at = scene.start + alone.end(1)
        return problem(
            "value-missing",
            (scene.start + alone.start(1), at),
            "This key has no value.",
            "Write = and a value behind it.",
        )
    return None


def _key_start(scene: Scene) -> Problem | None:
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
        return _curly(scene, at)
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
    return _after_key(scene)


def _curly(scene: Scene, at: int) -> Problem:
    """Curly quotes around a key or value: the repair writes straight ones."""
    rest = scene.body[at : scene.end]
    found = re.match(rf"[{CURLY}]([^{CURLY}\"\\]*)[{CURLY}\"]", rest)
    cause = "Curly quotes do not count; only straight ones do."
    cuts = [Splice(at, at + found.end(), f'"{found[1]}"')] if found else []
    return problem(
        "quote-curly", (at, at + (found.end() if found else 1)), cause, "Write straight quotes.", cuts, safe=True
    )


def _value(scene: Scene) -> Problem | None:
    """Something that is no value."""
    at = scene.error.at
    body = scene.body
    line_end = scene.end
    word = re.compile(r"[^\s,\]}#]*").match(body, at)
    text = word[0] if word else ""
    span = (at, at + max(len(text), 1))
    if at >= len(body.rstrip()) or not text:
        sign = body[at : at + 1]
        if sign == ",":
            return problem(
                "comma-extra",
                (at, at + 1),
                "There is nothing before this comma.",
                "Delete it.",
                [Splice(at, at + 1, "")],
            )
        begun = body.rfind("=", 0, at)
        if sign in ("", "\n", "\r", "#") and begun >= 0 and not body[begun + 1 : at].strip():
            return problem(
                "value-missing", (begun, begun + 1), "There is no value behind the equals sign.", "Write one."
            )
        return _unclosed(scene)
    if text[0] in CURLY:
        return _curly(scene, at)
    if text[0] in DASHES:
        return problem(
            "dash-smart",
            (at, at + 1),
            "This is a long dash, not a minus sign.",
            "Write a plain one.",
            [Splice(at, at + 1, "-")],
            safe=True,
        )
    meant = WORDS.get(text.lower())
    if meant and meant != "null":
        sure = text.lower() == meant
        return problem(
            "word-spelling",
            span,
            f"'{text}' is no word that TOML knows; {meant} is.",
            f"Write {meant}.",
            [Splice(*span, meant)],
            safe=sure,
        )
    number = number_meant(text)
    if number is not None:
        cuts = [Splice(*span, number[0])] if number[0] else []
        return problem(
            "number-form", span, number[1], f"Write {number[0]}." if number[0] else "Write a plain number.", cuts
        )
    if text == "=" or body[at] == "=":
        return problem(
            "separator-wrong", (at, at + 1), "One equals sign is enough.", "Delete it.", [Splice(at, at + 1, "")]
        )
    opened = text[0] in "[{" or body[at - 1] in "[{,"
    if not opened:
        end = min(line_end, at + len(body[at:line_end].split("#")[0].rstrip()))
        text = body[at:end]
        unopened = re.match(r'[^"]*"[ \t]*$', text)
        if unopened:
            cuts = [Splice(at, at, '"')]
            return problem(
                "quote-unopened",
                (at, end),
                "This text ends with a quote and has none before it.",
                "Write one.",
                cuts,
                safe=True,
            )
        span = (at, end)
    clean = '"' not in text and "\\" not in text
    cuts = [Splice(*span, f'"{text}"')] if clean else []
    return problem("quote-missing", span, f"The text {text} needs quotes.", "Write quotes around it.", cuts)


def _after_value(scene: Scene) -> Problem | None:
    """A value, and more on its line."""
    assigned = _ASSIGNED.match(scene.line)
    at = scene.error.at
    rest = scene.body[at : scene.end]
    if not assigned:
        return _extra_bracket(scene, at)
    value_start = scene.start + assigned.start("value")
    raw = scene.body[value_start : scene.end].split("#")[0].rstrip()
    date = re.match(r"(\d{4})-(\d{1,2})-(\d{1,2})(?=$|[T ])", raw)
    if date and len(date[0]) < 10:
        meant = f"{date[1]}-{date[2]:0>2}-{date[3]:0>2}"
        span = (value_start, value_start + date.end())
        return problem(
            "date-form", span, "Month and day have two digits each.", f"Write {meant}.", [Splice(*span, meant)]
        )
    if re.match(r"\d{1,2}[./]\d{1,2}[./]\d{2,4}$|\d{1,2}:\d{1,2}$", raw):
        return problem(
            "date-form",
            (value_start, value_start + len(raw)),
            "TOML has no date or time of this form.",
            "Write 2026-07-05 or 17:30:00, or put quotes around it.",
            [Splice(value_start, value_start + len(raw), f'"{raw}"')],
        )
    number = number_meant(raw)
    if number is not None:
        cuts = [Splice(value_start, value_start + len(raw), number[0])] if number[0] else []
        do = f"Write {number[0]}." if number[0] else "Write a plain number, or put quotes around it."
        return problem("number-form", (value_start, value_start + len(raw)), number[1], do, cuts)
    if rest.strip() in (",", ";"):
        cause = "Lines in TOML end without a sign."
        return problem("comma-last", (at, at + 1), cause, "Delete it.", [Splice(at, at + 1, "")], safe=True)
    if re.match(rf"[,;]?[ \t]*{_KEY}=", rest):
        cut = Splice(at, at + len(rest) - len(rest.lstrip(",; \t")), "\n")
        return problem(
            "line-two-values",
            (at, scene.end),
            "A second key stands on this line.",
            "Put it on a line of its own.",
            [cut],
        )
    if scene.body[value_start] in "\"'":
        return _behind_quote(scene, value_start, at)
    if rest.lstrip().startswith(("//", ";", "--")):
        mark = at + len(rest) - len(rest.lstrip())
        length = 1 if scene.body[mark] == ";" else 2
        return problem(
            "comment-here",
            (mark, scene.end),
            "A comment begins with # in TOML.",
            "Write #.",
            [Splice(mark, mark + length, "#")],
            safe=True,
        )
    extra = _extra_bracket(scene, at)
    if extra:
        return extra
    word = raw.split(",")[0]
    if re.match(r"(?:true|false)\w", raw) or re.match(r"[\w+\-]", raw):
        unopened = raw.endswith('"') and raw.count('"') == 1
        span = (value_start, value_start + len(raw))
        if unopened:
            return problem(
                "quote-unopened",
                span,
                "This text ends with a quote and has none before it.",
                "Write one.",
                [Splice(value_start, value_start, '"')],
                safe=True,
            )
        cuts = [Splice(*span, f'"{raw}"')] if '"' not in raw and "\\" not in raw else []
        return problem("quote-missing", span, f"The text {raw or word} needs quotes.", "Write quotes around it.", cuts)
    return None


def _extra_bracket(scene: Scene, at: int) -> Problem | None:
    sign = scene.body[at : at + 1]
    if sign in ("]", "}", ")") and sign:
        return problem(
            "bracket-extra", (at, at + 1), f"This {sign} closes nothing.", "Delete it.", [Splice(at, at + 1, "")]
        )
    return None


def _behind_quote(scene: Scene, start: int, at: int) -> Problem | None:
    line_end = scene.end
    quote = scene.body[start]
    last = scene.body.rfind(quote, start, line_end)
    if last > at and quote == '"':
        inner = [start + one.start() for one in re.finditer(r'(?<!\\)"', scene.body[start:last]) if one.start()]
        cause = "This quote ends the text too early: more of it follows on the line."
        cuts = [Splice(one, one, "\\") for one in inner]
        return problem("quote-inside", (inner[0], inner[0] + 1), cause, 'Write \\" for a quote inside a text.', cuts)
    if last > at:
        inner_text = scene.body[start + 1 : last]
        cuts = [Splice(start, last + 1, f'"{inner_text}"')] if '"' not in inner_text and "\\" not in inner_text else []
        close = scene.body.find("'", start + 1)
        return problem(
            "quote-inside",
            (close, close + 1),
            "This quote ends the text too early.",
            "Write double quotes around it.",
            cuts,
        )
    extra = _extra_bracket(scene, at)
    if extra:
        return extra
    tail = scene.body[at:line_end].rstrip()
    end = scene.body.rfind(quote, start, at)
    cuts = (
        [Splice(end, at + len(tail), scene.body[end + 1 : at] + tail + quote)]
        if quote not in tail and "\\" not in tail
        else []
    )
    cause = "The text ends at the quote, and this stands behind it."
    return problem(
        "text-after-quote", (at, at + len(tail)), cause, "Put the quotes around all of it, or take it away.", cuts
    )


# --- texts ---


def _string_start(scene: Scene) -> int:
    """Give where the text begins in which the reader gave up, or -1."""
    at = 0
    for found in _STRINGS.finditer(scene.body):
        if found.end() > scene.error.at and found.start() <= scene.error.at:
            return found.start() if found[0][0] != "#" else -1
        if found.start() > scene.error.at:
            break
        at = found.end()
    opening = re.compile(r'"""|\'\'\'|"|\'').search(scene.body, at, scene.error.at + 1)
    return opening.start() if opening else -1


def _text(scene: Scene) -> Problem | None:
    """A text that breaks off, or holds what it cannot."""
    at = scene.error.at
    sign = scene.body[at : at + 1]
    line_quote = _line_quote(scene, at)
    if sign in ("\n", "\r", "") and line_quote >= 0:
        end = scene.end
        said = re.match(r"[^\r\n]*?(?=[ \t]*(?:[,\]}][ \t,\]}]*)?$)", scene.body[line_quote:end])
        end = line_quote + said.end() if said and said.end() > 1 else end
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
        cause = "A control character stands here; no reader takes it."
        return problem(
            "control-character",
            (at, at + 1),
            cause,
            "Delete it.",
            [Splice(at, at + 1, written if line_quote >= 0 else "")],
        )
    return None


def _line_quote(scene: Scene, at: int) -> int:
    """Give the quote on the line of an index that is still open there, or -1."""
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


def _never_closed(scene: Scene) -> Problem | None:
    begun = _open_text(scene.body)
    if begun < 0:
        return None
    mark = scene.body[begun : begun + 3]
    if mark not in ('"""', "'''"):
        return _text(scene_at(scene.body, begun, scene.error))
    line_end = scene.body.find("\n", begun)
    line_end = line_end if line_end >= 0 else len(scene.body)
    end = begun + len(scene.body[begun:line_end].rstrip())
    cause = "This text is opened with three quotes and never closed, so it swallows the rest of the file."
    cuts = [Splice(end, end, mark)] if end > begun + 3 else []
    return problem("text-unclosed", (begun, begun + 3), cause, f"Write {mark} where it should end.", cuts)


def _open_text(body: str) -> int:
    """Give where the text begins that is not closed, or -1."""
    at = 0
    while at < len(body):
        opening = re.compile(r"[\"'#]").search(body, at)
        if opening is None:
            return -1
        whole = _STRINGS.match(body, opening.start())
        if whole is None or (body.startswith(('"""', "'''"), opening.start()) and len(whole[0]) == 2):
            return opening.start()
        at = whole.end()
    return -1


def _escape(scene: Scene) -> Problem | None:
    back = scene.body.rfind("\\", 0, scene.error.at + 1)
    if back < scene.start:
        return None
    lone = [
        scene.start + one.start()
        for one in re.finditer(r'(?<!\\)\\(?![btnfr"\\uU\\])|(?<!\\)\\u(?![0-9a-fA-F]{4})', scene.line)
    ]
    cause = "Between double quotes a backslash begins an escape, and this is none."
    do = "Write \\\\ for a backslash, / in a path, or single quotes around the text."
    cuts = [Splice(at, at, "\\") for at in lone] or [Splice(back, back, "\\")]
    return problem("escape-broken", (back, back + 2), cause, do, cuts)


# --- brackets ---


def _unclosed(scene: Scene) -> Problem | None:
    """An array or inline table that does not go on as it should."""
    opened = _open_bracket(scene)
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
    if at >= len(scene.body.rstrip()) or (following.start > opened and _NEXT_KEY.match(following.line)):
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
    cause = "A comma is missing here, behind the item that ends."
    return problem("comma-missing", (end, end + 1), cause, "Write a comma.", [Splice(end, end, ",")], safe=True)


def _in_braces(scene: Scene, opened: int, at: int, before: int) -> Problem | None:
    if re.search(r"[\r\n]", scene.body[opened:at]) or scene.body[at : at + 1] in ("\n", "\r"):
        close = value_at(scene.body, opened).end
        inner = scene.body[opened:close]
        if inner.endswith("}") and "#" not in inner:
            joined = re.sub(r",?\s*\}$", " }", re.sub(r"\s*[\r\n]\s*", " ", inner))
            cause = "A table in curly brackets must stand on one line."
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
    if re.match(rf"{_KEY}=", scene.body[at:]):
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


def _open_bracket(scene: Scene) -> int:
    """Give the innermost bracket that is open where the reader gave up, or -1."""
    begun = [found.start() for found in re.finditer(rf"^{_KEY}=", scene.body[: scene.error.at + 1], re.M)]
    for start in reversed(begun):
        sign = scene.body.find("=", start) + 1
        stack: list[int] = []
        index = sign
        while index < min(scene.error.at, len(scene.body)):
            string = _STRINGS.match(scene.body, index)
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


def _line_alone(scene: Scene) -> Problem | None:
    for look in (_heading, _unclosed, _key_start, _after_value):
        found = look(scene)
        if found:
            return found
    return None


_LOOKS: tuple[tuple[str, Callable[[Scene], Problem | None]], ...] = (
    ("table declaration", _heading),
    ("array declaration", _heading),
    ("Cannot", _twice),
    ("Duplicate", _twice),
    (
        "Expected '='",
        lambda scene: (
            _unclosed(scene)
            if scene.body[scene.error.at : scene.error.at + 1] == ":" and _open_bracket(scene) >= 0
            else _after_key(scene)
        ),
    ),
    ("Invalid initial character", lambda scene: _in_table(scene) or _key_start(scene)),
    ("Invalid statement", _key_start),
    ("Invalid value", _value),
    ("Invalid date", _value),
    ("Unescaped", _escape),
    ("hex value", _escape),
    ("Unicode scalar", _escape),
    ("Illegal character", _text),
    ("Unterminated string", _never_closed),
    ("Expected \"'", _never_closed),
    ("Expected newline or end of document", _after_value),
    ("Unclosed array", _unclosed),
    ("Unclosed inline table", _unclosed),
    ("inline table", _unclosed),
)


def _in_table(scene: Scene) -> Problem | None:
    """A key that is none, inside an inline table."""
    opened = _open_bracket(scene)
    if opened < 0 or scene.body[opened] != "{":
        return None
    at = scene.error.at
    return _in_braces(scene, opened, at, len(scene.body[:at].rstrip()))
