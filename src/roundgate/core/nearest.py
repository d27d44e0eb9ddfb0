"""Did you mean: the nearest of many names."""

from __future__ import annotations

from collections.abc import Iterable


def nearest(word: str, names: Iterable[str], least: int = 60) -> str:
    """Give the name most like ``word``, case aside, or an empty text where none is at least ``least`` % alike."""
    from rapidfuzz import fuzz, process, utils  # a misspelt name is the rare case; the common one starts faster

    found = process.extractOne(
        word, list(names), scorer=fuzz.ratio, processor=utils.default_process, score_cutoff=least
    )
    return str(found[0]) if found else ""
