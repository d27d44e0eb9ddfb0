"""Ranks, or people, by permissions: for each pair whether the one has the other, and how it comes to that."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from roundgate.core.ranks.model import RankMember
from roundgate.core.ranks.rights import Rights

CELLS = (
    "-",
    "yes",
    "yes *",
    "from above",
    "from above *",
    "no",
    "no *",
    "no, from above",
    "no, from above *",
)
"""What a cell says, by its number: nothing, granted, denied; by an own entry or one above; ``*`` by a wildcard."""
NOTHING, GRANTED, DENIED = 0, 1, 5
"""The numbers at which the kinds of cells begin."""


def is_granted(cell: int) -> bool:
    """Return whether a cell says that one may."""
    return GRANTED <= cell < DENIED


class Matrix(Struct, frozen=True):
    """A matrix: ``cells[n]`` are those of permission n, one for each column, as numbers of ``CELLS``."""

    columns: tuple[str, ...]
    permissions: tuple[str, ...]
    cells: tuple[bytes, ...]


def matrix_of(rights: Rights, holders: Sequence[RankMember], *, differs: bool = False) -> Matrix:
    """Work out the matrix of holders by the permissions of ``rights``; ``differs``: only those that not all have."""
    count = len(rights.permissions)
    held = [rights.of(member) for member in holders]
    columns = []
    for held_entry in held:
        bits = zip(
            *(_bits(mask, count) for mask in (held_entry.may, held_entry.may_not, held_entry.own, held_entry.wild)),
            strict=True,
        )
        columns.append(bytes(map(_NUMBER.__getitem__, bits)))
    rows = [bytes(row) for row in zip(*columns, strict=True)] if columns else [b""] * count
    chosen = range(count)
    kept = [at for at in chosen if not differs or len({is_granted(cell) for cell in rows[at]}) > 1]
    return Matrix(
        tuple(member.name for member in holders),
        tuple(rights.permissions[at] for at in kept),
        tuple(rows[at] for at in kept),
    )


def _bits(mask: int, count: int) -> str:
    return format(mask, f"0{count}b")[::-1] if count else ""


def _number(may: str, may_not: str, own: str, wild: str) -> int:
    if "1" not in (may, may_not):
        return NOTHING
    return (GRANTED if may == "1" else DENIED) + (own == "0") * 2 + (wild == "1")


_NUMBER = {bits: _number(*bits) for bits in ((a, b, c, d) for a in "01" for b in "01" for c in "01" for d in "01")}
"""The number of a cell by its four bits: a table, for there may be a million cells."""
