"""Many edits of one document as one: their splices together, and the tree that promises all that they promise.

The edits are worked out of the same document, so that it is read and confirmed once and not once for each. Nothing is
taken on trust: the joined edit is confirmed like any other, and where it cannot be made the edits go one by one.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from roundgate.core.formats.protocol import Edit
from roundgate.core.text import Splice

Tree = Any


class NotJoinable(ValueError):
    """Edits that cannot be made as one."""


def joined(plain: Tree, edits: Sequence[Edit]) -> Edit:
    """Join edits of a document whose tree is ``plain``. Raises NotJoinable where two are about the same place."""
    return Edit(_together(edits), _merged(plain, [edit.expected for edit in edits]))


def _together(edits: Sequence[Edit]) -> tuple[Splice, ...]:
    """Return the splices of all; what several insert in the same place is put there in their order."""
    inserted: dict[int, list[str]] = {}
    others: list[Splice] = []
    for edit in edits:
        for cut in edit.splices:
            if cut.start == cut.end:
                inserted.setdefault(cut.start, []).append(cut.new)
            else:
                others.append(cut)
    return (*others, *(Splice(at, at, "".join(texts)) for at, texts in inserted.items()))


def _merged(before: Tree, afters: Sequence[Tree]) -> Tree:
    """Make all changes that lead from ``before`` to each of ``afters``. A part that is the same object is alike."""
    afters = [after for after in afters if after is not before]
    if len(afters) < 2:
        return afters[0] if afters else before
    if isinstance(before, dict) and all(isinstance(after, dict) for after in afters):
        return _merged_names(before, afters)
    if _is_map(before) and all(_is_map(after) for after in afters):
        return tuple(_merged_names(_named(before), [_named(after) for after in afters]).items())
    if isinstance(before, list) and all(isinstance(after, list) for after in afters):
        return _merged_list(before, afters)
    changed = [after for after in afters if after != before]
    if len(changed) > 1:
        raise NotJoinable("two edits change the same place")
    return changed[0] if changed else before


def _is_map(tree: Tree) -> bool:
    """Return whether a tuple is a map, as pairs; of some formats a single value is a tuple too."""
    return isinstance(tree, tuple) and all(isinstance(pair, tuple) and len(pair) == 2 for pair in tree)


def _named(pairs: tuple[Any, ...]) -> dict[Any, Tree]:
    named = dict(pairs)
    if len(named) < len(pairs):
        raise NotJoinable("a name is there twice")
    return named


def _merged_names(before: dict[Any, Tree], afters: Sequence[dict[Any, Tree]]) -> dict[Any, Tree]:
    if any(list(after)[: len(before)] != list(before) for after in afters):
        raise NotJoinable("names were taken out, or are in another order")
    made = {name: _merged(value, [after[name] for after in afters]) for name, value in before.items()}
    for after in afters:
        for name in list(after)[len(before) :]:
            if name in made:
                raise NotJoinable(f"{name} is added twice")
            made[name] = after[name]
    return made


def _merged_list(before: list[Tree], afters: Sequence[list[Tree]]) -> list[Tree]:
    """Merge by the stretch of the list that each edit replaces; items that several change are merged themselves."""
    items: dict[int, list[Tree]] = {}
    stretches: dict[tuple[int, int], list[Tree]] = {}
    for after in afters:
        start, end, new = _stretch(before, after)
        if end - start == 1 == len(new):
            items.setdefault(start, []).append(new[0])
        elif start == end:
            stretches.setdefault((start, end), []).extend(new)
        elif (start, end) in stretches:
            raise NotJoinable("two edits change the same place")
        else:
            stretches[start, end] = new
    for at, several in items.items():
        if (at, at + 1) in stretches:
            raise NotJoinable("an edit changes what another one takes out")
        stretches[at, at + 1] = [_merged(before[at], several)]
    made: list[Tree] = []
    last = 0
    for (start, end), new in sorted(stretches.items(), key=lambda edit: edit[0]):
        if start < last:
            raise NotJoinable("two edits overlap")
        made += [*before[last:start], *new]
        last = end
    return [*made, *before[last:]]


def _stretch(before: list[Tree], after: list[Tree]) -> tuple[int, int, list[Tree]]:
    """Return where a list differs from another: from which item to which, and what takes their place."""
    start, least = 0, min(len(before), len(after))
    while start < least and (before[start] is after[start] or before[start] == after[start]):
        start += 1
    back = 0
    while back < least - start and (before[-1 - back] is after[-1 - back] or before[-1 - back] == after[-1 - back]):
        back += 1
    return start, len(before) - back, after[start : len(after) - back]
