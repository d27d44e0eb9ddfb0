"""Names, texts, numbers and words of a broken JSON text: where each ends, and what is wrong with it."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from roundgate.core.formats.shared.bracket_recovery import Read
from roundgate.core.formats.shared.common_problems import CURLY, DASHES, bare_quotes
from roundgate.core.patterns import lazy
from roundgate.core.text import LINE_END, Splice

if TYPE_CHECKING:
    from roundgate.core.formats.shared.bracket_recovery import BracketScan

WORDS = {
    "true": "true",
    "yes": "true",
    "on": "true",
    "false": "false",
    "no": "false",
    "off": "false",
    "null": "null",
    "none": "null",
    "nil": "null",
    "undefined": "null",
}
_SURE = ("true", "false", "null", "none", "nil")
_NUMBER = lazy(r"-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?(?:[eE][+-]?[0-9]+)?")
_WORD = lazy(r"[^\s{}\[\],:;=\"" + CURLY + r"]+")
_GOOD = lazy(r'"((?:[^"\\\r\n]|\\.)*)"')
_SINGLE = lazy(r"'((?:[^'\\\r\n]|\\.)*)'")
_PRETTY = lazy(rf"[{CURLY}]([^\r\n{CURLY}\"]*)[{CURLY}\"]")
_BAD_ESCAPE = lazy(r'\\(?:u(?![0-9a-fA-F]{4})[0-9a-fA-F]{0,3}|[^"\\/bfnrtu])')
_QUOTE = lazy(r'(?:\\.|[^"\\\r\n])*(")')
_NAME_OPEN = lazy(r'"([\w .\-]+?)(?=[ \t]*[:=][ \t]*(?:["\d\[{tfn\-]|$))', re.MULTILINE)
_UNOPENED = lazy(r'([^\s"{}\[\],:=][^"\r\n{}\[\],:=]*)"(?=[ \t]*(?:[,}\]:=]|\r|\n|\Z))')
_GLUED = lazy(r'[\w .\-]+"[ \t]*:|[^\s"{}\[\],:=][^"\r\n{}\[\]:=]*"[ \t]*[,}\]]')
"""What follows a text that has swallowed its comma and the next one's quote: the rest of that name or text."""
_WORDS_ON = lazy(r"[^\r\n{}\[\],:=\"]+")


def read_scalar(reader: BracketScan, *, is_key: bool) -> Read:
    """Read one name or value and say what is wrong with it."""
    char = reader.body[reader.at]
    if char == '"':
        return _quoted(reader, is_key=is_key)
    if char == "'":
        return _other_quotes(reader, _SINGLE, "quote-single", "JSON knows double quotes only.")
    if char in CURLY:
        return _other_quotes(reader, _PRETTY, "quote-curly", "Curly quotes do not count; only straight ones do.")
    unopened = _UNOPENED.match(reader.body, reader.at)
    if unopened and not _NUMBER.fullmatch(unopened[1]):
        cause = "This text ends with a quote and has none at its beginning."
        repair = Splice(reader.at, reader.at, '"')
        reader.report(
            "quote-unopened", (reader.at, unopened.end()), cause, "Write a quote before it.", repair, safe=True
        )
        return _read(reader.at, unopened.end(), is_text=True)
    return _bare(reader, is_key=is_key)


def _read(start: int, end: int, *, is_text: bool) -> Read:
    return Read(start, end, is_text)


_LONG_LINE = 4000
"""Characters; the quotes of a longer rest of a line are not counted, for that would be done again at each text."""


def _rest_of_line(body: str, at: int, most: int | None = None) -> str:
    """Return a line from a place on, or so many characters of it at most."""
    stop = len(body) if most is None else at + most
    end = LINE_END.search(body, at, stop)
    return body[at : end.start() if end else stop]


def _quotes_in(text: str) -> int:
    return len(re.findall(r'(?<!\\)(?:\\\\)*"', text))


def _quoted(reader: BracketScan, *, is_key: bool) -> Read:
    body, start = reader.body, reader.at
    line = _rest_of_line(body, start, _LONG_LINE)
    good = _GOOD.match(body, start)
    odd = len(line) < _LONG_LINE and _quotes_in(line) % 2 == 1
    name = _NAME_OPEN.match(body, start) if is_key and odd else None
    if name and (good is None or name.end() < good.end() - 1):
        return _unclosed(reader, start, name.end())
    if good is None:
        return _without_end(reader, start, _rest_of_line(body, start))
    swallowed = re.fullmatch(r'"([^"]*?)[ \t]*,[ \t]*"', good[0]) if odd and not is_key else None
    if swallowed and _GLUED.match(body, good.end()):
        return _unclosed(reader, start, start + 1 + len(swallowed[1]))
    follows = body[good.end() : good.end() + 1]
    if not is_key and follows and (follows.isalnum() or follows in "_'" or _goes_on(line, good, start, odd=odd)):
        return _with_quotes_inside(reader, start, line, good.end())
    _look_inside(reader, start + 1, good.end() - 1)
    return _read(start, good.end(), is_text=True)


def _goes_on(line: str, good: re.Match[str], start: int, *, odd: bool) -> bool:
    """Return whether a text goes on after a quote: a word follows, and a last quote further on ends it."""
    rest = line[good.end() - start :]
    if odd:
        return re.match(r'[ \t]+[^\s"{}\[\],:][^"{}\[\]:]*"[ \t]*[,}\]]*[ \t]*$', rest) is not None
    return re.match(r'[ \t]+[^\s"{}\[\],:][^"{}\[\]:]*"[^"]*"?[ \t]*[,}\]]*[ \t]*$', rest) is not None


def _with_quotes_inside(reader: BracketScan, start: int, line: str, first_end: int) -> Read:
    """Find the quote that really ends the text: the last one of the line before a comma, a bracket or its end."""
    ends = [
        found.start()
        for found in re.finditer(r'(?<!\\)"(?=[ \t]*(?:,[ \t]*"|,?[ \t]*[}\]]*,?[ \t]*$))', line)
        if start + found.start() >= first_end
    ]
    if not ends:
        _look_inside(reader, start + 1, first_end - 1)
        return _read(start, first_end, is_text=True)
    end = start + ends[0]
    inner = [start + quote for quote in bare_quotes(line) if start < start + quote < end]
    cause = "This quote ends the text too early: more of it follows on the line."
    cuts = [Splice(at, at, "\\") for at in inner]
    first = inner[0] if inner else first_end - 1
    reader.report("quote-inside", (first, first + 1), cause, 'Write \\" for a quote inside a text.', *cuts)
    return _read(start, end + 1, is_text=True)


def _without_end(reader: BracketScan, start: int, line: str) -> Read:
    """Settle a text whose closing quote is not on its line: on another line, or forgotten."""
    body = reader.body
    broken = _line_break(body, start, line)
    if broken:
        breaks = [found.span() for found in LINE_END.finditer(body, start, broken)]
        cause = "This text begins on one line and ends on another; in JSON it must be on one."
        cuts = [Splice(*span, "\\n") for span in breaks]
        reader.report(
            "line-break-in-text", (breaks[0][0], breaks[0][0] + 1), cause, "Write \\n for the line break.", *cuts
        )
        return _read(start, broken, is_text=True)
    hit = re.match(r'"[^\r\n]*?(?=[ \t]*(?:[,}\]][ \t,}\]]*)?$)', line)
    return _unclosed(reader, start, start + (hit.end() if hit else len(line)))


def _line_break(body: str, start: int, line: str) -> int:
    """Return the end of a text that closes on one of the next lines, or 0."""
    at = start + len(line)
    for _ in range(20):
        closing = LINE_END.match(body, at)
        if closing is None:
            return 0
        following = _rest_of_line(body, closing.end())
        if re.match(r'[ \t]*(?:"|[{\[])', following) and not re.match(r'[ \t]*"[ \t]*[,}\]]?[ \t]*$', following):
            return 0
        if _quotes_in(following) % 2 == 1:
            quote = _QUOTE.match(body, closing.end())
            return quote.end() if quote else 0
        if _quotes_in(following):
            return 0
        at = closing.end() + len(following)
    return 0


def _unclosed(reader: BracketScan, start: int, end: int) -> Read:
    cause = "This quote is opened and not closed on its line."
    repair = Splice(end, end, '"')
    reader.report("quote-unclosed", (start, max(end, start + 1)), cause, "Write a quote where the text ends.", repair)
    return _read(start, end, is_text=True)


def _look_inside(reader: BracketScan, start: int, end: int) -> None:
    """Report what is wrong between two good quotes."""
    text = reader.body[start:end]
    bad = _first_bad_escape(text)
    if bad is not None:
        span = (start + bad[0], start + bad[1])
        cuts = [Splice(start + at, start + at + 1, "\\\\") for at in _lone_backslashes(text)]
        if text[bad[0] + 1 : bad[0] + 2] == "u":
            cause, do = "\\u needs exactly four hexadecimal digits after it.", "Complete the number, or write \\\\."
        else:
            cause, do = "A backslash has no meaning before this.", "Write \\\\ for a backslash, or / in a path."
        reader.report("escape-broken", span, cause, do, *cuts)
    control = re.search(r"[\x00-\x1f]", text)
    if control:
        cuts = [Splice(start + at, start + at + 1, _escaped(char)) for at, char in enumerate(text) if char < " "]
        at = start + control.start()
        what = "A tab" if control[0] == "\t" else "A control character"
        cause = f"{what} is inside this text."
        do = f"Write {_escaped(control[0])} for it."
        reader.report("control-character", (at, at + 1), cause, do, *cuts, safe=True)


def _escaped(char: str) -> str:
    return "\\t" if char == "\t" else f"\\u{ord(char):04x}"


def _first_bad_escape(text: str) -> tuple[int, int] | None:
    at = 0
    while (at := text.find("\\", at)) >= 0:
        bad = _BAD_ESCAPE.match(text, at)
        if bad:
            return bad.span()
        at += 2
    return None


def _lone_backslashes(text: str) -> list[int]:
    found, at = [], 0
    while (at := text.find("\\", at)) >= 0:
        if _BAD_ESCAPE.match(text, at):
            found.append(at)
            at += 1
        else:
            at += 2
    return found


def _other_quotes(reader: BracketScan, pattern: re.Pattern[str], code: str, cause: str) -> Read:
    start = reader.at
    found = pattern.match(reader.body, start)
    if found is None:
        line = _rest_of_line(reader.body, start)
        hit = re.match(r".[^\r\n]*?(?=[ \t]*(?:[,}\]][ \t,}\]]*)?$)", line)
        end = start + (hit.end() if hit else 1)
        reader.report(code, (start, end), cause, "Write straight double quotes around the text.")
        return _read(start, end, is_text=True)
    inner = found[1].replace("\\'", "'")
    written = '"' + re.sub(r'(?<!\\)"', '\\\\"', inner) + '"'
    do = "Write straight double quotes."
    reader.report(code, found.span(), cause, do, Splice(*found.span(), written), safe=True)
    return _read(*found.span(), is_text=True)


def _bare(reader: BracketScan, *, is_key: bool) -> Read:
    start = reader.at
    word = _WORD.match(reader.body, start)
    end = word.end() if word else start + 1
    text = reader.body[start:end]
    if is_key:
        return _bare_key(reader, start, end)
    if text in ("true", "false", "null") or _NUMBER.fullmatch(text):
        return _read(start, end, is_text=False)
    meant = WORDS.get(text.lower().strip("."))
    if meant:
        cause = f"'{text}' is not a word that JSON knows; {meant} is."
        repair = Splice(start, end, meant)
        sure = text.lower() in _SURE and text.lower() != "undefined"
        reader.report("word-spelling", (start, end), cause, f"Write {meant}.", repair, safe=sure)
        return _read(start, end, is_text=False)
    if text[0] in DASHES:
        repair = Splice(start, start + 1, "-")
        cause = "This is a long dash, not a minus sign."
        reader.report("dash-smart", (start, start + 1), cause, "Write a plain minus sign.", repair, safe=True)
        return _read(start, end, is_text=False)
    return _number_or_text(reader, start, end, text)


def _number_or_text(reader: BracketScan, start: int, end: int, text: str) -> Read:
    number = number_meant(text)
    if number is not None:
        meant, cause = number
        repair = [Splice(start, end, meant)] if meant else []
        do = f"Write {meant}." if meant else "Write a plain number, or put quotes around it."
        reader.report(
            "number-form", (start, end), cause, do, *repair, safe=not re.match(r"[+-]?0", text) and "." in text
        )
        return _read(start, end, is_text=False)
    match = _WORDS_ON.match(reader.body, start)
    end = start + len(match[0].rstrip()) if match else end
    text = reader.body[start:end]
    if not any(char.isalnum() for char in text):
        reader.report(
            "text-after-end" if not reader.stack else "not-understood",
            (start, end),
            f"'{text}' means nothing here.",
            "Delete it.",
        )
        return _read(start, end, is_text=False)
    cause = f"The text {text} needs quotes."
    repair = _in_quotes(start, end, text)
    reader.report("quote-missing", (start, end), cause, "Write quotes around it.", *repair)
    return _read(start, end, is_text=True)


def _in_quotes(start: int, end: int, text: str) -> list[Splice]:
    escaped = text.replace("\\", "\\\\")
    return [Splice(start, end, f'"{escaped}"')]


def _bare_key(reader: BracketScan, start: int, end: int) -> Read:
    match = re.compile(r"[^\r\n{}\[\],:=\"']+").match(reader.body, start)
    if match and reader.body[match.end() : match.end() + 1] in (":", "="):
        end = start + len(match[0].rstrip())
    text = reader.body[start:end]
    cause = f"The name {text} needs quotes."
    safe = re.fullmatch(r"[\w.\- ]+", text) is not None
    reader.report(
        "quote-missing", (start, end), cause, "Write quotes around it.", *_in_quotes(start, end, text), safe=safe
    )
    return _read(start, end, is_text=True)


def number_meant(text: str) -> tuple[str, str] | None:
    """Return the number that was meant and what is wrong with its form; None for what is not a number at all."""
    if not re.match(r"[+-]?[.]?[0-9]", text) and text.lstrip("+-") not in ("NaN", "Infinity", "inf", "nan"):
        return None
    bare = text.lstrip("+")
    if re.fullmatch(r"-?0+[0-9]+(?:\.[0-9]+)?", bare):
        sign = "-" if bare.startswith("-") else ""
        meant = sign + (bare.lstrip("-").lstrip("0") or "0")
        return (
            meant if meant.lstrip("-")[0] != "." else f"{sign}0{meant.lstrip('-')}"
        ), "A number has no zero before it."
    if text.startswith("+") and _NUMBER.fullmatch(bare):
        return bare, "A number has no plus sign before it."
    pointed = re.sub(r"^(-?)\.", r"\g<1>0.", bare)
    pointed = re.sub(r"\.(?=$|[eE])", ".0", pointed)
    if _NUMBER.fullmatch(pointed):
        return pointed, "A number has digits on both sides of its point."
    if re.fullmatch(r"-?0[xX][0-9a-fA-F]+", bare):
        return str(int(bare, 16)), "JSON has no hexadecimal numbers."
    if text.lstrip("+-") in ("NaN", "Infinity", "inf", "nan"):
        return "", f"JSON has no {text}."
    return (
        ("", f"{text} is not a number, and no text without quotes.")
        if re.fullmatch(r"[+-]?[0-9.eE+-]+", text)
        else None
    )
