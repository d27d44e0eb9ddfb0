"""Ranks in every form: decided as the server decides; many at once as one by one; what changes, and how it is shown."""

from __future__ import annotations

import random
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

import sampling
from rank_shapes import PERMISSIONS, SAILORS, SHAPES, WORDS, members_of, ours, theirs
from roundgate.core.findings import Place
from roundgate.core.ranks.deciding import ORDER_TEXTS, decide, is_about
from roundgate.core.ranks.expected import ExpectationProblem, outcomes, read_expectations
from roundgate.core.ranks.impact import impact
from roundgate.core.ranks.matrix import CELLS, is_granted, matrix_of
from roundgate.core.ranks.model import RankEntry, RankGroup, RankMember, Scheme
from roundgate.core.ranks.rights import Rights
from roundgate.core.text import Text
from roundgate.host.people.book import read_people
from roundgate.host.people.permissions import names_in

SEEDS = 100 if sampling.ALL else 30


@pytest.mark.parametrize("kept", SHAPES)
def test_random_ranks_are_decided_as_the_server_decides(kept: str, tmp_path: Path) -> None:
    """Both read the same files, by code that shares nothing."""
    allowed = 0
    for seed in range(SEEDS):
        files = SHAPES[kept](random.Random(f"{kept}{seed}"))
        folder = tmp_path / str(seed)
        scheme, answer = ours(kept, files, tmp_path), theirs(kept, files, folder)
        for sailor, member in members_of(scheme).items():
            for permission in PERMISSIONS:
                may = decide(member, permission, scheme).may
                assert may == answer(sailor, permission), (seed, sailor, permission, files)
                allowed += may
    asked = SEEDS * len(SAILORS) * len(PERMISSIONS)
    assert asked / 20 < allowed < asked * 19 / 20, "the examples must have both answers in them"


ENTRIES = st.tuples(
    st.sampled_from(WORDS), st.booleans(), st.lists(st.sampled_from(PERMISSIONS), max_size=2).map(tuple)
)
NAMES = ["a", "b", "c", "d"]


def entries(found: list[tuple[str, bool, tuple[str, ...]]], holder: str) -> tuple[RankEntry, ...]:
    """Make entries; only wildcards leave something out."""
    return tuple(
        RankEntry(one, allows, holder, Place(""), but if one.endswith("*") else ()) for one, allows, but in found
    )


@st.composite
def schemes(draw: st.DrawFn) -> Scheme:
    """Make a scheme of any order, with circles, powers, ranks that are not there, and own entries."""
    groups = {}
    for name in NAMES[: draw(st.integers(1, 4))]:
        held = entries(draw(st.lists(ENTRIES, max_size=4)), name)
        parents = tuple(draw(st.lists(st.sampled_from(NAMES), max_size=2, unique=True)))
        groups[name] = RankGroup(name, held, parents, float(draw(st.integers(0, 2))))
    members = {}
    for number in range(draw(st.integers(0, 3))):
        own = entries(draw(st.lists(ENTRIES, max_size=2)), f"m{number}")
        inside = tuple(draw(st.lists(st.sampled_from(NAMES), max_size=2, unique=True)))
        members[f"m{number}"] = RankMember(f"m{number}", f"m{number}", inside, own)
    order = draw(st.sampled_from(list(ORDER_TEXTS)))
    default = draw(st.sampled_from(["", *NAMES]))
    case, unknown = draw(st.booleans()), draw(st.booleans())
    return Scheme(groups, members, default, order, any_case=case, unknown=unknown)  # type: ignore[arg-type]


@settings(max_examples=300)
@given(schemes(), st.sets(st.sampled_from([*WORDS, "Race.Start", "race.start.now"]), min_size=1))
def test_many_at_once_are_decided_as_one_by_one(scheme: Scheme, permissions: set[str]) -> None:
    """The bits of everybody are what the questions, asked singly, answer; and so are the cells of the matrix."""
    rights = Rights(scheme, permissions)
    everybody = [
        *scheme.members.values(),
        scheme.newcomer(),
        *(RankMember(group, group, (group,)) for group in scheme.groups),
    ]
    matrix = matrix_of(rights, everybody)
    for at, member in enumerate(everybody):
        held = rights.of(member)
        assert held.may & held.may_not == 0
        for row, permission in enumerate(rights.permissions):
            answer, bit = decide(member, permission, scheme), rights.bit(permission)
            assert bool(held.may & bit) == (answer.may and answer.entry is not None), (member, permission)
            assert bool(held.may_not & bit) == (not answer.may and answer.entry is not None), (member, permission)
            cell = matrix.cells[row][at]
            assert is_granted(cell) == bool(held.may & bit)
            assert CELLS[cell].startswith("no") == bool(held.may_not & bit)
            assert ("from above" in CELLS[cell]) == (answer.entry is not None and not bool(held.own & bit))
            if answer.entry is not None and CELLS[cell].endswith("*"):
                assert answer.entry.permission.endswith("*"), "no entry that names it decides"
        assert rights.names(held.may) == [one for one in rights.permissions if held.may & rights.bit(one)]
    differing = matrix_of(rights, everybody, differs=True)
    assert set(differing.permissions) == {
        one
        for one, row in zip(matrix.permissions, matrix.cells, strict=True)
        if len({is_granted(cell) for cell in row}) > 1
    }


@settings(max_examples=150)
@given(schemes(), schemes())
def test_the_impact_is_what_the_answers_differ_by(before: Scheme, after: Scheme) -> None:
    """Whoever is named gains or loses just that; whatever differs is said, or a wildcard that covers it is."""
    after = replace(after, any_case=before.any_case, wildcard=before.wildcard)
    shifts = impact(before, after, PERMISSIONS)
    output = {
        (name, shift.gains, one) for shift in shifts for name in shift.people for one in shift.permission.split(", ")
    }
    everybody = dict.fromkeys((*before.members, *after.members))
    people = [("newcomers", before.newcomer(), after.newcomer())]
    people += [
        (person, before.members.get(person, before.newcomer()), after.members.get(person, after.newcomer()))
        for person in everybody
    ]
    for name, had, has in people:
        for permission in PERMISSIONS:
            old, new = decide(had, permission, before).may, decide(has, permission, after).may
            hits = {
                gains
                for who, gains, one in output
                if who == name and is_about(RankEntry(one, True, "", Place("")), permission, after)
            }
            if old != new:
                assert new in hits, (name, permission)
            elif (name, True, permission) in output or (name, False, permission) in output:
                raise AssertionError(f"{name} neither gains nor loses {permission}")
    assert impact(before, before, PERMISSIONS) == []


def test_expectations_are_read_with_the_lines_of_their_mistakes() -> None:
    text = '# ours\n[[expect]]\nwho = ["Wren", "marshal"]\nmay = "race.abort"\n\n'
    text += '[[expect]]\nwho = "newcomers"\nmay-not = ["a", "b"]\n'
    found = read_expectations(text)
    assert [(item.description, item.on, item.line) for item in found] == [
        ("Wren may race.abort", "@all", 2),
        ("marshal may race.abort", "@all", 2),
        ("newcomers may not a", "@all", 6),
        ("newcomers may not b", "@all", 6),
    ]
    for broken, line in (
        (text + "[[expect]]\nwho = 3\n", 9),
        (text + "[[expect\n", 9),
        (text + "[[expect]]\nmay = 'x'\n", 9),
    ):
        with pytest.raises(ExpectationProblem) as caught:
            read_expectations(broken)
        assert caught.value.line in (line, line + 1), str(caught.value)


def test_expectations_know_names_ids_ranks_newcomers_and_the_people_book() -> None:
    people = read_people(Text('[person.wren]\nname = "Wren"\nids.sailor = ["GW-7K3M-Q2XD"]\nalso = ["Jenny"]\n'))
    mate = RankGroup("mate", (RankEntry("race.abort", True, "mate", Place("r", 1)),))
    wren = RankMember("GW-7K3M-Q2XD", "Wren", ("mate",))
    twins = {identifier: RankMember(identifier, "Twin", ("mate",)) for identifier in ("GW-0001-TWIN", "GW-0002-TWIN")}
    scheme = Scheme({"mate": mate, "boy": RankGroup("boy")}, {wren.id: wren, **twins}, "boy")
    text = "\n".join(
        f'[[expect]]\non = "{on}"\nwho = "{who}"\nmay = "race.abort"'
        for on, who in (
            ("@all", "wren"),
            ("regatta", "Jenny"),
            ("regatta, harbour", "mate"),
            ("@all", "newcomers"),
            ("harbour", "Wren"),
            ("@all", "Nobody"),
            ("@all", "twin"),
            ("@all", "GW-0002-TWIN"),
        )
    )
    found = list(outcomes(read_expectations(text), [scheme], people, {"@all", "regatta"}))
    assert [(item.expectation.who, item.is_met, bool(item.unknown)) for item in found] == [
        ("wren", True, False),
        ("Jenny", True, False),
        ("mate", True, False),
        ("newcomers", False, False),
        ("Nobody", False, True),
        ("twin", False, True),
        ("GW-0002-TWIN", True, False),
    ]
    assert found[-2].unknown == "several are called 'twin': give the id"


def test_permissions_are_found_in_any_text() -> None:
    text = """Lanterns 2.1, see https://lanterns.example/docs.html or mail a.b@mods.example
    | lanterns.light | lights them |
      - lanterns.douse.all: op   (config in mods/lanterns/settings.toml, version 1.2.3)
    "lanterns.*", lanterns.light, `lanterns.oil-can`."""
    assert names_in(text) == ["lanterns.light", "lanterns.douse.all", "lanterns.*", "lanterns.oil-can"]
