"""Characters that are not seen, and act on whoever reads the line that holds them."""

from __future__ import annotations

from roundgate.core.patterns import lazy

# Controls and line ends; the soft hyphen, joiners, fillers and others of no width; what turns the direction of writing
# round; tags; and halves of characters.
_ACTS = lazy(
    "[\x00-\x1f\x7f-\x9f\u00ad\u034f\u061c\u115f\u1160\u17b4\u17b5\u180b-\u180f\u200b-\u200f\u2028-\u202e\u2060-\u206f\u3164\ufeff"
    "\uffa0\ufff9-\ufffb\ud800-\udfff\U000e0000-\U000e0fff]"
)


def first_unseen(text: str) -> str:
    """Return the first character of a text that is not seen and acts on the line, empty where there is none.

    Source: Unicode 15, the general categories Cc, Cs, Zl and Zp, what of Cf has no width, and the fillers. The
    selectors of a form, which emoji end with, are allowed.
    """
    found = _ACTS.search(text)
    return found[0] if found is not None else ""
