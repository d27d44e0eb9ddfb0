"""``switch`` and ``rename``: keys commented out, let back in and renamed, through the slate and a round."""

from __future__ import annotations

import shutil
from pathlib import Path

import roundgate
from conftest import SiteUnderTest

DEMO = Path(roundgate.__file__).parent / "demo" / "site" / "regatta"


def with_files(site: SiteUnderTest, *names: str) -> Path:
    home = site.folder / "regatta"
    for name in names:
        shutil.copy(DEMO / name, home)
    return home


def test_a_rank_is_commented_out_by_one_round_and_let_back_in_by_the_next(running: SiteUnderTest) -> None:
    ranks = with_files(running, "ranks.yml") / "ranks.yml"
    before = ranks.read_bytes()
    output = running.ok("switch", "regatta", "ranks.yml:ranks.harbourmaster", "--off")
    assert "-> commented out" in output
    assert ranks.read_bytes() == before, "nothing is written yet"
    running.ok("apply", "regatta", "--yes", "--countdown", "0s")
    assert b"\n  # harbourmaster:\n  #   also: [marshal]\n" in ranks.read_bytes()
    running.ok("switch", "regatta", "ranks.yml:ranks.harbourmaster", "--on")
    running.ok("apply", "regatta", "--yes", "--countdown", "0s")
    assert ranks.read_bytes() == before


def test_a_setting_that_is_commented_out_has_its_default_and_set_lets_it_back_in(regatta: SiteUnderTest) -> None:
    regatta.ok("set", "regatta", "idle.drop=20m")
    assert "idle.drop: can also come into force without a restart" in regatta.ok("slate")
    regatta.ok("apply", "regatta", "--yes")
    regatta.ok("switch", "regatta", "idle.drop", "--off")
    assert "idle.drop: takes effect at the next restart" in regatta.ok("slate"), "no console can comment it out"
    regatta.ok("apply", "regatta", "--yes")
    assert "\n#idle.drop.minutes=20" in regatta.text("regatta")
    assert "off" in regatta.ok("show", "regatta", "idle.drop")
    assert "idle.drop: no change" in regatta.ok("switch", "regatta", "idle.drop", "--off")
    regatta.ok("discard", "regatta")
    regatta.ok("set", "regatta", "idle.drop=5m")
    regatta.ok("apply", "regatta", "--yes")
    assert "\nidle.drop.minutes=5" in regatta.text("regatta")


def test_a_name_is_changed_in_its_place_and_what_follows_goes_by_the_new_name(regatta: SiteUnderTest) -> None:
    ranks = with_files(regatta, "ranks.yml") / "ranks.yml"
    before = ranks.read_text()
    regatta.ok("set", "regatta", "ranks.yml:ranks.harbourmaster.also[0]=deckhand")
    regatta.ok("rename", "regatta", "ranks.yml:ranks.harbourmaster", "chief")
    regatta.ok("set", "regatta", "ranks.yml:ranks.chief.also[0]=coxswain")
    output = regatta.ok("slate", "regatta")
    assert "called harbourmaster -> called chief" in output
    assert "it has been changed since" not in output
    regatta.ok("apply", "regatta", "--yes")
    wanted = before.replace("  harbourmaster:\n    also: [marshal]", "  chief:\n    also: [coxswain]")
    assert ranks.read_text() == wanted


def test_what_cannot_be_is_said_with_its_reason_and_is_not_put_on_the_slate(regatta: SiteUnderTest) -> None:
    with_files(regatta, "officers.json", "ranks.yml")
    assert "reads no comments" in regatta.fails(1, "switch", "regatta", "officers.json:officers[0].rank", "--off")
    assert "is not in ranks.yml" in regatta.fails(1, "switch", "regatta", "ranks.yml:ranks.bosun", "--off")
    assert "is not in ranks.yml" in regatta.fails(1, "rename", "regatta", "ranks.yml:ranks.bosun", "x")
    output = regatta.fails(1, "rename", "regatta", "ranks.yml:ranks.coxswain", "marshal")
    assert "marshal already exists" in output
    assert "discard" not in output, "there is nothing to discard"
    assert "On or off?" in regatta.fails(2, "switch", "regatta", "idle.drop")
    assert "the slate is empty" in regatta.ok("slate", "regatta")


def test_an_entry_of_a_list_is_commented_out_by_its_number(regatta: SiteUnderTest) -> None:
    guests = with_files(regatta, "guestlist.txt") / "guestlist.txt"
    before = guests.read_text()
    first = next(line for line in before.splitlines() if not line.startswith("#"))
    assert f"{first} -> commented out" in regatta.ok("switch", "regatta", "guestlist.txt:[0]", "--off")
    regatta.ok("apply", "regatta", "--yes")
    assert guests.read_text() == before.replace(first, f"#{first}", 1)


def test_a_setting_under_another_name_is_one_that_the_rulebook_does_not_know(regatta: SiteUnderTest) -> None:
    assert "is a setting of the rulebook" in regatta.fails(1, "rename", "regatta", "race.slots", "boat.places")
    output = regatta.ok("rename", "regatta", "race.slots", "boat.places", "--force")
    assert "keys-undescribed" in output
    assert "called boat.slots -> called boat.places" in output


def test_a_value_shared_between_places_is_changed_in_one_of_them_where_asked(regatta: SiteUnderTest) -> None:
    gusts = regatta.folder / "regatta" / "gusts.yml"
    gusts.write_text("day: &calm\n  most: 4\nnight: *calm\n")
    output = regatta.fails(1, "set", "regatta", "gusts.yml:night.most=2")
    assert "shares" in output
    assert "--here-only" in output
    regatta.ok("set", "regatta", "gusts.yml:night.most=2", "--here-only")
    regatta.ok("apply", "regatta", "--yes")
    assert gusts.read_text().startswith("day: &calm\n  most: 4\n")
    assert "2" in regatta.ok("show", "regatta", "gusts.yml:night.most")
    assert "4" in regatta.ok("show", "regatta", "gusts.yml:day.most")


def test_a_secret_inside_what_is_commented_out_stays_hidden(regatta: SiteUnderTest) -> None:
    crew = regatta.folder / "regatta" / "crew.yml"
    crew.write_text("boat: 1\nlink:\n  password: hush-4711\n  host: quay\nnotes: |\n  # password: hush-4711\n  more\n")
    output = [regatta.ok("switch", "regatta", "crew.yml:link", "--off"), regatta.ok("slate", "regatta")]
    output.append(regatta.ok("slate", "regatta", "--json"))
    output.append(regatta.ok("switch", "regatta", "crew.yml:link", "--on"))
    assert not [row for row in output if "hush-4711" in row]
