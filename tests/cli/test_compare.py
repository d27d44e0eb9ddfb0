"""``compare`` and ``preset``: what differs between servers, defaults, presets and rounds, and named sets of values."""

from __future__ import annotations

import csv
import io
import json
from typing import Any

import pytest
from tests.conftest import SiteUnderTest


@pytest.fixture
def club(site: SiteUnderTest) -> SiteUnderTest:
    """Two servers of one game that differ in three settings, a list and a file."""
    one = site.add("regatta", "boat.slots=16\ngust.limit=20\nentry.code=11223344\nwind.scale=0.50\n")
    two = site.add("harbour", "server.motto=007\nboat.slots=24\ngust.limit=20\nentry.code=55667788\nwind.scale=0.5\n")
    (two / "courses.txt").write_text("Harbour Mile\n")
    (one / "guestlist.txt").write_text("GW-7K3M-Q2XD\n")
    (one / "ranks.yml").write_text("newcomers: deckhand\nranks:\n  deckhand:\n    may: [race.start]\n")
    (one / "weather.ini").write_text("[gusts]\nstrength=1.0\npassword=low-tide\n")
    (two / "weather.ini").write_text("[gusts]\nstrength=2.0\npassword=high-tide\n")
    return site


def rows(site: SiteUnderTest, *words: str) -> dict[str, dict[str, Any]]:
    done = site.run("compare", *words, "--json")
    assert done.returncode in (0, 1), done.stderr
    return {row["name"]: row for row in json.loads(done.stdout)["rows"]}


def test_two_servers_differ_in_what_their_files_mean_and_not_in_spelling(club: SiteUnderTest) -> None:
    found = rows(club, "regatta", "harbour")
    assert found["race.slots"]["values"] == ["16", "24"]
    assert found["courses"]["values"] == ["Harbour Mile, The Narrows", "Harbour Mile"]
    assert found["weather.ini:gusts.strength"]["values"] == ["1.0", "2.0"]
    assert found["guests"]["values"] == ["1", "0"] and found["ranks"]["values"] == ["1", "0"]
    assert (found["ranks.yml"]["kind"], found["ranks.yml"]["values"]) == ("file", ["1 value", "(no such file)"]), (
        "what is in the file beside its records"
    )
    assert "gust.limit" not in found and "wind.scale" not in found
    everything = rows(club, "regatta", "harbour", "--all")
    assert everything["gust.limit"]["same"] is True and set(found) < set(everything)


def test_a_file_that_both_have_is_compared_key_by_key_though_one_has_nothing_unknown_in_it(club: SiteUnderTest) -> None:
    with (club.folder / "harbour" / "gullwind.properties").open("a") as file:
        file.write("mod.sails=red\n")
    found = rows(club, "regatta", "harbour")
    assert found["gullwind.properties:mod.sails"]["values"] == [None, "red"] and "gullwind.properties" not in found


def test_secrets_are_compared_and_never_shown(club: SiteUnderTest) -> None:
    assert rows(club, "regatta", "harbour")["entry.code"]["values"] == ["(set, hidden)", "(set, hidden)"]
    output = "".join(club.run("compare", "regatta", "harbour", *form).stdout for form in ([], ["--json"], ["--csv"]))
    for secret in ("11223344", "55667788", "low-tide", "high-tide"):
        assert secret not in output
    assert "weather.ini:gusts.password" in output, "that it differs is told"


def test_a_side_may_be_the_defaults_a_preset_or_a_round(club: SiteUnderTest) -> None:
    found = rows(club, "regatta", "defaults")
    assert found["race.slots"]["values"] == ["16", "12 (default)"] and "gust.limit" in found
    assert "tide.mode" not in found, "a default that is not in the file is not a difference"
    assert rows(club, "regatta", "preset:gentle")["gust.limit"]["values"] == ["20", "12"]
    assert set(rows(club, "regatta", "preset:gentle")) <= {"gust.limit", "hull.damage", "race.collisions"}
    club.ok("set", "regatta", "race.slots=20")
    club.ok("apply", "regatta", "--yes")
    found = rows(club, "regatta", "round:1")
    assert {name: row["values"] for name, row in found.items()} == {"race.slots": ["20", "16"]}


def test_three_sides_are_columns_in_csv_and_the_exit_code_tells_whether_anything_differs(club: SiteUnderTest) -> None:
    done = club.run("compare", "regatta", "harbour", "defaults", "--csv")
    head, *lines = list(csv.reader(io.StringIO(done.stdout)))
    assert done.returncode == 1 and head == ["name", "regatta", "harbour", "defaults"]
    assert ["race.slots", "16", "24", "12 (default)"] in lines
    (club.folder / "harbour" / "gullwind.properties").write_bytes(
        (club.folder / "regatta" / "gullwind.properties").read_bytes()
    )
    for name in ("courses.txt", "weather.ini", "guestlist.txt", "ranks.yml", "launch.sh"):
        (club.folder / "harbour" / name).write_bytes((club.folder / "regatta" / name).read_bytes())
    assert "Nothing differs" in club.ok("compare", "regatta", "harbour")


@pytest.mark.parametrize(
    ("words", "code", "expected"),
    [
        (["regatta"], 2, "Two sides are needed"),
        (["defaults", "defaults"], 2, "a server among them"),
        (["regatta", "preset:gale"], 2, "has no preset 'gale'"),
        (["regatta", "round:77"], 2, "There is no round 77"),
        (["regatta", "round:x"], 2, "names no round"),
        (["regatta", "harbor"], 2, "Did you mean harbour?"),
    ],
)
def test_a_side_that_there_is_not_is_told(club: SiteUnderTest, words: list[str], code: int, expected: str) -> None:
    assert expected in club.fails(code, "compare", *words)


def test_groups_are_compared_as_one(club: SiteUnderTest) -> None:
    """A column for each tag: what all of it has, or who has what."""
    third = club.add("nightwatch", "boat.slots=16\ngust.limit=20\nwind.scale=0.5\n")
    (third / "courses.txt").write_text("Harbour Mile\n")
    text = (club.folder / "roundgate.toml").read_text()
    for name, tag in (("regatta", "ranked"), ("harbour", "casual"), ("nightwatch", "casual")):
        text = text.replace(f"[server.{name}]\n", f'[server.{name}]\ntags = ["{tag}"]\n')
    (club.folder / "roundgate.toml").write_text(text)
    found = rows(club, "--groups", "@ranked", "@casual")
    assert found["race.slots"]["values"] == ["16", "24, but nightwatch: 16"]
    assert found["courses"]["values"] == ["Harbour Mile, The Narrows", "Harbour Mile"]
    assert "gust.limit" not in found and "wind.scale" not in found
    assert rows(club, "--groups", "@ranked", "@casual", "--all")["gust.limit"]["values"] == ["20", "20"]
    output = club.fails(1, "compare", "--groups", "@ranked", "harbour,nightwatch")
    assert "harbour,nightwatch" in output.splitlines()[0] and "24, but nightwatch: 16" in output
    assert "Two groups or more" in club.fails(2, "compare", "--groups", "@ranked")


def test_a_preset_goes_onto_the_slate_and_is_listed(club: SiteUnderTest) -> None:
    assert "gust.limit=12" in club.ok("preset", "list", "regatta")
    club.ok("preset", "use", "@all", "gentle")
    slate = json.loads(club.ok("slate", "--json"))
    for server in slate:
        assert {change["name"]: change["after"] for change in server["changes"]}["gust.limit"] == "12"
    assert "has no preset 'gale'" in club.fails(2, "preset", "use", "regatta", "gale")


def test_a_preset_saved_from_one_server_makes_another_like_it(club: SiteUnderTest) -> None:
    output = club.ok("preset", "save", "harbour", "evening", "--against", "regatta")
    text = (club.folder / "presets" / "evening.toml").read_text()
    assert "server.name" not in text and "world.save" not in text, "what is a server's own stays its own"
    assert '"race.slots" = 24' in text and "55667788" not in text + output and "net.port" not in text
    assert '"server.motto" = "007"' in text, "a text of digits stays a text"
    club.ok("preset", "use", "regatta", "evening")
    assert "007" in club.ok("slate", "regatta")
    assert "race.slots: 16 -> 24" in club.ok("slate", "regatta")
    assert "already exists" in club.fails(1, "preset", "save", "harbour", "evening")
    club.ok("preset", "save", "harbour", "evening", "--force")
    assert "Nothing differs" in club.fails(1, "preset", "save", "harbour", "none", "--against", "harbour")
    assert "cannot be a preset's name" in club.fails(2, "preset", "save", "harbour", "a/b")


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ('rulebook = "gullwind"\n[set]\n"race.slot" = 4\n', "has no setting 'race.slot'"),
        ('rulebook = "gullwind"\n[set]\n"race.slots" = 400\n', "400 is above the maximum"),
        ('rulebook = "gullwind"\n[set\n', "presets/storm.toml:2"),
        ('rulebook = "gullwind"\nsets = 3\n', "presets/storm.toml"),
    ],
)
def test_a_preset_file_with_a_mistake_is_told_and_nothing_is_changed(
    club: SiteUnderTest, text: str, expected: str
) -> None:
    (club.folder / "presets").mkdir()
    (club.folder / "presets" / "storm.toml").write_text(text)
    assert expected in club.fails(1, "preset", "use", "regatta", "storm")
    assert json.loads(club.ok("slate", "--json"))[0]["changes"] == []


def test_a_preset_for_another_game_is_none(club: SiteUnderTest) -> None:
    (club.folder / "presets").mkdir()
    (club.folder / "presets" / "storm.toml").write_text('rulebook = "spindrift"\n[set]\n"x" = 4\n')
    assert "'storm' is for the rulebook spindrift; regatta has gullwind" in club.fails(
        2, "preset", "use", "regatta", "storm"
    )
