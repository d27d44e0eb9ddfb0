"""Records by their addresses, ``SET/RECORD.FIELD``, in the commands that exist already."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest
import yaml

import roundgate
from conftest import SiteUnderTest

DEMO = Path(roundgate.__file__).parent / "demo" / "site" / "regatta"
FILES = (
    "officers.json",
    "ranks.yml",
    "berths.lua",
    "berths.club.lua",
    "flotsam.json",
    "buoys.xml",
    "guestlist.txt",
    "seamanship.toml",
    "recipes.yml",
)


@pytest.fixture
def regatta(site: SiteUnderTest) -> SiteUnderTest:
    """One server, down, with all of the demo's records."""
    home = site.add("regatta")
    for name in FILES:
        shutil.copy(DEMO / name, home)
    shutil.copytree(DEMO / "hulls", home / "hulls")
    return site


def test_a_set_is_a_table_and_a_record_its_fields(regatta: SiteUnderTest) -> None:
    shown = regatta.ok("show", "regatta", "officers")
    assert (
        "id            name  rank" in shown and "GW-7K3M-Q2XD  Wren  harbourmaster" in shown and "3 records." in shown
    )
    one = regatta.ok("show", "regatta", "officers/wren")
    assert "officers/GW-7K3M-Q2XD  Wren" in one and "harbourmaster" in one and "Tern" not in one
    (found,) = json.loads(regatta.ok("show", "regatta", "buoys", "ranks/marshal", "race.laps", "--json"))
    buoys, ranks = found["records"]
    assert [row["key"] for row in buoys["records"]] == ["B1", "B2", "B3"] and buoys["records"][0]["fields"][
        "x"
    ] == "120.5"
    assert [row["fields"]["may"] for row in ranks["records"]] == ["race.*"]
    assert [row["name"] for row in found["settings"]] == ["race.laps"]
    counts = {"berths": 3, "categories": 3, "seamanship": 5, "guests": 3, "flotsam": 3}
    for name, count in counts.items():
        assert f"\n{count} record" in regatta.ok("show", "regatta", name)
    shown = regatta.ok("show", "regatta", "flotsam")
    assert "Wreck     1      402 -118 -6|30 0 0" in shown and "table:survivors, table:prizes" in shown


def test_a_set_is_explained_with_what_its_fields_may_be(regatta: SiteUnderTest) -> None:
    output = regatta.ok("explain", "regatta", "officers")
    assert (
        "named by     id" in output
        and "the id of a sailor, such as GW-7K3M-Q2XD" in output
        and "one of ranks" in output
    )
    (page,) = json.loads(regatta.ok("explain", "regatta", "categories", "--json"))
    assert (page["what"], page["count"], page["needed"]) == (
        "records",
        3,
        ["name", "colour", "order"],
    )
    assert "1 to 99" in page["fields"]["order"]
    output = regatta.ok("explain", "regatta", "berths")
    assert "  most         How many sailors may have it at once: " in output, (
        "a field may be called as a fact of the set"
    )


def test_fields_are_set_checked_and_shown_as_waiting(regatta: SiteUnderTest) -> None:
    output = regatta.fails(1, "set", "regatta", "officers/Wren.rank=marshl")
    assert "there is no ranks/marshl. Did you mean marshal?" in output and "Nothing was put on the slate" in output
    output = regatta.fails(1, "set", "regatta", "categories/HELM.order=140")
    assert "140 is above the maximum, 99" in output and "categories/HELM.order=99" in output
    assert "Did you mean rank?" in regatta.fails(2, "set", "regatta", "officers/Wren.rnk=marshal")
    assert "Did you mean officers/Wren?" in regatta.fails(2, "set", "regatta", "officers/Wern.rank=marshal")
    regatta.ok("set", "regatta", "officers/Tern.rank=coxswain", "buoys/B1.x=130.25", "officers/*.note=paid")
    assert "on the slate: rank marshal -> coxswain, note - -> paid" in regatta.ok("show", "regatta", "officers")
    changes = {change["name"]: change["after"] for change in json.loads(regatta.ok("slate", "--json"))[0]["changes"]}
    assert changes["officers/GW-8P2C-W4TN.rank"] == "coxswain" and changes["buoys/B1.x"] == "130.25"
    regatta.ok("set", "regatta", "officers/Tern.rank=deckhand")
    names = [change["name"] for change in json.loads(regatta.ok("slate", "--json"))[0]["changes"]]
    assert names.count("officers/GW-8P2C-W4TN.rank") == 1, "the later one takes the place of the first"
    assert "it has been changed since" not in regatta.ok("slate"), "and remembers what was there before both"


def test_a_record_is_added_from_a_template_or_like_another(regatta: SiteUnderTest) -> None:
    output = regatta.fails(2, "add", "regatta", "officers", "name=Plover")
    assert "A new record of officers needs id" in output and "name=Plover id=<value>" in output
    assert "Nobody called 'Plover'" in regatta.fails(2, "add", "regatta", "officers", "Plover")
    assert "should look like GW-7K3M-Q2XD" in regatta.fails(1, "add", "regatta", "officers", "id=Plover")
    assert "already exists" in regatta.fails(2, "add", "regatta", "officers", "id=GW-7K3M-Q2XD")
    regatta.ok("add", "regatta", "officers", "id=GW-9Z9Z-Z9Z9", "name=Plover", "--like", "Tern")
    regatta.ok("add", "regatta", "officers", "id=GW-1A1A-1A1A")
    regatta.ok("add", "regatta", "ranks", "steward", "also=deckhand", "may=crew.call")
    regatta.ok("add", "regatta", "buoys", "id=B4", "x=1", "y=2", "colour=red")
    regatta.ok("add", "regatta", "guests", "GW-1111-2222")
    regatta.ok("add", "regatta", "berths", "BOWMAN", "name=Bowman", "category=DECK", "hull=gull.hull,tern.hull")
    diff = regatta.ok("slate")
    assert '+    { "id": "GW-9Z9Z-Z9Z9", "name": "Plover", "rank": "marshal" }' in diff
    assert '"rank": "deckhand"' in diff and '+  <buoy id="B4" x="1" y="2" colour="red"/>' in diff
    assert '+role("BOWMAN", {' in diff and "+GW-1111-2222" in diff
    regatta.ok("check")


def test_a_rank_is_renamed_with_all_that_names_it(regatta: SiteUnderTest) -> None:
    output = regatta.ok("rename", "regatta", "ranks/marshal", "warden")
    assert "officers/*.rank: 2 name marshal -> they name warden" in output and "ranks/*.also: 1 name marshal" in output
    assert "already exists" in regatta.fails(2, "rename", "regatta", "ranks/deckhand", "coxswain")
    regatta.ok("apply", "--yes")
    home = regatta.folder / "regatta"
    ranks = yaml.safe_load((home / "ranks.yml").read_text())["ranks"]
    assert list(ranks) == ["deckhand", "coxswain", "warden", "harbourmaster"]
    assert ranks["harbourmaster"]["also"] == ["warden"]
    assert (home / "officers.json").read_text() == (DEMO / "officers.json").read_text().replace('"marshal"', '"warden"')
    assert "never: [race.delete]   # only the harbourmaster" in (home / "ranks.yml").read_text()


def test_a_record_is_removed_and_a_rewind_brings_it_back(regatta: SiteUnderTest) -> None:
    home = regatta.folder / "regatta"
    before = (home / "officers.json").read_bytes()
    regatta.ok("remove", "regatta", "officers/Skua")
    assert "on the slate: taken out" in regatta.ok("show", "regatta", "officers")
    regatta.ok("start")
    regatta.ok("apply", "--yes")
    assert [officer["name"] for officer in json.loads((home / "officers.json").read_text())["officers"]] == [
        "Wren",
        "Tern",
    ]
    number = json.loads(regatta.ok("rounds", "--json"))[0]["round"]
    regatta.ok("rounds", "rewind", str(number), "--yes")
    assert (home / "officers.json").read_bytes() == before


def test_removing_what_others_name_is_found_before_it_counts(regatta: SiteUnderTest) -> None:
    output = regatta.fails(1, "remove", "regatta", "ranks/marshal")
    assert "record-reference" in output and "there is no ranks/marshal" in output
    output = regatta.fails(1, "remove", "regatta", "ranks/harbourmaster")
    assert "Wren: there is no ranks/harbourmaster" in output, "it is named in another file"


def test_what_waits_for_a_record_finds_it_after_the_file_was_edited_by_hand(regatta: SiteUnderTest) -> None:
    home = regatta.folder / "regatta"
    regatta.ok("set", "regatta", "officers/Skua.rank=coxswain")
    found = json.loads((home / "officers.json").read_text())
    found["officers"].reverse()
    (home / "officers.json").write_text(json.dumps(found))
    regatta.ok("apply", "--yes")
    ranks = {
        officer["name"]: officer["rank"] for officer in json.loads((home / "officers.json").read_text())["officers"]
    }
    assert ranks == {"Wren": "harbourmaster", "Tern": "marshal", "Skua": "coxswain"}


def test_a_secret_field_is_asked_for_and_never_shown(regatta: SiteUnderTest) -> None:
    book = regatta.folder / "rulebooks"
    book.mkdir()
    (book / "quay.toml").write_text(
        '[rulebook]\nname = "quay"\nlayers = ["gullwind"]\n[records.officers.field]\n'
        'badge = { type = "secret", length = [4, 20] }\npassword = { type = "secret" }\n'
    )
    path = regatta.folder / "roundgate.toml"
    path.write_text(path.read_text().replace('rulebook = "gullwind"', 'rulebook = "quay"'))
    secret = "barnacle-77"
    for words in (
        ["set", "regatta", f"officers/Wren.badge={secret}"],
        ["add", "regatta", "officers", "id=GW-1A1A-1A1A", f"badge={secret}"],
    ):
        assert "must not be part of the command" in regatta.fails(2, *words)
    output = regatta.ok("set", "regatta", "officers/Wren.badge", given=f"{secret}\n")
    output += regatta.ok("slate", "regatta") + regatta.ok("slate", "--json") + regatta.ok("show", "regatta", "officers")
    output += regatta.ok("apply", "regatta", "--yes") + regatta.ok("rounds", "show", "1")
    output += regatta.ok("show", "regatta", "officers/Wren") + regatta.ok("show", "regatta", "officers", "--json")
    output += regatta.ok("show", "regatta", "--all") + regatta.ok("check", "regatta")
    assert secret not in output and "(hidden, new)" in output and "(set, hidden)" in output
    assert secret in (regatta.folder / "regatta" / "officers.json").read_text()
