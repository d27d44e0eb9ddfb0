"""Records that come from elsewhere: from the file that a set's own overrides, and whole, as copies of another."""

from __future__ import annotations

import json
import re
import shutil
import tomllib
from pathlib import Path

import pytest
import yaml

import roundgate
from conftest import SiteUnderTest

DEMO = Path(roundgate.__file__).parent / "demo" / "site" / "regatta"


@pytest.fixture
def regatta(site: SiteUnderTest) -> SiteUnderTest:
    """One server, down, with the demo's crew roles."""
    home = site.add("regatta")
    for name in ("berths.lua", "berths.club.lua"):
        shutil.copy(DEMO / name, home)
    shutil.copytree(DEMO / "hulls", home / "hulls", dirs_exist_ok=True)
    return site


_LUA_RIGS = """rigs = {
  skiff = {
    hull = "skiff.hull",
    n = 3,
    fits = { { what = "anchor", chance = 0.5, spare = true }, { what = "oars", worn = { 1, 2 } } },
    rates = { dawn = 1, dusk = { low = "2" } },
  },
  punt = { hull = "punt.hull" },
}
"""
_TOML_RIGS = """[rigs.skiff]
hull = "skiff.hull"
n = 3
fits = [{ what = "anchor", chance = 0.5, spare = true }, { what = "oars", worn = [1, 2] }]
rates = { dawn = 1, dusk = { low = "2" } }

[rigs.punt]
hull = "punt.hull"
"""
_BAILER = """
role("BAILER", {
  name = "Bailer",
  category = "SHED",
  hull = "gull.hull",
  gear = { "bailer" },
  most = 2,
  pay = 5,
  vote = false,
  licence = false,
  take = function(sailor) return sailor.level >= 3 end,
})
category("SHED", { name = "Boat shed", colour = "9 99 9", order = 9, open = true })
"""


def test_roles_that_only_the_games_own_file_has_count_and_are_changed_in_the_clubs(regatta: SiteUnderTest) -> None:
    theirs, ours = (regatta.folder / "regatta" / name for name in ("berths.lua", "berths.club.lua"))
    with theirs.open("a") as file:
        file.write(_BAILER)
    shipped = theirs.read_bytes()
    assert "nothing wrong" in regatta.ok("check", "regatta"), "the category that it names is in the game's file too"
    assert re.search(r"BAILER .* in berths.lua alone", regatta.ok("show", "regatta", "berths"))
    files = {
        record["key"]: record["file"]
        for record in json.loads(regatta.ok("show", "regatta", "berths", "--json"))[0]["records"][0]["records"]
    }
    assert files["BAILER"] == "berths.lua" and files["HELMSMAN"] == "berths.club.lua"
    assert "(in berths.lua alone)" in regatta.ok("show", "regatta", "berths/bailer")
    for words in (("remove", "regatta", "berths/BAILER"), ("rename", "regatta", "berths/BAILER", "BUCKETEER")):
        assert "is in berths.lua alone, which berths.club.lua overrides" in regatta.fails(2, *words)
    regatta.ok("set", "regatta", "berths/BAILER.pay=12", "berths/BAILER.most=+1")
    regatta.ok("set", "regatta", "berths/BAILER.vote=on")
    regatta.ok("set", "regatta", "categories/SHED.order=8")
    regatta.ok("apply", "regatta", "--yes")
    text = ours.read_text()
    assert text.count('role("BAILER"') == 1 and theirs.read_bytes() == shipped, "the game's file is never touched"
    block = text[text.index('role("BAILER"') :]
    for line in ("pay = 12,", "most = 3,", "vote = true,", "take = function(sailor) return sailor.level >= 3 end,"):
        assert line in block
    assert re.search(r'category\("SHED", \{.*order = 8', text)
    regatta.ok("start")
    output = regatta.ok("send", "regatta", "berths")
    assert "BAILER" in output and "SHED" in output
    assert "in berths.lua alone" not in regatta.ok("show", "regatta", "berths/BAILER")
    regatta.ok("remove", "regatta", "berths/BAILER")  # the game's own counts again
    regatta.ok("apply", "regatta", "--yes")
    assert "in berths.lua alone" in regatta.ok("show", "regatta", "berths/BAILER")


def test_lists_of_objects_and_maps_are_copied_with_their_record(site: SiteUnderTest) -> None:
    """In every format that can hold them, with the kinds of their values, from one format to another too."""
    inner = {
        "fits": [{"what": "anchor", "chance": 0.5, "spare": True}, {"what": "oars", "worn": [1, 2]}],
        "rates": {"dawn": 1, "dusk": {"low": "2"}},
        "none": [],
    }
    whole = {"rigs": {"skiff": {"hull": "skiff.hull", "n": 3, **inner}, "punt": {"hull": "punt.hull"}}}
    site.add("regatta")
    for name, text in (
        ("a.json", json.dumps(whole, indent=2)),
        ("a.yml", yaml.safe_dump(whole, sort_keys=False)),
        ("a.lua", _LUA_RIGS),
        ("a.toml", _TOML_RIGS),
    ):
        path = site.folder / "regatta" / name
        path.write_text(text)
        site.ok("add", "regatta", f"{name}:rigs", "dory", "--like", "skiff", "hull=dory.hull")
        site.ok("apply", "regatta", "--yes")
        after = path.read_text()
        assert after.count("anchor") == 2 and after.count("dusk") == 2, f"{name}\n{after}"
        read = {"a.json": json.loads, "a.yml": yaml.safe_load, "a.toml": tomllib.loads}.get(name)
        if read is not None:
            rigs = read(after)["rigs"]
            assert rigs["dory"] == {**rigs["skiff"], "hull": "dory.hull"}, after
