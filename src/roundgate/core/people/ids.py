"""Ids as people paste them, and as the server wants them: blanks, look-alike letters, case, links around them.

What is meant is only said where it is sure: where just one id of the kind can be read out of what was pasted.
"""

from __future__ import annotations

import re
import unicodedata

import regex

from roundgate.core.rulebook.model import ItemKind

_INVISIBLE = dict.fromkeys(
    (0x00AD, 0x034F, 0x061C, 0x180E, *range(0x200B, 0x2010), *range(0x202A, 0x202F), *range(0x2060, 0x2070), 0xFEFF)
)
"""Characters that nobody sees: soft hyphens, joiners, marks of direction, and byte-order marks."""
_LOOK_ALIKE = str.maketrans(
    {
        **dict(zip("АВЕЅІЈКМНОРСТУХаеіјорсухԁһ", "ABESIJKMHOPCTYXaeijopcyxdh", strict=True)),  # Cyrillic
        **dict(zip("ΑΒΕΖΗΙΚΜΝΟΡΤΥΧο", "ABEZHIKMNOPTYXo", strict=True)),  # Greek
        **dict.fromkeys("‐‑‒–—−", "-"),
        **dict.fromkeys("“”„«»‘’‚`", '"'),
    }
)
_SECONDS = 0.1


def plain_letters(text: str) -> str:
    """Give a text without what cannot be seen, with look-alike letters and signs made plain, and blanks trimmed."""
    return unicodedata.normalize("NFKC", text.translate(_INVISIBLE)).translate(_LOOK_ALIKE).strip()


def _search(pattern: str, text: str, *, case: bool) -> list[str]:
    flags = 0 if case else regex.IGNORECASE
    try:
        found = regex.finditer(rf"(?<![A-Za-z0-9])(?:{pattern})(?![A-Za-z0-9])", text, flags, timeout=_SECONDS)
        return list(dict.fromkeys(match[0] for match in found))
    except (TimeoutError, regex.error):
        return []


def meant_id(pasted: str, kind: ItemKind) -> str:
    """Give the one id of a kind that a pasted text holds, as the server wants it; empty where none or several can."""
    if not kind.pattern:
        return pasted
    for text in dict.fromkeys((pasted, plain_letters(pasted))):
        if re.fullmatch(kind.pattern, text):
            return text
    text = plain_letters(pasted)
    exact = _search(kind.pattern, text, case=True)
    if len(exact) == 1:
        return exact[0]
    if exact:
        return ""
    folded = _search(kind.pattern, text, case=False)
    fitting = [fixed for one in folded for fixed in (one.upper(), one.lower()) if re.fullmatch(kind.pattern, fixed)]
    without_prefix = [kind.prefix + text, kind.prefix + text.upper()] if kind.prefix and not fitting else []
    fitting += [one for one in without_prefix if re.fullmatch(kind.pattern, one)]
    found = list(dict.fromkeys(fitting))
    return found[0] if len(found) == 1 else ""


def ids_in(text: str, kind: ItemKind) -> tuple[list[str], list[str]]:
    """Give the ids of a kind in a pasted text, each once, and the doubtful ones: those that need another spelling."""
    plain = plain_letters(text)
    sure = _search(kind.pattern, plain, case=True) if kind.pattern else []
    doubtful = [one for one in _search(kind.pattern, plain, case=False) if one not in sure] if kind.pattern else []
    return sure, doubtful


def same_id(one: str, other: str, kind: ItemKind) -> bool:
    """Tell whether two spellings mean the same person."""
    return (meant_id(one, kind) or one) == (meant_id(other, kind) or other)
