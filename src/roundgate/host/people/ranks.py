"""What a slate alters of what people may do, for its review."""

from __future__ import annotations

from roundgate.core.review import Consequence, ConsequenceCode
from roundgate.core.slate import Outcome
from roundgate.host.errors import Trouble
from roundgate.host.people.book import load_people
from roundgate.host.servers import Server

_MOST = 8
"""So many are said in a review; ``ranks impact`` says all."""


def rank_consequences(server: Server, outcome: Outcome) -> list[Consequence]:
    """Say who gains and who loses which permission, where ranks or their members change."""
    book = outcome.before.book
    if book.ranks is None:
        return []
    sets = [book.records[book.ranks.groups], *(book.records[book.roster[name].records] for name in book.ranks.members)]
    if not {book.file[one.file].path for one in sets} & set(outcome.touched):
        return []
    from roundgate.core.ranks.impact import impact, shift_words
    from roundgate.core.ranks.reading import scheme_of

    try:
        people = load_people(server.site)
    except Trouble:
        people = None
    before, after = scheme_of(outcome.before, people), scheme_of(outcome.after, people)
    if before is None or after is None:
        return []
    shifts = impact(before, after, tuple(book.ranks.permissions))
    found = [Consequence(ConsequenceCode.RIGHTS, (), {"what": shift_words(one)}) for one in shifts[:_MOST]]
    if len(shifts) > _MOST:
        words = f"{len(shifts) - _MOST} more changes of rights: roundgate ranks impact {server.name}"
        found.append(Consequence(ConsequenceCode.RIGHTS, (), {"what": words}))
    return found
