"""Changes of ranks in every form: what is asked for and nothing else, and read so by the server."""

from __future__ import annotations

import random
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

import pytest

import sampling
from rank_shapes import PERMISSIONS, SAILORS, SHAPES, WORLD, members_of, theirs
from roundgate.api.rank_changes import RankChanges
from roundgate.api.site import open_site
from roundgate.core.files import ServerFiles
from roundgate.core.operations.base import Operation
from roundgate.core.operations.registry import merged
from roundgate.core.ranks.deciding import decide
from roundgate.core.ranks.model import RankMember, Scheme
from roundgate.core.ranks.reading import schemes_of
from roundgate.host.errors import Trouble

SEEDS = 8 if sampling.ALL else 3
"""So many changes of each kind are made in each form."""
VERBS = ("grant", "deny", "withdraw", "add", "copy", "rename", "remove", "join", "leave", "default")
NEW = "steward"


def site_of(kept: str, seed: int, folder: Path) -> dict[str, str]:
    """Make a site with one server whose ranks are random, with a comment in each file; return its files of ranks."""
    files = SHAPES[kept](random.Random(f"edit {kept}{seed}"))
    home = folder / "regatta"
    (folder / "roundgate.toml").write_text(
        '[site]\nname = "S"\n\n[server.regatta]\nfolder = "regatta"\nstart = ["true"]\nrulebook = "gullwind"\n'
    )
    for name, text in files.items():
        mark = "//" if name.endswith(".cfg") else "#"
        if not name.endswith(".json"):
            files[name] = f"{mark} Kept by hand.\n{text}"
        (home / name).parent.mkdir(parents=True, exist_ok=True)
        (home / name).write_text(files[name])
    (home / "gullwind.properties").write_text(f"ranks.kept={kept}\nworld.save={WORLD}\n")
    return files


class Edited(NamedTuple):
    """A change that was asked for, and what became of it."""

    verb: str
    words: list[str]
    before: Scheme
    after: Scheme
    texts: dict[str, str]


def edited(kept: str, seed: int, folder: Path) -> Edited | None:
    """Make a random change; None where it is refused in words, and nothing is changed then."""
    files = site_of(kept, seed, folder)
    dice = random.Random(f"{kept}{seed} words")
    with open_site(folder) as site:
        server = site.server("regatta")
        before = server.workspace.outcome(()).before
        (scheme,) = schemes_of(before)
        ranks, people = list(scheme.groups), list(scheme.members)
        verb, rank = VERBS[seed % len(VERBS)], dice.choice(ranks)
        some, who = dice.sample(PERMISSIONS, dice.randint(1, 2)), dice.choice([*people, SAILORS[5]])
        changes = RankChanges(site.site, server)
        try:
            match verb:
                case "grant":
                    words, made = [rank, *some], changes.granted(rank, some)
                case "deny":
                    words, made = [rank, *some], changes.denied(rank, some)
                case "withdraw":
                    held = [entry.permission for entry in scheme.groups[rank].entries]
                    some = dice.sample(held, min(2, len(held))) or some
                    words, made = [rank, *some], changes.withdrawn(rank, list(dict.fromkeys(some)))
                case "add":
                    words, made = [NEW, rank], changes.added(NEW, [], rank)
                case "copy":
                    words, made = [rank, NEW], changes.copied(rank, NEW)
                case "rename":
                    words, made = [rank, NEW], changes.renamed(rank, NEW)
                case "remove":
                    to = dice.choice([one for one in ranks if one != rank] or [""])
                    words, made = [rank, to], changes.removed(rank, to)
                case "join":
                    words, made = [rank, who], changes.joined(rank, [who])
                case "leave":
                    words, made = [rank, who], changes.left(rank, [who])
                case _:
                    words, made = [rank], changes.default(rank)
        except Trouble as error:
            assert error.what and not error.what.startswith("'Ranks'")
            return None
        slate: list[Operation] = []
        for operation in made:
            slate = merged(slate, operation)
        outcome = server.workspace.outcome(slate)
        assert not outcome.refused, (verb, words, outcome.refused, files)
        (after,) = schemes_of(outcome.after)
        return Edited(verb, words, scheme, after, _texts(outcome.after, files))


def _texts(after: ServerFiles, files: dict[str, str]) -> dict[str, str]:
    return {name: after.texts[name].body for name in after.texts if name in files or name != "gullwind.properties"}


def grants(scheme: Scheme, rank: str) -> dict[str, bool]:
    """Return what a rank's own entries say, the last of each permission."""
    return {entry.permission: entry.allows for entry in scheme.groups[rank].entries}


def named(scheme: Scheme) -> Iterator[str]:
    """Yield every name of a rank, wherever it is."""
    yield from scheme.groups
    yield from (parent for group in scheme.groups.values() for parent in group.parents)
    yield from (one for member in scheme.members.values() for one in member.groups)
    yield scheme.default


def check(one: Edited, kept: str) -> None:
    """See that a change is what was asked for, and that what it is not about is as it was."""
    rank, before, after = one.words[0], one.before, one.after
    touched = {rank, NEW}
    match one.verb:
        case "grant" | "deny" if kept != "levels":
            wanted = dict.fromkeys(one.words[1:], one.verb == "grant")
            assert {name: may for name, may in grants(after, rank).items() if name in wanted} == wanted
        case "grant":
            assert all(name in grants(after, rank) for name in one.words[1:])
            touched = set(before.groups)  # what a permission needs goes from one level to another
        case "withdraw":
            assert rank not in after.groups or not set(one.words[1:]) & set(grants(after, rank))
        case "add" | "copy":
            source = one.words[1] if one.verb == "add" else rank
            old, new = RankMember(source, source, (source,)), RankMember(NEW, NEW, (NEW,))
            for each in PERMISSIONS:
                assert decide(old, each, before).may == decide(new, each, after).may, "as the one that it is like"
        case "rename":
            assert rank not in set(named(after)) and (NEW in after.groups)
            assert [NEW if name == rank else name for name in named(before)] == list(named(after))
            for each in PERMISSIONS:
                old, new = RankMember(rank, rank, (rank,)), RankMember(NEW, NEW, (NEW,))
                assert decide(old, each, before).may == decide(new, each, after).may, "its rights are as they were"
        case "remove":
            assert rank not in set(named(after)) and set(after.groups) == set(before.groups) - {rank}
            touched = set(before.groups)  # those below it get what was above it
        case "join":
            assert rank in after.members[one.words[1]].groups
        case "leave":
            assert one.words[1] not in after.members or rank not in after.members[one.words[1]].groups
        case _:
            assert after.default == rank and after.defaults == (rank,)
    for name in before.groups:
        if name not in touched and (name in after.groups or kept != "levels"):
            old, new = ([(x.permission, x.allows) for x in s.groups[name].entries] for s in (before, after))
            assert old == new, "another rank's permissions are as they were"
    about = {"join", "leave", "remove", "rename"}
    for sailor, member in before.members.items():
        if one.verb not in about or (one.verb in ("join", "leave") and sailor != one.words[1]):
            assert after.members[sailor].groups == member.groups
            assert len(after.members[sailor].entries) == len(member.entries)


@pytest.mark.parametrize("kept", SHAPES)
def test_a_change_is_what_was_asked_for_and_the_server_reads_it_so(kept: str, tmp_path: Path) -> None:
    done: set[str] = set()
    for seed in range(SEEDS * len(VERBS)):
        folder = tmp_path / f"site{seed}"
        folder.mkdir()
        one = edited(kept, seed, folder)
        if one is None:
            continue
        done.add(one.verb)
        check(one, kept)
        there = tmp_path / f"read{seed}"
        answer = theirs(kept, one.texts, there)
        for sailor, member in members_of(one.after).items():
            for permission in PERMISSIONS:
                assert decide(member, permission, one.after).may == answer(sailor, permission), (one.verb, one.words)
        for name, text in one.texts.items():
            if not name.endswith(".json"):
                assert "Kept by hand." in text, "a comment stays"
    least = {"levels": {"grant", "withdraw", "join", "leave"}, "stores": set(VERBS) - {"deny"}}
    fixed = {"lines": {"default"}}.get(kept, set())
    assert done >= least.get(kept, set(VERBS)) - fixed, f"never done: {set(VERBS) - done}"
