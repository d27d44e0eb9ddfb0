"""Values of TOML that are none, and what stands after a value on its line."""

from __future__ import annotations

import re

from roundgate.core.findings import Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.json.recovery_tokens import WORDS, number_meant
from roundgate.core.formats.shared.common_problems import CURLY, DASHES, bare_quotes
from roundgate.core.formats.toml.recovery_brackets import unclosed
from roundgate.core.formats.toml.recovery_place import KEY, Scene
from roundgate.core.patterns import lazy
from roundgate.core.text import Splice

_ASSIGNED = lazy(rf"(?P<key>{KEY})=(?P<gap>[ \t]*)(?P<value>[^\r\n]*?)[ \t]*$")


def curly(scene: Scene, at: int) -> Problem:
    """Curly quotes around a key or value: the repair writes straight ones."""
    rest = scene.body[at : scene.end]
    found = re.match(rf"[{CURLY}]([^{CURLY}\"\\]*)[{CURLY}\"]", rest)
    cause = "Curly quotes do not count; only straight ones do."
    cuts = [Splice(at, at + found.end(), f'"{found[1]}"')] if found else []
    return problem(
        "quote-curly", (at, at + (found.end() if found else 1)), cause, "Write straight quotes.", cuts, safe=True
    )


def no_value(scene: Scene) -> Problem | None:
    """Something that is not a value."""
    at, body = scene.error.at, scene.body
    word = re.compile(r"[^\s,\]}#]*").match(body, at)
    text = word[0] if word else ""
    if at >= len(body.rstrip()) or not text:
        return _nothing(scene, at)
    if text[0] in CURLY:
        return curly(scene, at)
    if text[0] in DASHES:
        cuts = [Splice(at, at + 1, "-")]
        cause = "This is a long dash, not a minus sign."
        return problem("dash-smart", (at, at + 1), cause, "Write a plain one.", cuts, safe=True)
    if body[at] == "=":
        cause = "One equals sign is enough."
        return problem("separator-wrong", (at, at + 1), cause, "Delete it.", [Splice(at, at + 1, "")])
    return _word_or_number(text, (at, at + len(text))) or _bare_text(scene, at, text)


def _nothing(scene: Scene, at: int) -> Problem | None:
    """Nothing where a value should be."""
    sign = scene.body[at : at + 1]
    if sign == ",":
        cause = "There is nothing before this comma."
        return problem("comma-extra", (at, at + 1), cause, "Delete it.", [Splice(at, at + 1, "")])
    begun = scene.body.rfind("=", 0, at)
    if sign in ("", "\n", "\r", "#") and begun >= 0 and not scene.body[begun + 1 : at].strip():
        cause = "There is no value after the equals sign."
        return problem("value-missing", (begun, begun + 1), cause, "Write one.")
    return unclosed(scene)


def _word_or_number(text: str, span: tuple[int, int]) -> Problem | None:
    """A fixed word in another spelling, or a number in another form."""
    meant = WORDS.get(text.lower())
    if meant and meant != "null":
        cause = f"'{text}' is not a word that TOML knows; {meant} is."
        sure = text.lower() == meant
        return problem("word-spelling", span, cause, f"Write {meant}.", [Splice(*span, meant)], safe=sure)
    number = number_meant(text)
    if number is None:
        return None
    cuts = [Splice(*span, number[0])] if number[0] else []
    do = f"Write {number[0]}." if number[0] else "Write a plain number, or put quotes around it."
    return problem("number-form", span, number[1], do, cuts)


def _bare_text(scene: Scene, at: int, text: str) -> Problem:
    """A text without quotes: to the end of the line, unless it stands in brackets."""
    body, end = scene.body, at + len(text)
    if text[0] not in "[{" and body[at - 1] not in "[{,":
        end = min(scene.end, at + len(body[at : scene.end].split("#")[0].rstrip()))
        text = body[at:end]
        if re.match(r'[^"]*"[ \t]*$', text):
            return _unopened((at, end))
    cuts = [Splice(at, end, f'"{text}"')] if '"' not in text and "\\" not in text else []
    return problem("quote-missing", (at, end), f"The text {text} needs quotes.", "Write quotes around it.", cuts)


def _unopened(span: tuple[int, int]) -> Problem:
    cause = "This text ends with a quote and has none before it."
    return problem("quote-unopened", span, cause, "Write one.", [Splice(span[0], span[0], '"')], safe=True)


def after_value(scene: Scene) -> Problem | None:
    """A value, and more on its line."""
    assigned = _ASSIGNED.match(scene.line)
    at = scene.error.at
    if not assigned:
        return _extra_bracket(scene, at)
    start = scene.start + assigned.start("value")
    raw = scene.body[start : scene.end].split("#")[0].rstrip()
    span = (start, start + len(raw))
    found = _date(raw, span) or (None if raw[:1] in "\"'" else _number(raw, span)) or _sign_behind(scene, at)
    if found:
        return found
    if scene.body[start] in "\"'":
        return _behind_quote(scene, start, at)
    extra = _extra_bracket(scene, at)
    if extra or not re.match(r"[\w+\-]", raw):
        return extra
    if raw.endswith('"') and raw.count('"') == 1:
        return _unopened(span)
    cuts = [Splice(*span, f'"{raw}"')] if '"' not in raw and "\\" not in raw else []
    return problem("quote-missing", span, f"The text {raw} needs quotes.", "Write quotes around it.", cuts)


def _date(raw: str, span: tuple[int, int]) -> Problem | None:
    """A date or time in another form."""
    date = re.match(r"(\d{4})-(\d{1,2})-(\d{1,2})(?=$|[T ])", raw)
    if date and len(date[0]) < 10:
        meant = f"{date[1]}-{date[2]:0>2}-{date[3]:0>2}"
        here = (span[0], span[0] + date.end())
        cause = "Month and day have two digits each."
        return problem("date-form", here, cause, f"Write {meant}.", [Splice(*here, meant)])
    if re.match(r"\d{1,2}[./]\d{1,2}[./]\d{2,4}$|\d{1,2}:\d{1,2}$", raw):
        cause = "TOML has no date or time of this form."
        do = "Write 2026-07-05 or 17:30:00, or put quotes around it."
        return problem("date-form", span, cause, do, [Splice(*span, f'"{raw}"')])
    return None


def _number(raw: str, span: tuple[int, int]) -> Problem | None:
    return _word_or_number(raw, span) if number_meant(raw) is not None else None


def _sign_behind(scene: Scene, at: int) -> Problem | None:
    """A comma, another key, or another format's comment after a value."""
    rest = scene.body[at : scene.end]
    if rest.strip() in (",", ";"):
        cause = "Lines in TOML end without a sign."
        return problem("comma-last", (at, at + 1), cause, "Delete it.", [Splice(at, at + 1, "")], safe=True)
    if re.match(rf"[,;]?[ \t]*{KEY}=", rest):
        cut = Splice(at, at + len(rest) - len(rest.lstrip(",; \t")), "\n")
        cause = "There is a second key on this line."
        return problem("line-two-values", (at, scene.end), cause, "Put it on a separate line.", [cut])
    if rest.lstrip().startswith(("//", ";", "--")):
        mark = at + len(rest) - len(rest.lstrip())
        cut = Splice(mark, mark + (1 if scene.body[mark] == ";" else 2), "#")
        return problem(
            "comment-here", (mark, scene.end), "A comment begins with # in TOML.", "Write #.", [cut], safe=True
        )
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
    inner = (
        [start + offset for offset in bare_quotes(scene.body[start:last]) if offset]
        if last > at and quote == '"'
        else []
    )
    if inner:
        cause = "This quote ends the text too early: more of it follows on the line."
        cuts = [Splice(quote, quote, "\\") for quote in inner]
        return problem("quote-inside", (inner[0], inner[0] + 1), cause, 'Write \\" for a quote inside a text.', cuts)
    if last > at and quote == "'":
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
    cause = "The text ends at the quote, and this comes after it."
    return problem(
        "text-after-quote", (at, at + len(tail)), cause, "Put the quotes around all of it, or take it away.", cuts
    )
