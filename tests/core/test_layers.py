"""What counts as running, what a review shows, and what a check of lists and kinds finds: on plain values alone."""

from __future__ import annotations

from pathlib import Path

import pytest
from msgspec.structs import replace

from roundgate.core.checks import check_disk
from roundgate.core.files import ServerFiles, plain_form
from roundgate.core.layers import DifferenceCode, Known, LayerDifference, differing_layers, layers_of
from roundgate.core.operations.base import Operation
from roundgate.core.operations.names import Switch
from roundgate.core.operations.values import SetValue
from roundgate.core.review import ConsequenceCode, review_of
from roundgate.core.rulebook.model import About, File, Rulebook, Setting
from roundgate.core.slate import replay
from roundgate.core.text import Text
from roundgate.host.rulebooks import load_rulebook

CORE = "gullwind.properties"
BOOK = load_rulebook("gullwind", Path("."))


def files(core: str, courses: str = "Harbour Mile\nThe Narrows\n", book: Rulebook = BOOK) -> ServerFiles:
    return ServerFiles(book, {CORE: Text(core), "courses.txt": Text(courses)})


def known(**more: object) -> Known:
    disk = files("laps.count=5\nwind.scale=0.50\n")
    return Known(disk, disk, **more)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("sources", "running"),
    [
        ({}, None),
        ({"started": files("laps.count=4\n")}, "4"),
        ({"started": files("laps.count=4\n"), "world": {"race.laps": "6"}}, "6"),
        ({"started": files("laps.count=4\n"), "world": {"race.laps": "6"}, "live": {"race.laps": "7"}}, "7"),
        (
            {
                "started": files("laps.count=4\n"),
                "world": {"race.laps": "6"},
                "live": {"race.laps": "7"},
                "asked": {"race.laps": "8"},
            },
            "8",
        ),
    ],
    ids=["down", "started", "world", "live", "asked"],
)
def test_what_was_asked_counts_before_what_was_sent_and_that_before_what_was_read(
    sources: dict[str, object], running: str | None
) -> None:
    found = layers_of("race.laps", known(**sources))
    assert (found.disk, found.running, found.runs) == ("5", running, "started" in sources)


@pytest.mark.parametrize(
    "sources",
    [
        {},
        {"started": files("laps.count=5\nwind.scale=0.50\n")},
        {"started": files("laps.count=4\n")},
        {"started": files("laps.count=5\nwind.scale=0.50\n"), "live": {"race.laps": "7"}},
        {"started": files("laps.count=5\nwind.scale=0.50\n"), "world": {"race.laps": "6", "tide.mode": "neap"}},
        {"started": files("laps.count=5\nwind.scale=0.50\n"), "asked": {"wind.scale": "0.9"}},
        {"drifted": {"race.laps": 3}},
        {"slate": files("laps.count=9\n")},
        {"slate": files("laps.count=5\nwind.scale=0.50\n", courses="Harbour Mile\n")},
    ],
)
def test_the_settings_that_differ_are_found_without_looking_at_all(sources: dict[str, object]) -> None:
    disk = files("laps.count=5\nwind.scale=0.50\n")
    now = Known(disk, **{"slate": disk, **sources})  # type: ignore[arg-type]
    every = [layers_of(name, now) for name in BOOK.setting]
    assert differing_layers(now) == [layers for layers in every if layers.differences]


def test_another_spelling_of_the_running_value_is_no_difference() -> None:
    same = known(started=files("laps.count=5\nwind.scale=0.5\n"))
    assert layers_of("wind.scale", same).differences == ()
    other = known(started=files("laps.count=5\nwind.scale=0.6\n"))
    assert layers_of("wind.scale", other).differences == (LayerDifference(DifferenceCode.NEEDS_RESTART),)


@pytest.mark.parametrize(
    ("operation", "code"),
    [
        (SetValue(CORE, "laps.count", "9", "5", "race.laps"), ConsequenceCode.LIVE_POSSIBLE),
        (Switch(CORE, "laps.count", False, "race.laps"), ConsequenceCode.NEEDS_RESTART),
        (SetValue(CORE, "boat.slots", "9", None, "race.slots"), ConsequenceCode.NEEDS_RESTART),
    ],
)
def test_a_review_says_when_a_change_takes_effect(operation: Operation, code: ConsequenceCode) -> None:
    review = review_of(replay([operation], files("laps.count=5\n")))
    assert code in [consequence.code for consequence in review.consequences]


@pytest.mark.parametrize(
    "operation",
    [
        SetValue(CORE, "rcon_password", "low-tide-4711"),
        SetValue(CORE, "entry.code", "47114711", None, "entry.code"),
    ],
    ids=["by-its-name", "by-the-rulebook"],
)
def test_a_review_shows_no_secret(operation: Operation) -> None:
    review = review_of(replay([operation], files("rcon_password=old-tide-1147\n")))
    output = repr(review)
    assert "4711" not in output and "1147" not in output


def codes(courses: str, least: int, most: int | None) -> list[str]:
    spec = replace(BOOK.list["courses"], least=least, most=most)
    book = replace(BOOK, list={"courses": spec})
    found = check_disk("regatta", files("server.name=Gull Club\n", courses, book), {})
    return [finding.code for finding in found if finding.code.startswith("list-")]


def test_a_list_is_too_short_or_too_long_beyond_its_bounds_only() -> None:
    three = "Harbour Mile\nThe Narrows\nws:204815\n"
    assert codes(three, 3, 3) == []
    assert codes(three, 4, None) == ["list-short"]
    assert codes(three, 0, 2) == ["list-long"]


@pytest.mark.parametrize(
    ("stored", "kind", "found"),
    [("4", "int", []), ('"4"', "int", ["value-quoted"]), ('"4"', "text", []), ('"true"', "bool", ["value-quoted"])],
)
def test_a_number_or_a_bool_in_quotes_is_a_text(stored: str, kind: str, found: list[str]) -> None:
    book = Rulebook(
        rulebook=About(name="x", title="x"),
        file={"core": File(path="core.json", format="json", about="all")},
        setting={"slots": Setting(file="core", key="slots", type=kind, about="how many")},  # type: ignore[arg-type]
    )
    disk = ServerFiles(book, {"core.json": Text(f'{{"slots": {stored}}}')})
    assert [finding.code for finding in check_disk("quay", disk, {})] == found


def test_the_plain_form_of_a_number_does_not_hang_on_its_spelling() -> None:
    forms = {plain_form(BOOK, "wind.scale", spelling) for spelling in ("0.5", "0.50", "0.500")}
    assert len(forms) == 1
    assert plain_form(BOOK, "wind.scale", "0.6") not in forms
    assert plain_form(BOOK, "race.laps", "5") == plain_form(BOOK, "race.laps", "05")
