"""What players find and how they rise: ``odds``, ``curve``, and the records that they come from."""

from __future__ import annotations

import csv
import io
import json
import re
import shutil
import sys
import tomllib
from itertools import pairwise
from math import sqrt
from pathlib import Path
from typing import Any

import pytest

import roundgate
from conftest import SiteUnderTest, wait_for

DEMO = Path(roundgate.__file__).parent / "demo" / "site" / "regatta"
FILES = ("berths.lua", "berths.club.lua", "flotsam.json", "seamanship.toml", "recipes.yml", "buoys.xml")


def fill(home: Path) -> None:
    for name in FILES:
        shutil.copy(DEMO / name, home)
    shutil.copytree(DEMO / "hulls", home / "hulls", dirs_exist_ok=True)


@pytest.fixture
def regatta(site: SiteUnderTest) -> SiteUnderTest:
    """One server, down, with the demo's gameplay records."""
    fill(site.add("regatta"))
    return site


def edit(site: SiteUnderTest, name: str, old: str, new: str) -> None:
    path = site.folder / "regatta" / name
    text = path.read_text()
    assert text.count(old) == 1, (old, text.count(old))
    path.write_text(text.replace(old, new))


def things(site: SiteUnderTest, *words: str) -> dict[str, dict[str, Any]]:
    (found,) = json.loads(site.ok("odds", "regatta", *words, "--json"))
    return {thing["thing"]: thing for thing in found["things"]}


# --- odds ---


def test_the_odds_of_one_crate_and_of_all(regatta: SiteUnderTest) -> None:
    output = regatta.ok("odds", "regatta", "flotsam/North")
    assert "flotsam/North, opened once (2 there at a time)" in output
    assert re.search(r"rope +48\.0% +█+▋ +0\.96 +0 to 3 +directly", output)
    assert re.search(r"gold cup +1\.6% .* tables/prizes > tables/cups", output)
    one, whole = things(regatta, "flotsam/north"), things(regatta)
    assert one["rope"]["chance"] == pytest.approx(0.48) and one["medal"]["chance"] == pytest.approx(0.24)
    assert one["flare"]["expected"] == pytest.approx(0.8 * 0.5 * 0.3 * 3)
    shallow = things(regatta, "flotsam/Shallows")["rope"]["chance"]
    assert whole["rope"]["chance"] == pytest.approx(1 - (1 - 0.48) ** 2 * (1 - shallow) ** 3)
    assert whole["biscuits"] | {"spread": 0.0} == whole["biscuits"] and whole["biscuits"]["expected"] == 2
    assert {way["record"] for way in whole["lantern"]["ways"]} == {"North", "Shallows", "Wreck"}
    table = things(regatta, "tables/lights")
    assert table["lantern"]["chance"] == pytest.approx(0.5), "a table by itself"


def test_the_running_server_rolls_what_was_worked_out(site: SiteUnderTest) -> None:
    fill(site.add("regatta"))
    site.ok("start")
    for drop in ("North", "Shallows", "Wreck"):
        many = 20_000
        site.ok("send", "regatta", f"roll {drop} {many}")
        log = site.folder / "regatta" / "logs" / "latest.log"
        wait_for(lambda log=log, drop=drop: f"rolled {drop}" in log.read_text())
        (line,) = [line for line in log.read_text().splitlines() if f"rolled {drop}" in line]
        rolled = {name: (int(there), int(sums)) for name, there, sums in re.findall(r"([a-z ]+) (\d+)/(\d+)", line)}
        exact = things(site, f"flotsam/{drop}")
        assert {name.strip() for name in rolled} <= set(exact)
        for thing, odds in exact.items():
            there, sums = next((pair for name, pair in rolled.items() if name.strip() == thing), (0, 0))
            chance = odds["chance"]
            assert abs(there / many - chance) <= 5 * sqrt(chance * (1 - chance) / many) + 1e-9, (drop, thing)
            assert abs(sums / many - odds["expected"]) <= 5 * odds["spread"] / sqrt(many) + 1e-9, (drop, thing)


def test_the_slate_shows_what_becomes_of_the_odds(regatta: SiteUnderTest) -> None:
    regatta.ok("set", "regatta", "tables/lights.entries=lantern|0.9,flare*2-4|0.3,lamp oil|0.4")
    output = regatta.ok("slate", "regatta")
    assert "! flotsam/Wreck: lantern 50.0% -> 90.0%" in output and "! flotsam/North: lantern 20.0% -> 36.0%" in output
    assert output.index("flotsam/Wreck: lantern") < output.index("flotsam/North: lantern"), "the largest shift first"
    assert "flare" not in output.partition("---")[0].replace("flare*2-4|0.3", ""), "what does not change is not named"
    assert "The slate changes these odds: roundgate odds regatta --slate" in regatta.ok("odds", "regatta")
    shown = regatta.ok("odds", "regatta", "flotsam/Wreck", "--slate")
    assert re.search(r"lantern +50\.0% -> 90\.0%", shown) and re.search(r"flare +30\.0%  ", shown)
    found = things(regatta, "flotsam/Wreck", "--slate")["lantern"]
    assert (found["chance"], found["chance-before"]) == (pytest.approx(0.9), pytest.approx(0.5))
    codes = [consequence["code"] for consequence in json.loads(regatta.ok("slate", "--json"))[0]["consequences"]]
    assert codes.count("odds") == 3
    regatta.ok("set", "regatta", "flotsam/North.contents=rope|0.1,fender|0.1,cork|0.5,buoy lamp|0.2")
    output = regatta.ok("slate", "regatta")
    assert len(re.findall(r"! flotsam/\w+: [a-z ]+ [\d.]+% -> ", output)) == 5 and "more odds change" in output


def test_where_a_thing_can_come_from(regatta: SiteUnderTest) -> None:
    output = regatta.ok("odds", "regatta", "--find", "Lantern")
    assert "flotsam/North" in output and "flotsam/Wreck" in output and "all, after a restart" in output
    assert "sextant" not in output and "tables/lights" in output
    assert "Did you mean lantern?" in regatta.fails(2, "odds", "regatta", "--find", "lantren")
    assert "Did you mean flotsam/North?" in regatta.fails(2, "odds", "regatta", "flotsam/Norht")


def test_odds_as_csv_and_as_a_picture(regatta: SiteUnderTest) -> None:
    rows = list(csv.DictReader(io.StringIO(regatta.ok("odds", "regatta", "flotsam/North", "--csv"))))
    assert {row["thing"]: float(row["chance"]) for row in rows}["fender"] == pytest.approx(0.32)
    for name, start in (("odds.png", b"\x89PNG"), ("odds.svg", b"<?xml")):
        regatta.ok("odds", "regatta", "--slate", "--image", name)
        assert (regatta.folder / name).read_bytes().startswith(start)
    assert "is not a picture" in regatta.fails(2, "odds", "regatta", "--image", "odds.txt")


def test_names_with_signs_of_their_own_are_drawn_as_they_are(regatta: SiteUnderTest) -> None:
    edit(regatta, "flotsam.json", '"bucket|0.5"', '"a $10 and a $5 \\\\frac{note|0.5"')
    regatta.ok("odds", "regatta", "flotsam/Shallows", "--image", "odds.svg")
    assert "bucket" not in (regatta.folder / "odds.svg").read_text()


def test_what_cannot_be_worked_out_is_told(regatta: SiteUnderTest) -> None:
    edit(regatta, "flotsam.json", '"lamp oil|0.4"', '"table:lights|0.4"')
    output = regatta.fails(1, "odds", "regatta")
    assert "tables/lights > tables/lights: it contains itself" in output and "roundgate check regatta" in output
    (regatta.folder / "regatta" / "flotsam.json").unlink()
    assert "has no file with loot" in regatta.fails(1, "odds", "regatta")


# --- checks ---

MISTAKES = {
    "loot-table": ("flotsam.json", '"table:lights|0.25"', '"table:lihgts|0.25"', "Did you mean lights?"),
    "loot-percent": ("flotsam.json", '"fender|0.4"', '"fender|40"', "Did you mean fender|0.4?"),
    "loot-chance": ("flotsam.json", '"bucket|0.5"', '"bucket|0,5"', "has a decimal comma in its chance"),
    "loot-entry": ("flotsam.json", '"rope*1-3|0.6"', '"rope*3-1|0.6"', "how many there are is a number"),
    "loot-chance-idle": ("flotsam.json", '"water cask"]', '"water cask|0.5"]', "its chance does not count"),
    "loot-circle": ("flotsam.json", '"gold cup|1"', '"table:prizes|1"', "it contains itself"),
    "loot-nothing": ("flotsam.json", '"left-out": 0.2', '"left-out": 1.0', "Nothing can ever be in flotsam/North."),
    "loot-unused": ("flotsam.json", '"table:survivors", ', "", "No entry names tables/survivors."),
    "loot-places": ("flotsam.json", '"count": 3', '"count": 9', "flotsam/Shallows has 9 at once and 4 places."),
    "position-twice": ("flotsam.json", "135 52 0|45 0 0", "120 40 0|45 0 0", "is in the same place as 120 40 0|90 0 0"),
    "value-range": ("flotsam.json", "402 -118 -6", "402 -118 -600", "z is -600; it goes from -60 to 20."),
    "record-reference": ("flotsam.json", '"tool": "crowbar"', '"tool": "crobar"', "Did you mean crowbar?"),
    "path-missing": ("flotsam.json", "skiff.hull", "skif.hull", "there is no hulls/skif.hull"),
    "comma-last": ("flotsam.json", '"water cask"]', '"water cask",]', ""),
    "record-unseen": ("berths.club.lua", '"radio"', '"radoi"', "Did you mean radio?"),
    "record-value-same": ("berths.club.lua", "192 57 43", "44 62 80", "Deck and Helm have the same colour, 44 62 80."),
    "value-pattern": ("berths.club.lua", 'role("DECKHAND"', 'role("Deckhand"', "Did you mean DECKHAND?"),
    "value-choice": ("berths.club.lua", 'take = "officers"', 'take = "officer"', "is not one of everybody"),
    "record-order": ("seamanship.toml", "points = 1400", "points = 140", "they must rise"),
    "curve-short": ("recipes.yml", "{level: 4, cost: 3,", "{level: 4, cost: 9,", "6 too few, from level 3 on."),
    "curve-unreached": ("recipes.yml", "{level: 5, cost: 3,", "{level: 9, cost: 3,", "the last level is 5."),
    "curve-half-hidden": ("recipes.yml", "99, hidden: true}", "0, hidden: true}", "is hidden, but not out of reach"),
}  # fmt: skip


@pytest.mark.parametrize("code", MISTAKES)
def test_each_mistake_is_one_finding_in_its_place(regatta: SiteUnderTest, code: str) -> None:
    assert "nothing wrong" in regatta.ok("check", "regatta")
    name, old, new, words = MISTAKES[code]
    edit(regatta, name, old, new)
    done = regatta.run("check", "regatta", "--json")
    found = [finding for finding in json.loads(done.stdout)["findings"] if finding["code"] == code]
    assert len(found) == 1, done.stdout
    where = "seamanship.toml" if code == "curve-short" else name
    assert words in found[0]["cause"] and found[0]["file"] == where and found[0]["line"] > 0
    line = (regatta.folder / "regatta" / where).read_text().splitlines()[found[0]["line"] - 1]
    assert found[0]["column"] <= len(line) + 1
    page = regatta.ok("explain", code)
    assert code in page and len(page.splitlines()) > 1


@pytest.mark.parametrize("code", ["loot-percent", "loot-chance", "loot-table", "loot-places", "curve-unreached"])
def test_what_a_finding_says_to_do_mends_it(regatta: SiteUnderTest, code: str) -> None:
    import shlex

    edit(regatta, *MISTAKES[code][:3])
    found = json.loads(regatta.run("check", "regatta", "--json").stdout)["findings"]
    (do,) = [finding["do"] for finding in found if finding["code"] == code]
    regatta.ok(*shlex.split(do)[1:])
    regatta.ok("apply", "regatta", "--yes", "--force")
    assert code not in regatta.run("check", "regatta").stdout


def test_rules_over_records_name_those_that_break_them(regatta: SiteUnderTest) -> None:
    edit(regatta, "berths.club.lua", 'take = "officers"', 'take = "everybody"')
    output = regatta.ok("check", "regatta")
    assert "A role that needs a licence is open to everybody" in output and "(berths/RACEWARDEN)" in output
    assert "they will never find it" in output and "berths.club.lua:3" in output


# --- records ---


def test_a_category_and_two_roles_from_templates(regatta: SiteUnderTest) -> None:
    regatta.ok("add", "regatta", "categories", "SHORE", "name=Shore crew", "colour=39 174 96", "order=4")
    regatta.ok("add", "regatta", "berths", "LINEHAND", "name=Linehand", "category=SHORE")
    regatta.ok("add", "regatta", "berths", "DOCKMASTER", "name=Dockmaster", "category=SHORE", "take=officers", "most=1")
    regatta.ok("add", "regatta", "berths", "PILOT", "--like", "HELMSMAN", "name=Pilot")
    regatta.ok("add", "regatta", "berths", "LOOKOUT", "--like", "DECKHAND", "name=Lookout", "take=skilled")
    regatta.ok("apply", "regatta", "--yes")
    text = (regatta.folder / "regatta" / "berths.club.lua").read_text()
    assert 'category("SHORE", { name = "Shore crew", colour = "39 174 96", order = 4, open = true })' in text
    assert text.count("take = function(sailor) return sailor.level >= 3 end,") == 3
    assert 'take = "officers"' in text and "vote = false" in text and '"False"' not in text
    regatta.ok("start")
    output = regatta.ok("send", "regatta", "berths")
    assert "DECKHAND, DOCKMASTER, HELMSMAN, LINEHAND, LOOKOUT, PILOT, RACEWARDEN" in output and "SHORE" in output
    assert "nothing wrong" in regatta.ok("check", "regatta")


def test_code_in_a_condition_is_kept_and_replaced_byte_for_byte(regatta: SiteUnderTest) -> None:
    path = regatta.folder / "regatta" / "berths.club.lua"
    code = "function(sailor) return sailor.level >= 3 end"
    before = path.read_text()
    shown = regatta.ok("show", "regatta", "berths")
    assert "skilled" in shown, "code that the rulebook offers goes by its word"
    regatta.ok("set", "regatta", "berths/HELMSMAN.take=officers", "berths/DECKHAND.take=licensed")
    regatta.ok("apply", "regatta", "--yes")
    wanted = before.replace(code, '"officers"').replace(
        'take = "everybody"', "take = function(sailor) return sailor.licence end"
    )
    assert path.read_text() == wanted
    assert "is not one of everybody, officers, skilled, licensed, and no code" in regatta.fails(
        1, "set", "regatta", "berths/HELMSMAN.take=admirals"
    )


def test_a_role_whose_category_is_unknown_is_ignored_by_the_server_and_found_by_check(site: SiteUnderTest) -> None:
    fill(site.add("regatta"))
    edit(site, "berths.club.lua", 'category = "WATCH"', 'category = "WACTH"')
    site.ok("start")
    assert "RACEWARDEN" not in site.ok("send", "regatta", "berths")
    assert "there is no categories/WACTH. Did you mean WATCH?" in site.fails(1, "check", "regatta")


def test_a_crate_with_positions_out_of_the_console(site: SiteUnderTest) -> None:
    """Its positions are pasted: one as the file has it, one as people type it, one as the server's console says it."""
    fill(site.add("regatta"))
    site.ok("start")
    site.ok("send", "regatta", "muster 1")
    answer = next(line for line in site.ok("send", "regatta", "where Wren").splitlines() if " is at " in line)
    site.ok("add", "regatta", "flotsam", "South", "positions=10 -20 0|90 0 0", "contents=rope|0.5", "count=3")
    site.ok("add", "regatta", "flotsam/South.positions", answer, "12 3 0 90 0 0")
    output = site.fails(1, "add", "regatta", "flotsam/South.positions", "12 3 900|90 0 0")
    assert "z is 900; it goes from -60 to 20" in output
    site.ok("apply", "regatta", "--yes")
    drops = json.loads((site.folder / "regatta" / "flotsam.json").read_text())["drops"]
    assert drops["South"]["positions"] == ["10 -20 0|90 0 0", "120.5 -34 0|90 0 0", "12 3 0|90 0 0"]
    assert list(drops["South"]) == [name for name in drops["North"] if name in drops["South"]], (
        "in the look of the rest"
    )
    site.ok("remove", "regatta", "flotsam/South.positions", "120.5 -34")
    site.ok("move", "regatta", "flotsam/South.positions", "12 3 0|90 0 0", "--to", "0")
    site.ok("apply", "regatta", "--yes")
    drops = json.loads((site.folder / "regatta" / "flotsam.json").read_text())["drops"]
    assert drops["South"]["positions"] == ["12 3 0|90 0 0", "10 -20 0|90 0 0"]
    assert "Did you mean 12 3 0|90 0 0?" in site.fails(
        2, "remove", "regatta", "flotsam/South.positions", "2 3 0|90 0 0"
    )


def test_many_records_at_once_and_differences(regatta: SiteUnderTest) -> None:
    home = regatta.folder / "regatta"
    output = regatta.ok("set", "regatta", "berths/*.pay=+10%", "flotsam/*.lamp=off", "berths/D*.vote=on")
    assert "berths/HELMSMAN.pay: 25 -> 28" in output and "berths/DECKHAND.pay: 10 -> 11" in output
    assert "berths/DECKHAND.vote: false -> true" in output and "HELMSMAN.vote" not in output
    regatta.ok("set", "regatta", "berths/*.most=+1", "race.slots=+25%", "flotsam/North.left-out=-50%")
    regatta.ok("apply", "regatta", "--yes")
    text = (home / "berths.club.lua").read_text()
    assert re.findall(r"most = (\d+)", text) == ["2", "0", "3"], "no limit stays no limit"
    assert re.findall(r"pay = (\d+)", text) == ["28", "11", "17"]
    assert regatta.value("regatta", "boat.slots") == "15", "a quarter more than the default"
    drops = json.loads((home / "flotsam.json").read_text())["drops"]
    assert drops["North"]["left-out"] == 0.1 and not any(drop["lamp"] for drop in drops.values())
    output = regatta.fails(1, "set", "regatta", "berths/HELMSMAN.pay=+5000")
    assert "5028 is above the maximum, 500" in output and "it is 28 now" in output
    assert "No berths of regatta matches 'X*'" in regatta.fails(2, "set", "regatta", "berths/X*.pay=1")


def test_a_record_is_copied_from_another_server(regatta: SiteUnderTest) -> None:
    fill(regatta.add("harbour"))
    regatta.ok("set", "regatta", "flotsam/North.count=3")
    regatta.ok("add", "harbour", "flotsam", "Far", "--like", "regatta:North")
    regatta.ok("apply", "harbour", "--yes")
    mine, theirs = (
        json.loads((regatta.folder / name / "flotsam.json").read_text())["drops"] for name in ("harbour", "regatta")
    )
    assert mine["Far"] == {**theirs["North"], "count": 3}, "with what waits on that server's slate"
    assert "has no flotsam/Nroth" in regatta.fails(2, "add", "harbour", "flotsam", "Farther", "--like", "regatta:Nroth")


def test_records_in_order_and_numbered(regatta: SiteUnderTest) -> None:
    regatta.ok("arrange", "regatta", "buoys", "--by", "x", "--falling")
    regatta.ok("arrange", "regatta", "categories", "--number", "order", "--step", "10")
    regatta.ok("apply", "regatta", "--yes")
    home = regatta.folder / "regatta"
    assert re.findall(r'id="(B\d)"', (home / "buoys.xml").read_text()) == ["B3", "B2", "B1"]
    assert "two flashes &amp; a pause" in (home / "buoys.xml").read_text()
    assert re.findall(r"order = (\d+)", (home / "berths.club.lua").read_text()) == ["10", "20", "30"]
    assert "is in this order already" in regatta.ok("arrange", "regatta", "buoys", "--by", "x", "--falling")
    assert "whose order means nothing" in regatta.fails(2, "arrange", "regatta", "berths", "--by", "pay")
    assert "Did you mean heading?" in regatta.fails(2, "arrange", "regatta", "buoys", "--by", "headin")


# --- curves ---


def levels(site: SiteUnderTest) -> list[tuple[int, int, int]]:
    found = tomllib.loads((site.folder / "regatta" / "seamanship.toml").read_text())["levels"]
    return [(finding["level"], finding["points"], finding["grants"]) for finding in found]


def test_a_curve_shows_points_and_whether_they_suffice(regatta: SiteUnderTest) -> None:
    output = regatta.ok("curve", "regatta", "seamanship")
    assert re.search(r"5 +2500 +█+ +\+1100 +4 +11 +11", output) and "grant 11: enough" in output
    assert "1 out of reach left aside" in output
    edit(regatta, "recipes.yml", "{level: 2, cost: 2,", "{level: 2, cost: 5,")
    assert "3 too few, from level 2 on" in regatta.ok("curve", "regatta", "seamanship")
    (found,) = json.loads(regatta.ok("curve", "regatta", "seamanship", "--json"))
    assert (found["granted"], found["cost"], found["short-from"]) == (11, 14, 2)
    rows = list(csv.DictReader(io.StringIO(regatta.ok("curve", "regatta", "seamanship", "--csv"))))
    assert [row["points"] for row in rows] == ["0", "250", "700", "1400", "2500"]


def test_sixty_levels_whose_points_suffice_for_all(regatta: SiteUnderTest) -> None:
    before = (regatta.folder / "regatta" / "seamanship.toml").read_text()
    words = ("--make", "40*level^1.5", "--levels", "60", "--round", "5", "--image", "curve.png")
    output = regatta.ok("curve", "regatta", "seamanship", *words)
    assert "60 new" in output and "enough" in output and "next: roundgate apply regatta" in output
    assert (regatta.folder / "curve.png").read_bytes().startswith(b"\x89PNG")
    assert levels(regatta)[-1] == (5, 2500, 4), "nothing is written yet"
    assert "changes these levels" in regatta.ok("curve", "regatta", "seamanship")
    regatta.ok("apply", "regatta", "--yes")
    made = levels(regatta)
    assert [level for level, _, _ in made] == list(range(1, 61))
    assert [points for _, points, _ in made] == [int(40 * level**1.5 / 5 + 0.5) * 5 for level in range(1, 61)]
    after = (regatta.folder / "regatta" / "seamanship.toml").read_text()
    assert after.startswith(before.partition("[[levels]]")[0])
    regatta.ok("start")
    assert f"60 at {made[-1][1]}" in regatta.ok("send", "regatta", "levels")
    regatta.ok("curve", "regatta", "seamanship.grants", "--make", "1 + floor(level / 20)")
    regatta.ok("apply", "regatta", "--yes")
    assert [grants for _, _, grants in levels(regatta)][18:21] == [1, 2, 2]


def test_a_curve_through_points_or_stretched_or_shortened(regatta: SiteUnderTest) -> None:
    regatta.ok("curve", "regatta", "seamanship", "--through", "1:0,10:500,60:20000")
    regatta.ok("apply", "regatta", "--yes")
    points = [points for _, points, _ in levels(regatta)]
    assert len(points) == 60 and (points[0], points[9], points[59]) == (0, 500, 20000)
    assert all(later > earlier for earlier, later in pairwise(points))
    regatta.ok("curve", "regatta", "seamanship", "--scale", "120%", "--levels", "10")
    regatta.ok("apply", "regatta", "--yes")
    assert [one for _, one, _ in levels(regatta)] == [int(point * 12 + 5) // 10 for point in points[:10]]


@pytest.mark.parametrize(
    ("words", "expected"),
    [
        (("seamanship", "--make", "40*levels^1.5"), "may name level and nothing else"),
        (("seamanship", "--make", "40*level^"), "cannot be read: it ends too early"),
        (("seamanship", "--make", "9^9^9^level"), "gives no number at level 1."),
        (("seamanship", "--make", "1/(level-1)"), "gives no number at level 1."),
        (("seamanship", "--make", "level", "--scale", "2"), "One way at a time"),
        (("seamanship", "--through", "1:0,1:5"), "must rise"),
        (("seamanship", "--through", "1:9,2:5"), "must not fall"),
        (("seamanship", "--through", "1-5"), "is not a point"),
        (("seamanship", "--scale", "much"), "is not a factor"),
        (("seamanship", "--make", "level", "--round", "0"), "must be above 0"),
        (("seamanshp",), "Did you mean seamanship?"),
        (("berths.name",), "has no numbers"),
    ],
)
def test_wrong_words_about_curves_change_nothing(regatta: SiteUnderTest, words: tuple[str, ...], expected: str) -> None:
    assert expected in regatta.fails(2, "curve", "regatta", *words)
    assert "the slate is empty" in regatta.ok("slate", "regatta")


@pytest.mark.parametrize(
    ("words", "package"),
    [
        (("odds", "regatta", "--image", "odds.png"), "matplotlib"),
        (("fit", "cores", "--give", "1", "--image", "cores.png"), "matplotlib"),
        (("curve", "regatta", "seamanship", "--through", "1:0,10:500"), "scipy"),
    ],
)
def test_what_needs_another_package_says_so_before_any_work(
    regatta: SiteUnderTest, words: tuple[str, ...], package: str
) -> None:
    without = regatta.folder / "without"
    without.mkdir()
    (without / "sitecustomize.py").write_text(f"import sys\nsys.modules[{package!r}] = None\n")
    done = regatta.run(*words, env={"PYTHONPATH": str(without)})
    assert done.returncode == 1 and f"needs {package}, which is not installed" in done.stderr
    assert f"do: {sys.executable} -m pip install {package}" in done.stderr
    assert "the slate is empty" in regatta.ok("slate", "regatta")
