"""What can be wrong with the tables of ranks in a rulebook: names that lead nowhere, words that exclude each other."""

from __future__ import annotations

from collections.abc import Iterator

from roundgate.core.rulebook.model import Ranks, RecordSet, Rulebook
from roundgate.core.rulebook.setting_mistakes import expression_mistakes, unknown

Mistake = tuple[tuple[str, ...], str]


def rank_mistakes(book: Rulebook) -> Iterator[Mistake]:
    """Find what is wrong with the tables ``[ranks.NAME]``, each with the path of the value that is wrong."""
    for name, ranks in book.ranks.items():
        yield from ((("ranks", name, *at), cause) for at, cause in _mistakes(book, ranks))


def _mistakes(book: Rulebook, ranks: Ranks) -> Iterator[Mistake]:
    if bool(ranks.groups) == bool(ranks.levels):
        yield ("groups",), "One of 'groups' and 'levels' is needed: ranks are records, or numbers."
        return
    for word, name in (("groups", ranks.groups), ("levels", ranks.levels), *(("more", name) for name in ranks.more)):
        if name and name not in book.records:
            yield (word,), unknown("set of records", name, book.records)
            return
    for name in ranks.members:
        if name not in book.roster:
            yield ("members",), unknown("roster", name, book.roster)
    if ranks.when:
        yield from ((("when",), cause) for cause in expression_mistakes(book, ranks.when))
    file, colon, _ = ranks.newcomers.rpartition(":")
    if colon and file not in {file.path for file in book.file.values()}:
        yield ("newcomers",), unknown("file", file, {file.path: None for file in book.file.values()})
    if ranks.world and ranks.world not in book.setting:
        yield ("world",), unknown("setting", ranks.world, book.setting)
    yield from _field_mistakes(ranks, [book.records[set_name] for set_name in (ranks.groups, *ranks.more) if set_name])
    if ranks.levels and ranks.level not in book.records[ranks.levels].field:
        yield ("level",), unknown("field", ranks.level, book.records[ranks.levels].field)
    yield from _word_mistakes(ranks)


def _field_mistakes(ranks: Ranks, sets: list[RecordSet]) -> Iterator[Mistake]:
    fields = {name: field for spec in sets for name, field in spec.field.items()}
    held = () if ranks.levels else ("power", "newcomer") if ranks.flags else ("may", "power", "newcomer")
    for word in held:
        field = getattr(ranks, word)
        if field and field not in fields:
            yield (word,), unknown("field", field, fields)
    for word, usual in (("never", "never"), ("also", "also")):
        field = getattr(ranks, word)
        if field != usual and field not in fields:
            yield (word,), unknown("field", field, fields)
    if ranks.order == "highest-power" and not ranks.power:
        yield ("power",), "'highest-power' needs 'power', the field that says how much a rank has."
    if ranks.newcomer and ranks.newcomers:
        yield ("newcomer",), "'newcomer' and 'newcomers' exclude each other: one of them says the rank of newcomers."


def _word_mistakes(ranks: Ranks) -> Iterator[Mistake]:
    known = ranks.permissions
    for word, names in (("dangerous", ranks.dangerous), ("base", (*ranks.base, *ranks.base.values()))):
        for name in names if known else ():
            plain = name.removesuffix(ranks.wildcard) if ranks.wildcard else name
            if not any(other == name or (plain != name and other.startswith(plain)) for other in known):
                yield (word,), unknown("permission", name, known)
    steps = [step.name for step in ranks.ladder]
    for step in ranks.ladder:
        for name in step.also:
            if name not in steps:
                yield ("ladder",), unknown("rank of the ladder", name, dict.fromkeys(steps))
    if ranks.dangerous and not ranks.trusted:
        yield ("trusted",), "'dangerous' needs 'trusted', the lowest rank that may have such permissions."
