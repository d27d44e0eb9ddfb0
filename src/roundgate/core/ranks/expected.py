"""Expectations: who should and should not be allowed what, written down once and compared with every change.

```toml
[[expect]]
on = "@ranked"
who = ["Wren", "marshal"]
may = ["race.abort"]
may-not = ["rank.give"]
```
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from collections.abc import Set as AbstractSet

from msgspec import Struct, ValidationError
from msgspec.toml import decode

from roundgate.core.patterns import lazy
from roundgate.core.people.book import People
from roundgate.core.ranks.deciding import Answer, decide, permissions_of
from roundgate.core.ranks.impact import NEWCOMERS
from roundgate.core.ranks.model import RankMember, Scheme

Text = str | tuple[str, ...]


_TABLE = lazy(r"^[ \t]*\[\[[ \t]*expect", re.MULTILINE)


class ExpectationProblem(Exception):
    """A file of expectations that cannot be read; ``line`` is 0 where that is not known."""

    def __init__(self, cause: str, line: int = 0) -> None:
        super().__init__(cause)
        self.line = line


class Expectation(Struct, frozen=True):
    """One expectation: somebody, or a rank, who should or should not be allowed something, on servers."""

    on: str
    who: str
    permission: str
    may: bool
    line: int

    @property
    def description(self) -> str:
        """Describe it."""
        return f"{self.who} {'may' if self.may else 'may not'} {self.permission}"


class _Table(Struct, frozen=True, rename="kebab", forbid_unknown_fields=True):
    who: Text
    on: str = "@all"
    may: Text = ()
    may_not: Text = ()


class _File(Struct, frozen=True, forbid_unknown_fields=True):
    expect: tuple[_Table, ...] = ()


def read_expectations(text: str) -> list[Expectation]:
    """Read a file of expectations. Raises ExpectationProblem."""
    starts = [
        text.count("\n", 0, hit.start()) + 1 for hit in re.finditer(r"^[ \t]*\[\[[ \t]*expect", text, re.MULTILINE)
    ]
    try:
        found = decode(text.encode(), type=_File)
    except ValidationError as error:
        number = re.search(r"\$\.expect\[(\d+)\]", str(error))
        line = starts[int(number[1])] if number and int(number[1]) < len(starts) else 0
        raise ExpectationProblem(str(error).partition(" - at")[0], line) from error
    except ValueError as error:
        at = re.search(r"line (\d+)", str(error))
        raise ExpectationProblem(re.sub(r" \(at .*", "", str(error)), int(at[1]) if at else 0) from error
    return [
        expectation
        for number, table in enumerate(found.expect)
        for expectation in _of_table(table, _line(starts, number))
    ]


class ExpectationResult(Struct, frozen=True):
    """An expectation, and what the ranks of a server say of it; ``unknown`` says what of it is not known there."""

    expectation: Expectation
    scheme: Scheme
    answer: Answer | None = None
    unknown: str = ""

    @property
    def is_met(self) -> bool:
        """Return whether it is as expected."""
        return self.answer is not None and self.answer.may == self.expectation.may


def outcomes(
    expectations: Iterable[Expectation], schemes: Sequence[Scheme], people: People, places: AbstractSet[str]
) -> Iterator[ExpectationResult]:
    """Compare the expectations of a server with its ranks; ``places`` are the names by which they mean the server."""
    for expectation in expectations:
        if not places & {word.strip() for word in expectation.on.split(",")}:
            continue
        scheme = next((found for found in schemes if expectation.permission in permissions_of(found)), schemes[0])
        member = holder_of(scheme, people, expectation.who)
        if member is None:
            count = sum(1 for member in scheme.members.values() if member.name.lower() == expectation.who.lower())
            nobody = f"there is no person and no rank called '{expectation.who}'"
            yield ExpectationResult(
                expectation,
                scheme,
                unknown=f"several are called '{expectation.who}': give the id" if count > 1 else nobody,
            )
            continue
        yield ExpectationResult(expectation, scheme, decide(member, expectation.permission, scheme))


def holder_of(scheme: Scheme, people: People, word: str) -> RankMember | None:
    """Return whom a word of an expectation means: a member by name or id, a rank, newcomers, or one of the book."""
    lowered = word.lower()
    if lowered == NEWCOMERS:
        return scheme.newcomer()
    found = [member for member in scheme.members.values() if lowered in (member.id.lower(), member.name.lower())]
    if found:
        return found[0] if len(found) == 1 else None
    group = next((name for name in scheme.groups if name.lower() == lowered), "")
    if group:
        return RankMember(group, group, (group,))
    keys = people.find(word)
    ids = [person_id for key in keys for person_id in people.people[key].all_ids()]
    if not keys:
        return None
    return next(
        (scheme.members[person_id] for person_id in ids if person_id in scheme.members),
        RankMember("", people.people[keys[0]].name),
    )


def _line(starts: list[int], number: int) -> int:
    return starts[number] if number < len(starts) else 1


def _of_table(table: _Table, line: int) -> Iterator[Expectation]:
    for who in _several(table.who):
        for permissions, may in ((table.may, True), (table.may_not, False)):
            for permission in _several(permissions):
                yield Expectation(table.on, who, permission, may, line)


def _several(text: Text) -> tuple[str, ...]:
    return (text,) if isinstance(text, str) else text
