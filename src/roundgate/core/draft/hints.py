"""What a comment says of a value: its default, its bounds, what it may be chosen from, and its unit.

Comments are written by people for people. Each pattern here is one way in which commented configuration files say it.
"""

from __future__ import annotations

import re
from decimal import Decimal, InvalidOperation
from typing import NamedTuple

from roundgate.core.patterns import lazy

_NUMBER = r"[-+]?\d+(?:\.\d+)?"
_VALUE = r"(?P<value>\"[^\"\n]*\"|'[^'\n]*'|`[^`\n]*`|[^\s,;()\[\]\"'`]+)"
_DEFAULTS = (
    lazy(rf"\bdefaults?(?:\s+(?:value|setting))?\s*(?:is|are|:|=|->|is:)\s*[:=]?\s*{_VALUE}", re.IGNORECASE),
    lazy(rf"\bdefaults?\s+to\s*:?\s*{_VALUE}", re.IGNORECASE),
    lazy(rf"[(\[]\s*(?:the\s+)?default(?:s|\s+value)?[\s:=-]*{_VALUE}[^()\[\]]{{0,30}}[)\]]", re.IGNORECASE),
    lazy(
        r"\bdefaults?\s+(?P<value>[-+]?\d+(?:\.\d+)?|\"[^\"\n]*\"|'[^'\n]*'|true|false|yes|no|on|off)\b", re.IGNORECASE
    ),
)
_WHICH_IS_DEFAULT = lazy(
    r"(?P<value>-?\d+(?:\.\d+)?)\s*(?:=|:|-|is|means)\s*[^.;()\n]{1,30},?\s+(?:which|that)\s+is\s+(?:the\s+)?default\b",
    re.IGNORECASE,
)
"""``0: never, which is the default``: the number is the default."""
_IS_DEFAULT = lazy(
    r"(?P<value>\"[^\"\n]*\"|'[^'\n]*'|[\w.+-]+)\s*(?:\((?:the\s+)?default\)|\[default\]|is\s+(?:the\s+)?default\b)",
    re.IGNORECASE,
)
_RANGES = (
    lazy(rf"\bbetween\s+(?P<least>{_NUMBER})\s+(?:and|to|-)\s+(?P<most>{_NUMBER})", re.IGNORECASE),
    lazy(rf"\b(?:from|range|ranges|values?|valid|allowed)\b[^\d\n-]{{0,24}}?(?P<least>{_NUMBER})\s*(?:-|–|to|\.\.+|,)\s*"
               rf"(?P<most>{_NUMBER})(?!\s*[-,|]\s*\d)", re.IGNORECASE),
    lazy(rf"[\[(<]\s*(?P<least>{_NUMBER})\s*(?:-|–|\.\.+|to|,|:)\s*(?P<most>{_NUMBER})\s*[\])>]", re.IGNORECASE),
    lazy(rf"(?<![\w.-])(?P<least>{_NUMBER})\s*(?:\.\.+|–)\s*(?P<most>{_NUMBER})(?![\w.-])"),
    lazy(r"(?<![\w.:/-])(?P<least>\d+)\s*-\s*(?P<most>\d+)(?![\w.:/-]*\d)"),
    lazy(rf"(?<![\w.:/-])(?P<least>{_NUMBER})\s+to\s+(?P<most>{_NUMBER})(?![\w.:/%-])"),
)  # fmt: skip
_LEAST = lazy(
    rf"\b(?:min(?:imum)?(?:\s+(?:value|is))*|at\s+least|no\s+less\s+than|not\s+below)\s*[:=]?\s*(?P<least>{_NUMBER})",
    re.IGNORECASE,
)
_MOST = lazy(
    rf"\b(?:max(?:imum)?(?:\s+(?:value|is))*|at\s+most|up\s+to|no\s+more\s+than|not\s+above)\s*[:=]?\s*"
    rf"(?P<most>{_NUMBER})",
    re.IGNORECASE,
)
_BOOL = lazy(
    r"\b(?:true\s*(?:/|\||or|,)\s*false|yes\s*(?:/|\||or|,)\s*no|on\s*(?:/|\||or|,)\s*off|enabled?\s*(?:/|\||or)\s*disabled?"
    r"|false\s*(?:/|\||or|,)\s*true|no\s*(?:/|\||or|,)\s*yes|off\s*(?:/|\||or|,)\s*on|boolean)\b",
    re.IGNORECASE,
)
_SWITCHED = lazy(
    r"\b(?:0|no|off|false)\s*(?:=|:|-|is|to)\s*(?:off|disabled?|no\b|false)|\b1\s*(?:=|:|-|is|to)\s*(?:on|enabled?|yes|true)",
    re.IGNORECASE,
)
_CHOICE_LEAD = lazy(
    r"\b(?:one\s+of|choices?|options?|(?:possible|valid|allowed|available|accepted|legal|supported)\s+"
    r"(?:values?|options?|choices?|settings?|modes?|types?|levels?)|values?|arguments?|can\s+be|may\s+be|must\s+be|either)\b"
    r"\s*(?:are|is|:|=)*\s*:?\s*(?=(?P<rest>[^\n.]+))",
    re.IGNORECASE,
)
_WORD = r"\"[^\"\n]+\"|'[^'\n]+'|`[^`\n]+`|\*?[A-Za-z0-9][\w+.-]*"
_CHOICES = lazy(rf"(?P<first>{_WORD})(?P<more>(?:\s*(?:,|\||/|\bor\b|,\s*or\b|\band\b|,\s*and\b)\s*(?:{_WORD}))+)")
_BAR = lazy(r"[\[({<]?\s*(?P<all>[A-Za-z][\w-]*(?:\s*\|\s*[A-Za-z][\w-]*)+)\s*[\])}>]?")
_TABLE_LINE = lazy(
    rf"^\s*(?:[-*]\s+)?(?P<value>{_WORD})\s*(?:=|:|\s-|–|->|\()\s*(?P<about>[^\n]*?)\)?\s*$"
)  # a line for each value: "0 = off", "- calm: for learning"
_PAIRS = lazy(r"(?<![\w.])(?P<value>\d{1,3})\s*(?:=|:)\s*(?P<about>[A-Za-z][^,;\n()|]*)")
_UNITS = (
    ("milliseconds", lazy(r"\b(?:in\s+)?(?:milli-?seconds?|msecs?|ms)\b", re.IGNORECASE)),
    ("minutes", lazy(r"\b(?:in\s+)?(?:minutes|mins)\b|\(min(?:ute)?s?\)", re.IGNORECASE)),
    ("hours", lazy(r"\b(?:in\s+)?hours\b|\(hours?\)", re.IGNORECASE)),
    ("days", lazy(r"\b(?:in\s+)?days\b|\(days?\)", re.IGNORECASE)),
    ("seconds", lazy(r"\b(?:in\s+)?(?:seconds|secs)\b|\(sec(?:ond)?s?\)|\(s\)", re.IGNORECASE)),
    ("kilobytes", lazy(r"\b(?:kilobytes?|kbytes?|KiB|KB)\b")),
    ("megabytes", lazy(r"\b(?:megabytes?|mbytes?|MiB|MB)\b")),
    ("gigabytes", lazy(r"\b(?:gigabytes?|gbytes?|GiB|GB)\b")),
    ("bytes", lazy(r"\b(?:in\s+)?bytes\b", re.IGNORECASE)),
    ("percent", lazy(r"\bpercent(?:age)?\b|\(%\)|\bin %", re.IGNORECASE)),
)
_TYPED = lazy(r"\btype:\s*(?P<type>int|float|bool|enum|string|flags|path)\b", re.IGNORECASE)
_VALUES = lazy(r"\bvalues?:\s*(?P<rest>[^\n]+)", re.IGNORECASE)
_MOST_CHOICES = 40
_STOP_WORDS = frozenset(
    [
        "the",
        "which",
        "limit",
        "a",
        "an",
        "to",
        "of",
        "for",
        "and",
        "or",
        "is",
        "are",
        "be",
        "if",
        "it",
        "this",
        "that",
        "in",
        "on",
        "with",
        "by",
        "not",
        "no",
        "used",
        "set",
        "value",
        "values",
        "any",
        "all",
        "more",
        "than",
        "follows",
        "none",
        "empty",
        "unset",
        "whatever",
        "only",
        "compiled",
        "built-in",
    ]
)


class Hints(NamedTuple):
    """What a comment says. Texts are as the comment has them; None and empty mean that it says nothing."""

    about: str = ""
    default: str | None = None
    least: Decimal | None = None
    most: Decimal | None = None
    choices: dict[str, str] = {}  # noqa: RUF012 - a default that nobody changes
    """The values to choose from, with what the comment says of each."""
    is_bool: bool = False
    unit: str = ""
    """``seconds`` and its like, ``megabytes`` and its like, or ``percent``."""
    no_default: bool = False
    """Whether the comment says that nothing is set by default."""
    type: str = ""
    """The type, where the comment names one: int, float, bool, enum, string, flags or path."""


def hints_in(comment: str, value: str = "") -> Hints:
    """Read a comment; ``value`` is what it is about: a list of words that holds it is what to choose from."""
    if not comment.strip():
        return Hints()
    least, most = _range(comment)
    choices = _choices(comment, value)
    is_bool = _BOOL.search(comment) is not None or (bool(choices) and {word.lower() for word in choices} in _BOOLS)
    is_bool = is_bool or (not choices and _SWITCHED.search(comment) is not None)
    unit = next((name for name, pattern in _UNITS if pattern.search(comment)), "")
    typed = _TYPED.search(comment)
    kind = typed["type"].lower() if typed else ""
    if kind == "enum" and (told := _VALUES.search(comment)):
        choices = dict.fromkeys((word.strip() for word in told["rest"].split(",")), "")
    is_bool = kind == "bool" if kind else is_bool
    choices = choices if kind in ("", "enum") and not is_bool else {}
    return Hints(_about(comment), _default(comment), least, most, choices, is_bool, unit, _nothing(comment), kind)


_BOOLS = ({"true", "false"}, {"yes", "no"}, {"on", "off"}, {"0", "1"}, {"enabled", "disabled"}, {"enable", "disable"})


def _unquoted(word: str) -> str:
    word = word.strip()
    return word[1:-1] if len(word) > 1 and word[0] == word[-1] and word[0] in "\"'`" else word


def _nothing(comment: str) -> bool:
    return _NO_DEFAULT.search(comment) is not None


_NO_DEFAULT = lazy(
    r"\bdefaults?\b[^.;\n]{0,12}?(?:\bnot\s+set|\bempty|\bnone|\bunset|\bnothing)\b|\bunset\s+by\s+default",
    re.IGNORECASE,
)
_ON_BY_DEFAULT = lazy(r"\benabled\s+by\s+default|\bby\s+default\b[^.;\n]{0,30}\benabled", re.IGNORECASE)
_OFF_BY_DEFAULT = lazy(r"\bdisabled\s+by\s+default|\bby\s+default\b[^.;\n]{0,30}\bdisabled", re.IGNORECASE)


def _default(comment: str) -> str | None:
    for word, pattern in (("on", _ON_BY_DEFAULT), ("off", _OFF_BY_DEFAULT)):
        if pattern.search(comment):
            return word
    if _nothing(comment):
        return None
    found = _WHICH_IS_DEFAULT.search(comment) or _IS_DEFAULT.search(comment)
    if found and found["value"].lower() not in _STOP_WORDS:
        return _unquoted(found["value"])
    for found in (hit for pattern in _DEFAULTS for hit in pattern.finditer(comment)):
        value = found["value"]
        word = _unquoted(value) if value[0] in "\"'`" else value.rstrip(".:")
        if value[0] in "\"'`" or (word and word.lower() not in _STOP_WORDS and re.search(r"\w", word)):
            return word
    return None


def _number(text: str | None) -> Decimal | None:
    try:
        return Decimal(text) if text else None
    except InvalidOperation:
        return None


def _range(comment: str) -> tuple[Decimal | None, Decimal | None]:
    for pattern in _RANGES:
        for found in pattern.finditer(comment):
            least, most = _number(found["least"]), _number(found["most"])
            if least is not None and most is not None and least < most:
                return least, most
    low, high = _LEAST.search(comment), _MOST.search(comment)
    least, most = _number(low["least"]) if low else None, _number(high["most"]) if high else None
    return (least, most) if least is None or most is None or least < most else (None, None)


def _choices(comment: str, value: str) -> dict[str, str]:
    """Find the values to choose from: a line for each, pairs of number and meaning, or a list in one sentence."""
    lines = [found for line in comment.split("\n") if (found := _TABLE_LINE.match(line))]
    told = {_unquoted(found["value"]): found["about"].strip(" .") for found in lines}
    if 1 < len(told) <= _MOST_CHOICES and not {word.lower() for word in told} & LABELS:
        return told
    pairs = {found["value"]: found["about"].strip(" .") for found in _PAIRS.finditer(comment)}
    if len(pairs) > 1:
        return pairs
    for lead in _CHOICE_LEAD.finditer(comment):
        choices = _listed_choices(lead["rest"])
        if choices:
            return choices
    for listed in _CHOICES.finditer(comment):
        choices = _listed_choices(listed[0])
        is_list = re.search(r"\bor\b|[|/]", listed[0]) or comment[listed.start() - 1 : listed.start()] in ("(", "[")
        if value in choices and not re.fullmatch(_NUMBER, value) and is_list:
            return choices
    bar = _BAR.search(comment)
    return dict.fromkeys((word.strip() for word in bar["all"].split("|")), "") if bar else {}


LABELS = frozenset(
    [
        "default",
        "note",
        "example",
        "warning",
        "format",
        "type",
        "unit",
        "units",
        "min",
        "max",
        "minimum",
        "maximum",
        "range",
        "see",
        "e.g",
        "i.e",
        "values",
    ]
)


def _listed_choices(text: str) -> dict[str, str]:
    """Read ``a, b or c``; words that only link a sentence are no values."""
    found = _CHOICES.match(text.strip(" ([{<"))
    if found is None:
        return {}
    choices = [_unquoted(word) for word in re.findall(_WORD, found["first"] + found["more"])]
    choices = [word.rstrip(".").lstrip("*") for word in choices if word.lower() not in ("or", "and")]
    is_plain = all(len(word) <= 24 and word.lower() not in _STOP_WORDS - {"no", "on"} for word in choices)
    are_numbers = all(re.fullmatch(_NUMBER, word) for word in choices)
    enough = len(choices) > 2 or (len(choices) == 2 and not are_numbers)
    return dict.fromkeys(choices, "") if is_plain and enough and len(choices) <= _MOST_CHOICES else {}


_ONLY_FACTS = lazy(r"\W*(?:defaults?|range|min|max|minimum|maximum|values?|type|valid|allowed)\b", re.IGNORECASE)
"""The beginning of a sentence that only says what the fields of a setting say."""


def _about(comment: str) -> str:
    """Return what the comment says in its first sentences, short enough for one line of a table."""
    lines = [line for line in comment.split("\n") if not _TABLE_LINE.match(line) or len(line.split()) > 6]
    text = " ".join(" ".join(lines).split())
    sentences = re.split(r"(?<=[.!?])\s+", text)
    sentences = [sentence for sentence in sentences if not _ONLY_FACTS.match(sentence)] or sentences
    about = ""
    for sentence in sentences:
        if about and len(about) + len(sentence) > 160:
            break
        about = f"{about} {sentence}".strip()
    return about[:240].rstrip()
