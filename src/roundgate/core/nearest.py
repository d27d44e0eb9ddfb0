"""Did you mean: the nearest of many names."""

from __future__ import annotations

import sys
from collections import Counter
from collections.abc import Iterable
from itertools import count

_FEW = 20
"""Words after which loading the library, some 20 ms, costs less than looking without it."""
_LOOKS = count()


def nearest_of_people(word: str, names: Iterable[str]) -> list[str]:
    """Return the names that are most like ``word``, all that are as near: a wrong person is worse than none."""
    known = sorted(set(names))
    if not nearest(word, known, least=75):
        return []
    from rapidfuzz.distance import OSA

    distances = {name: OSA.distance(word.lower(), name.lower()) for name in known}
    return [name for name in known if distances[name] == min(distances.values())]


def how_near(word: str, names: Iterable[str]) -> str:
    """Describe the name that the fewest letters part from ``word``; an empty text where there is no name at all."""
    from rapidfuzz.distance import OSA

    found = min(((OSA.distance(word.lower(), name.lower()), name) for name in names), default=None)
    if found is None:
        return ""
    return f"The nearest name is {found[1]}: {found[0]} {'letter differs' if found[0] == 1 else 'letters differ'}."


def nearest(word: str, names: Iterable[str], least: int = 60) -> str:
    """Return the name most like ``word``, case aside, or an empty text where none is at least ``least`` % alike."""
    known = list(names)
    if "rapidfuzz" not in sys.modules and next(_LOOKS) < _FEW:
        # Most unknown names are near to no other, such as an addition's own key, or differ in signs and case alone.
        plain = _plain(word)
        same = next((name for name in known if plain and _plain(name) == plain), "")
        if same or not plain or not any(_may_be_alike(plain, _plain(name), least) for name in known):
            return same
    from rapidfuzz import fuzz, process, utils

    # What has no letters would be wholly like any other such text.
    if not utils.default_process(word):
        return ""
    found = process.extractOne(word, known, scorer=fuzz.ratio, processor=utils.default_process, score_cutoff=least)
    return str(found[0]) if found else ""


def _plain(name: str) -> str:
    """Return a name in small letters, with a space for each sign: what is compared."""
    return "".join(letter if letter.isalnum() else " " for letter in name).strip().lower()


def _may_be_alike(one: str, other: str, least: int) -> bool:
    """Whether two texts can be ``least`` % alike: by their lengths, then by the letters in common, order aside."""
    enough = least * (len(one) + len(other))
    return 200 * min(len(one), len(other)) >= enough and 200 * (Counter(one) & Counter(other)).total() >= enough
