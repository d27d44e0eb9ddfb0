"""Ids as people paste them, and as the server wants them: spaces, look-alike letters, case, links around them.

What is meant is only said where it is sure: where just one id of the kind can be read out of what was pasted.
"""

from __future__ import annotations

import unicodedata
from collections.abc import Callable, Iterable, Iterator, Mapping

from roundgate.core.patterns import compiled
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
    """Return a text without what cannot be seen, with look-alike letters and signs made plain, and spaces trimmed."""
    return unicodedata.normalize("NFKC", text.translate(_INVISIBLE)).translate(_LOOK_ALIKE).strip()


def _search(pattern: str, text: str, *, case: bool) -> list[str]:
    import regex  # it is large, and only what is pasted is searched

    flags = 0 if case else regex.IGNORECASE
    try:
        found = regex.finditer(rf"(?<![A-Za-z0-9])(?:{pattern})(?![A-Za-z0-9])", text, flags, timeout=_SECONDS)
        return list(dict.fromkeys(match[0] for match in found))
    except (TimeoutError, regex.error):
        return []


def has_form(text: str, kind: ItemKind) -> bool:
    """Return whether a text has the form of an id of a kind, whatever its check digit is."""
    if compiled(kind.pattern).fullmatch(text) is None:
        return False
    return not ((kind.case == "upper" and text != text.upper()) or (kind.case == "lower" and text != text.lower()))


def id_mistake(text: str, kind: ItemKind) -> str:
    """Return what is wrong with an id as a file holds it; an empty text where nothing is."""
    if not kind.pattern or text in kind.catalogue:
        return ""
    if not has_form(text, kind):
        return f"'{text}' does not have the right form."
    if kind.check and not _is_whole(text, kind):
        return f"The check digit of '{text}' is wrong: a sign is mistyped or missing."
    return ""


def meant_id(pasted: str, kind: ItemKind) -> str:
    """Return the one id of a kind that a pasted text holds, as the server wants it; empty where none or several can."""
    if not id_mistake(pasted, kind):
        return pasted
    text = plain_letters(pasted)
    if not id_mistake(text, kind):
        return text
    exact = [found_id for found_id in _search(kind.pattern, text, case=True) if not id_mistake(found_id, kind)]
    if len(exact) == 1:
        return exact[0]
    if exact:
        return ""
    folded = _search(kind.pattern, text, case=False)
    spelled = [(whole, fixed) for whole in folded for fixed in (whole.upper(), whole.lower())]
    fitting = [_least_changed(whole, fixed, kind) for whole, fixed in spelled if not id_mistake(fixed, kind)]
    fitting = fitting or [spelling for spelling in _spellings(text, kind) if not id_mistake(spelling, kind)]
    found = list(dict.fromkeys(fitting))
    return found[0] if len(found) == 1 else ""


def _least_changed(typed: str, fixed: str, kind: ItemKind) -> str:
    """Return an id that fits with every letter as it was typed that may be so: another case can be another person."""
    if kind.case == "any":
        return fixed
    signs = list(fixed)
    for at, letter in enumerate(typed):
        trial = [*signs[:at], letter, *signs[at + 1 :]]
        if letter != signs[at] and not id_mistake("".join(trial), kind):
            signs = trial
    return "".join(signs)


def _spellings(text: str, kind: ItemKind) -> list[str]:
    """Return what a text may stand for: with what every id begins or ends with, and with the signs that were left out.

    A plain word is somebody's name, or a rank's, where ids have digits in them: ``marshall`` is not ``GW-MARS-HALL``.
    """
    if text.isalpha() and any(sign.isdigit() for sign in kind.example):
        return []
    cased = [text] if kind.case == "any" else [text, text.upper(), text.lower()]
    whole = [
        f"{before}{core_id}{behind}"
        for core_id in cased
        for before in {"", kind.prefix}
        for behind in {"", kind.suffix}
    ]
    return [*whole, *(_laid_out(candidate, kind) for candidate in whole)] if kind.optional else whole


def _laid_out(text: str, kind: ItemKind) -> str:
    """Put the signs that may be left out where the example of the kind has them."""
    signs = iter(_without(text, kind.optional))
    made = [sign if sign in kind.optional else next(signs, "") for sign in kind.example]
    return "".join((*made, *signs))


def _without(text: str, signs: str) -> str:
    for sign in signs:
        text = text.replace(sign, "")
    return text


def ids_in(text: str, kind: ItemKind) -> tuple[list[str], list[str]]:
    """Return the ids of a kind in a pasted text, each once, and the doubtful ones: those that need another spelling."""
    if not kind.pattern:
        return [], []
    plain = plain_letters(text)
    sure: dict[str, str] = {}
    for found_id in _search(kind.pattern, plain, case=True):
        if not id_mistake(found_id, kind):
            sure.setdefault(_sameness(found_id, kind), found_id)
    loose = _search(kind.pattern, plain, case=False)
    return list(sure.values()), [found_id for found_id in loose if _sameness(found_id, kind) not in sure]


def _sameness(text: str, kind: ItemKind) -> str:
    """Return what all spellings of one id share."""
    bare = _without(text, kind.optional) if kind.optional else text
    return bare.lower() if kind.case == "any" else bare


def same_id(one: str, other: str, kind: ItemKind) -> bool:
    """Return whether two spellings mean the same person."""
    return identity(one, kind) == identity(other, kind)


def identity(text: str, kind: ItemKind) -> str:
    """Return what all spellings of an id have in common, whatever was pasted around it."""
    return _sameness(meant_id(text, kind) or text, kind)


def identities(texts: Iterable[str], kind: ItemKind) -> Iterator[tuple[str, str]]:
    """Yield for each id what all its spellings have in common, and what is wrong with it; an empty text for nothing."""
    matches, signs = compiled(kind.pattern).fullmatch, kind.optional
    is_simple = not kind.check and not kind.case and len(signs) < 2  # there may be very many
    for text in texts:
        if is_simple and matches(text):
            yield text.replace(signs, "") if signs else text, ""
            continue
        mistake = id_mistake(text, kind)
        yield (identity(text, kind) if mistake else _sameness(text, kind)), mistake


# --- check digits ------------------------------------------------------------------------------------------------


def _is_whole(text: str, kind: ItemKind) -> bool:
    """Return whether the check digit of an id is right; it is worked out of the letters and digits between its ends."""
    bare = text.removeprefix(kind.prefix).removesuffix(kind.suffix).upper()
    signs = "".join(char for char in bare if char.isascii() and char.isalnum())
    return bool(signs) and _CHECKS[kind.check](signs)


def _digits(signs: str) -> str:
    """Write letters as numbers: A is 10, Z is 35."""
    return "".join(str(int(sign, 36)) for sign in signs)


def _luhn(signs: str) -> bool:
    doubled = [int(digit) * (1 + at % 2) for at, digit in enumerate(reversed(_digits(signs)))]
    return sum(number // 10 + number % 10 for number in doubled) % 10 == 0


def _mod97(signs: str) -> bool:
    return int(_digits(signs)) % 97 == 1


def _mod11(signs: str) -> bool:
    if not signs[:-1].isdigit() or not (signs[-1].isdigit() or signs[-1] == "X"):
        return False
    total = 0
    for sign in signs[:-1]:
        total = (total + int(sign)) * 2 % 11
    return (total + (10 if signs[-1] == "X" else int(signs[-1]))) % 11 == 1


_CHECKS: Mapping[str, Callable[[str], bool]] = {"luhn": _luhn, "mod97": _mod97, "mod11": _mod11}
