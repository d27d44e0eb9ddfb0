"""Ranks as they are worked with: a ladder from nothing, a right more, a role in a matrix, expectations, comparisons."""

from __future__ import annotations

import json
import shutil
import tomllib
from pathlib import Path

import pytest
import yaml

import roundgate
from conftest import SiteUnderTest

DEMO = Path(roundgate.__file__).parent / "demo" / "site"
WREN, TERN, SKUA = "GW-7K3M-Q2XD", "GW-8P2C-W4TN", "GW-2H9V-L6RB"


@pytest.fixture
def quay(site: SiteUnderTest) -> SiteUnderTest:
    """Two servers, down: one with the demo's officers, one with its roles by permission."""
    home = site.add("regatta")
    for name in ("ranks.yml", "officers.json"):
        shutil.copy(DEMO / "regatta" / name, home)
    night = site.add("nightwatch", "ranks.kept=stores\n")
    shutil.copy(DEMO / "nightwatch" / "rights.yml", night)
    return site


def after(quay: SiteUnderTest, server: str, name: str) -> str:
    """Bring the slate into force, and return a file."""
    quay.ok("apply", server, "--yes", "--force")
    return (quay.folder / server / name).read_text()


@pytest.mark.parametrize("begun", [None, "", "{}\n", "# Ours.\n"])
def test_a_ladder_of_four_ranks_from_nothing(site: SiteUnderTest, begun: str | None) -> None:
    home = site.add("regatta")
    if begun is not None:
        (home / "ranks.yml").write_text(begun)
    output = site.ok("ranks", "tree") if begun is not None else ""
    assert begun is None or "begin with: roundgate ranks starter regatta" in output
    assert "All newcomers gain chat.say, sail.start, sail.stop." in site.ok("ranks", "starter")
    assert "regatta has ranks already: deckhand" in site.fails(1, "ranks", "starter")
    site.ok("ranks", "add", "steward", "--above", "deckhand", "may=crew.call", "colour=#112233")
    site.ok("people", "add", "Wren", WREN)
    site.ok("ranks", "join", "harbourmaster", "Wren")
    text = after(site, "regatta", "ranks.yml")
    found = yaml.safe_load(text)
    assert found["newcomers"] == "deckhand" and list(found["ranks"]) == [
        "deckhand",
        "coxswain",
        "marshal",
        "harbourmaster",
        "steward",
    ]
    assert found["ranks"]["steward"] == {"also": ["deckhand"], "may": ["crew.call"], "colour": "#112233"}
    assert "# Ours." in text or begun != "# Ours.\n"
    assert "Wren may rank.give" in site.ok("ranks", "may", "Wren", "rank.give")
    assert json.loads((home / "officers.json").read_text())["officers"][0]["rank"] == "harbourmaster"


def test_moderators_get_one_more_right_and_it_is_said_who_gains(quay: SiteUnderTest) -> None:
    output = quay.ok("ranks", "grant", "regatta", "marshal", "chat.mute", "chat.say")
    assert "Skua, Tern, Wren gain chat.mute, chat.say." in output
    assert "that is so already" in quay.ok("ranks", "grant", "regatta", "marshal", "chat.mute")
    assert "Tern may chat.mute" in quay.ok("ranks", "may", "regatta", "Tern", "chat.mute", "--slate")
    assert "Tern may NOT" in quay.fails(1, "ranks", "may", "regatta", "Tern", "chat.mute")
    quay.ok("ranks", "withdraw", "regatta", "marshal", "chat.say", "race.delete")
    assert "Skua, Tern gain race.delete." in quay.ok("ranks", "impact", "regatta")
    text = after(quay, "regatta", "ranks.yml")
    assert "never" not in text and yaml.safe_load(text)["ranks"]["marshal"]["may"] == ["race.*", "chat.mute"]
    assert "# Who may do what." in text
    assert "race.delete" in quay.ok("ranks", "impact", "regatta", "--against", "round:1")
    assert "Skua, Tern, Wren gain chat.mute." in quay.ok("ranks", "impact", "regatta", "--against", "round:1")


def test_a_new_role_is_written_in_all_the_places_that_it_needs(quay: SiteUnderTest) -> None:
    quay.ok("ranks", "add", "nightwatch", "bosun", "--above", "mate", "colour=#334455", "power=30")
    quay.ok("ranks", "join", "nightwatch", "bosun", SKUA)
    text = after(quay, "nightwatch", "rights.yml")
    found = yaml.safe_load(text)
    assert found["roles"] == ["lookout", "mate", "pilot", "bosun"]
    assert found["looks"]["bosun"] == {"colour": "#334455", "power": 30}
    assert "bosun" in found["rights"]["race.start"] and "bosun" not in found["rights"]["race.abort"]
    assert {f"{SKUA}@cove": "bosun"} in found["crew"] and "# on Fridays" in text
    assert "rank-" not in quay.run("check", "nightwatch").stdout
    output = quay.fails(1, "ranks", "remove", "nightwatch", "bosun")
    assert "would have no rank" in output and "--to <rank>" in output
    quay.ok("ranks", "remove", "nightwatch", "bosun", "--to", "lookout")
    assert "bosun" not in after(quay, "nightwatch", "rights.yml")
    assert "have no denials" in quay.fails(1, "ranks", "deny", "nightwatch", "mate", "race.start")


def test_a_rank_gets_another_name_wherever_it_is_named(quay: SiteUnderTest) -> None:
    output = quay.ok("ranks", "rename", "regatta", "deckhand", "hand")
    assert "ranks.yml:newcomers: deckhand -> hand" in output
    quay.ok("ranks", "rename", "regatta", "marshal", "referee")
    text = after(quay, "regatta", "ranks.yml")
    assert "deckhand" not in text and "marshal" not in text and "# only the harbourmaster" in text
    assert (quay.folder / "regatta" / "officers.json").read_text().count('"referee"') == 2
    assert "changes nothing" in quay.ok("ranks", "impact", "regatta")
    assert "hand is the rank of newcomers" in quay.fails(1, "ranks", "remove", "regatta", "hand")
    quay.ok("ranks", "default", "regatta", "coxswain")
    assert "All newcomers gain crew.call, crew.swap." in quay.ok("ranks", "impact", "regatta")


def test_what_is_expected_is_tested_by_command_by_check_and_in_the_review(quay: SiteUnderTest) -> None:
    book = quay.folder / "expectations.toml"
    assert "There is no file" in quay.fails(1, "ranks", "test")
    shutil.copy(DEMO / "expectations.toml", book)
    (quay.folder / "people.toml").write_text(f'[person.wren]\nname = "Wren"\nids.sailor = ["{WREN}"]\n')
    assert "expectations: all met." in quay.ok("ranks", "test")
    assert "rank-expected" not in quay.run("check", "@all").stdout
    quay.ok("ranks", "grant", "regatta", "deckhand", "chat.mute", "chat.say")
    output = quay.ok("slate", "regatta")
    assert "Not as expected any more: newcomers may not chat.mute." in output
    assert output.count("Not as expected") == 1, "what still is as expected is not named"
    output = quay.run("check", "regatta").stdout
    assert "rank-expected" in output and "expectations.toml:7" in output and "on the slate" in output
    output = quay.fails(1, "ranks", "test", str(book), "regatta")
    assert "NOT SO" in output and "deckhand grants chat.mute" in output
    rows = json.loads(quay.run("ranks", "test", str(book), "regatta", "--json").stdout)
    assert [row["expected"] for row in rows if not row["met"]] == ["newcomers may not chat.mute"]
    book.write_text('[[expect]]\nwho = "Wren"\nmay = 3\n')
    assert "expectations.toml:1" in quay.fails(1, "ranks", "test")
    assert "rank-expected" in quay.run("check", "regatta").stdout


def test_servers_files_and_rounds_are_compared(quay: SiteUnderTest, tmp_path: Path) -> None:
    other = tmp_path / "other.yml"
    other.write_text((DEMO / "regatta" / "ranks.yml").read_text().replace("race.*, rank.*", "rank.*"))
    rows = json.loads(quay.run("ranks", "diff", "regatta", str(other), "--json").stdout)
    assert rows == [{"rank": "harbourmaster", "only-first": ["race.delete"], "only-second": [], "missing": ""}]
    assert "no such rank" in quay.fails(1, "ranks", "diff", "regatta", "nightwatch")
    same = tmp_path / "same.yml"
    shutil.copy(DEMO / "regatta" / "ranks.yml", same)
    assert "may do the same" in quay.ok("ranks", "diff", "regatta", str(same))
    assert "Wren loses race.delete." in quay.ok("ranks", "impact", "regatta", "--against", str(other))
    assert "Two sides are needed" in quay.fails(2, "ranks", "diff", "regatta", "nightwatch", "regatta")
    assert "There is no round 77" in quay.fails(2, "ranks", "diff", "regatta", "round:77")


def test_a_mods_permissions_are_known_once_its_list_was_taken_in(quay: SiteUnderTest, tmp_path: Path) -> None:
    text = tmp_path / "lanterns.txt"
    text.write_text("| lanterns.light | lights them |\n- lanterns.douse: op\nsee mods/lanterns/settings.toml\n")
    grant = ("ranks", "grant", "regatta", "marshal", "lanterns.light")
    assert "has no permission 'lanterns.light'" in quay.fails(2, *grant)
    output = quay.ok("ranks", "catalogue", "regatta", "--from", str(text))
    assert "2 permissions in that text, 2 of them new in permissions.toml: lanterns.light, lanterns.douse" in output
    assert "0 of them new" in quay.ok("ranks", "catalogue", "regatta", "--from", str(text))
    path = quay.folder / "permissions.toml"
    path.write_text("# Kept by hand.\n" + path.read_text())
    text.write_text("lanterns.oil")
    quay.ok("ranks", "catalogue", "regatta", "--from", str(text))
    assert tomllib.loads(path.read_text())["permissions"]["gullwind"] == [
        "lanterns.light",
        "lanterns.douse",
        "lanterns.oil",
    ]
    assert path.read_text().startswith("# Kept by hand.\n")
    quay.ok(*grant)
    assert "Did you mean lanterns.light?" in quay.fails(2, "ranks", "grant", "regatta", "marshal", "lanterns.lihgt")
    assert "rank-permission" not in quay.run("check", "regatta").stdout
    assert "lanterns.oil" in quay.ok("ranks", "catalogue", "regatta")
    path.write_text("[permissions\n")
    assert "permissions.toml cannot be read" in quay.fails(1, "ranks", "tree", "regatta")


def test_a_permission_that_another_server_names_may_be_granted(quay: SiteUnderTest) -> None:
    grant = ("ranks", "grant", "regatta", "marshal", "oars.pull")
    quay.fails(2, *grant)
    home = quay.add("harbour")
    (home / "ranks.yml").write_text("newcomers: hand\nranks:\n  hand:\n    may: [oars.pull]\n")
    assert "Skua, Tern, Wren gain oars.pull." in quay.ok(*grant)
    assert "Did you mean oars.pull?" in quay.fails(2, "ranks", "grant", "regatta", "marshal", "oars.pul")


def test_the_matrix_is_drawn_where_it_can_be_read(quay: SiteUnderTest, tmp_path: Path) -> None:
    from matplotlib.image import imread  # takes most of a second, which every worker would spend on it

    picture = tmp_path / "m.png"
    assert f"Drawn: {picture}" in quay.ok("ranks", "matrix", "regatta", "--image", str(picture))
    pixels = imread(picture)
    assert pixels.shape[:2] == (800, 1280)
    assert len({tuple(one) for row in pixels[::4] for one in row[::4].round(1).tolist()}) > 3, "it shows something"
    quay.ok("ranks", "matrix", "@all", "--people", "--image", str(tmp_path / "p.svg"))
    assert "<svg" in (tmp_path / "p.svg").read_text()
    assert "is not a picture" in quay.fails(2, "ranks", "matrix", "regatta", "--image", "m.txt")
    assert "cannot be written" in quay.fails(1, "ranks", "matrix", "regatta", "--image", str(tmp_path / "no" / "m.png"))
    rank = "".join(f"  r{n}:\n    may: [race.start]\n" for n in range(41))
    (quay.folder / "regatta" / "ranks.yml").write_text(f"newcomers: r0\nranks:\n{rank}")
    assert "cannot be read on one picture" in quay.fails(1, "ranks", "matrix", "regatta", "--image", str(picture))
    assert "no permission in which they differ" in quay.ok("ranks", "matrix", "regatta", "--differs")


def test_levels_are_changed_by_what_a_permission_needs(site: SiteUnderTest) -> None:
    home = site.add("regatta", "ranks.kept=levels\n")
    (home / "commandlevels.properties").write_text("# by hand\nrace.abort=4\nrank.give=9\n")
    (home / "startup.cfg").write_text(f"grant {WREN} 9\ngrant {TERN} 3\n")
    assert "Tern" not in site.ok("ranks", "who", "race.abort")
    output = site.ok("ranks", "grant", "3", "race.abort", "race.start")
    assert f"{TERN}" in output and "gains race.abort" in output
    assert "Levels have no denials" in site.fails(1, "ranks", "deny", "3", "race.abort")
    assert "are numbers" in site.fails(1, "ranks", "add", "mate") and "is not a level" in site.fails(
        2, "ranks", "grant", "mate", "race.abort"
    )
    site.ok("ranks", "join", "5", TERN)
    site.ok("ranks", "withdraw", "9", "rank.give")
    text = after(site, "regatta", "commandlevels.properties")
    assert text == "# by hand\nrace.abort=3\nrace.start=3\n"
    assert f"grant {TERN} 5" in (home / "startup.cfg").read_text()
    assert "no entry is about it" in site.ok("ranks", "why", WREN, "rank.give")


def test_somebody_with_a_rank_whom_nobody_knows_is_a_note(quay: SiteUnderTest) -> None:
    logs = quay.folder / "regatta" / "logs"
    logs.mkdir()
    (logs / "latest.log").write_text(f"[2026-11-20 19:00:00] sailor Tern ({TERN}) came aboard\n")
    assert "rank-stranger" not in quay.run("check", "regatta").stdout, "no log has been read yet"
    quay.ok("people", "seen", "regatta")
    quay.ok("people", "add", "Wren", WREN)
    output = quay.run("check", "regatta").stdout
    assert output.count("rank-stranger") == 1 and f"{SKUA} is on officers as marshal, and was never seen here" in output
    assert "officers.json:5" in output
    (quay.folder / "regatta" / "guestlist.txt").write_text(f"{SKUA}\n")
    assert "rank-stranger" not in quay.run("check", "regatta").stdout, "on another roster too"


def test_what_does_not_fit_one_of_several_servers_is_put_on_none(quay: SiteUnderTest) -> None:
    assert "has no rank 'marshal'" in quay.fails(2, "ranks", "join", "marshal", WREN, "regatta,nightwatch")
    assert quay.ok("slate").count("the slate is empty") == 2
