"""Did you mean: the nearest of many names."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable


def nearest(word: str, names: Iterable[str], least: int = 60) -> str:
    """Give the name most like ``word``, case aside, or an empty text where none is at least ``least`` % alike."""
    known = {name: _plain(name) for name in names}
    plain = _plain(word)
    same = next((name for name, other in known.items() if plain and other == plain), "")
    if same:
        return same
    # The library takes 20 ms to load, and most unknown names are near to no other: an addition's own key, for one.
    if not plain or not any(_may_be_alike(plain, other, least) for other in known.values()):
        return ""
    from rapidfuzz import fuzz, process

    found = process.extractOne(plain, known, scorer=fuzz.ratio, score_cutoff=least)
    return str(found[2]) if found else ""


def _plain(name: str) -> str:
    """Give a name in small letters, with a space for each sign: what is compared."""
    return "".join(letter if letter.isalnum() else " " for letter in name).strip().lower()


def _may_be_alike(one: str, other: str, least: int) -> bool:
    """Tell whether two texts can be ``least`` % alike: by their lengths, then by the letters in common, order aside."""
    enough = least * (len(one) + len(other))
    return 200 * min(len(one), len(other)) >= enough and 200 * (Counter(one) & Counter(other)).total() >= enough
