"""Every file of a server that holds settings: what people type, what goes where, and what each trap costs.

The stand-in reads all of these files silently and forgivingly; each of its habits is caught by ``check``, by
``set``, or by the proof.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import SiteUnderTest

WEATHER = "; Race days.\n[wind]\nMean=12.5\n; Storms=0.1\n\n[tide]\nHeight=2.50\n"


@pytest.fixture
def regatta(site: SiteUnderTest) -> Path:
    """One server, down, with a weather file."""
    home = site.add("regatta", "boat.slots=16\nworld.save=bay\n")
    (home / "weather.ini").write_text(WEATHER)
    (home / "startup.cfg").write_text("// At the start.\nset patrol.boats 1\n")
    return home


@pytest.fixture
def running(site: SiteUnderTest, regatta: Path) -> Iterator[SiteUnderTest]:
    site.ok("start")
    yield site


@pytest.fixture
def modded(regatta: Path) -> Path:
    """Two mods beside it, the second of which needs the first."""
    for mod in ("lanterns", "fogbank"):
        (regatta / "mods" / mod).mkdir(parents=True)
        (regatta / "mods" / mod / f"{mod}.key").write_text(f"key of {mod}\n")
    (regatta / "mods" / "fogbank" / "needs.txt").write_text("lanterns\n")
    (regatta / "mods" / "lanterns" / "template.ini").write_text("[lantern]\nOil=60\n")
    return regatta


def as_edition(site: SiteUnderTest, edition: str = "", version: str = "") -> None:
    """Say in the site file which edition and version the server is."""
    path = site.folder / "roundgate.toml"
    lines = (f'edition = "{edition}"\n' if edition else "") + (f'version = "{version}"\n' if version else "")
    path.write_text(path.read_text() + lines)


# --- setting, in each kind of file ---


TYPED = [
    ("wind.mean=14 knots", "weather.ini", "Mean=14"),
    ("wind.storms=25%", "weather.ini", "Storms=0.25"),
    ("fog.tint=#ff0000", "weather.ini", "Tint=1 0 0 1"),
    ("sky.birds=gulls,owls", "weather.ini", "Birds=gulls|owls"),
    ("fog.from=4:30", "weather.ini", "From=04:30"),
    ("tide.drift[2]=140%", "weather.ini", "Drift2=140"),
    ("patrol.route=heading=90 x=1 y=2 z=3", "startup.cfg", 'set patrol.route "1 2 3|90"'),
    ("pier.flags=ensign,storm", "startup.cfg", 'set flags "ensign|storm"'),
    ("horn.every=2h", "startup.cfg", "set horn.every 120"),
    ("score.first=12", "scoring.local.toml", "first = 12"),
    ("season.start=2026-05-01", "seamanship.toml", 'season-start = "2026-05-01"'),
    ("launch.mods=", "launch.sh", '--mods ""'),
    ("launch.cores=0-1", "launch.sh", "--cores 0x3"),
    ("launch.unlisted=on", "launch.sh", "--unlisted"),
    ("tide.table=bay", "gullwind.properties", "tide.table=bay.tide"),
    ("club.secretary=GW-7K3M-Q2XD", "gullwind.properties", "club.secretary=GW-7K3M-Q2XD"),
    ("relay.address=127.0.0.1:9000", "gullwind.properties", "relay.address=127.0.0.1:9000"),
]
"""What is typed, the file that it goes to, and what is in that file then."""


def test_what_is_typed_goes_into_its_file_in_the_files_own_form(running: SiteUnderTest) -> None:
    running.ok("set", *(typed for typed, _, _ in TYPED))
    running.ok("apply", "--yes")
    for typed, file, line in TYPED:
        assert line in running.text("regatta", file), typed


def test_a_file_made_by_the_first_change_begins_as_the_rulebook_says(site: SiteUnderTest, regatta: Path) -> None:
    (regatta / "startup.cfg").unlink()
    site.ok("set", "score.first=12", "radio.channel=71")
    diff = site.ok("slate")
    assert "+# The club's own scoring." in diff and "+// Commands that the server runs at its start." in diff


def test_a_setting_of_a_file_that_the_game_overwrites_goes_where_it_lasts(site: SiteUnderTest, regatta: Path) -> None:
    (regatta / "scoring.toml").write_text("[points]\nfirst = 10\nsecond = 8\n")
    site.ok("set", "score.second=9")
    assert "scoring.local.toml" in site.ok("slate")
    (regatta / "scoring.local.toml").write_text("[points]\nsecond = 7\n")
    shown = site.ok("show", "score.second")
    assert "score.second: scoring.toml has 8, and scoring.local.toml overrides it" in shown
    rulebook = (site.folder / "rulebooks").resolve()
    rulebook.mkdir()
    (rulebook / "gullwind.toml").write_text(
        '[rulebook]\nname = "gullwind"\n[file.core]\npath = "scoring.toml"\nformat = "toml"\nowner = "game"\n'
        '[setting.first]\nfile = "core"\nkey = "points.first"\ntype = "int"\n'
    )
    output = site.fails(1, "set", "first=11")
    assert "belongs to the game" in output and "roundgate edit regatta scoring.toml" in output


def test_a_value_in_two_places_is_written_and_taken_back_together(site: SiteUnderTest, regatta: Path) -> None:
    output = site.ok("set", "launch.memory=2G")
    assert "launch.memory: 4G -> 2G" in output and "launch.sh:--hold: not set -> 2048" in output
    assert "2 taken off" in site.ok("discard", "launch.memory")
    script = regatta / "launch.sh"
    script.write_text(script.read_text().replace("4096", "4096 --hold 1024"))
    output = site.fails(1, "check")
    assert "places-differ" in output and "do: roundgate set regatta launch.memory=4G" in output
    site.ok("set", "launch.sh:--hold=2048")
    waiting = site.ok("slate")
    assert "--may-take 2048 --hold 2048" in waiting, "either place means the setting"


def test_a_groups_settings_are_shown_and_what_does_not_count_is_said(site: SiteUnderTest, regatta: Path) -> None:
    shown = site.ok("show", "regatta", "tide.h", "wind.c")
    assert "tide.height  2.5 metres" in shown and "tide.height: does not count while tide.mode is spring" in shown
    assert "wind.calm: the scale is inverted: 1 means no calm at all" in shown
    page = json.loads(site.ok("explain", "tide.mode", "--json"))[0]
    assert "tide.height" in page["overrides"] and "maelstrom only in the edition offshore" in page["availability"]
    assert "storms-need-gusts" not in site.ok("check") and "setting-overridden" in site.ok("check")
    reviewed = site.ok("set", "wind.calm=0.9") + site.ok("slate")
    assert "the scale is inverted" in reviewed


def test_a_setting_of_another_edition_or_version_is_refused_and_hidden(site: SiteUnderTest, regatta: Path) -> None:
    site.ok("set", "ocean.swell=2", "race.tally=high")
    site.ok("discard")
    as_edition(site, "inshore", "2.4.1")
    output = site.fails(1, "set", "ocean.swell=2")
    assert "ocean.swell needs the edition offshore; regatta is inshore" in output and "Nothing was changed" in output
    assert "a version before 2.4; regatta is 2.4.1" in site.fails(1, "set", "race.tally=high")
    output = site.fails(1, "set", "tide.mode=maelstrom", "world.save=other")
    assert "value-edition" in output and "nothing was put" in output.lower()
    assert "ocean.swell" not in site.ok("show", "--advanced") and "ocean.swell" in site.ok("show", "--all")
    (regatta / "gullwind.properties").write_text("ocean.swell=2\n")
    assert "setting-absent" in site.ok("check")
    assert site.ok("slate") == "regatta: the slate is empty.\n"


def test_the_version_is_read_where_the_rulebook_says(running: SiteUnderTest) -> None:
    assert "a version before 2.4; regatta is 2.4.1" in running.fails(1, "set", "race.tally=high")
    running.ok("set", "race.handicap=20%")


def test_what_a_world_has_fixed_asks_for_a_new_one_and_offers_a_name(running: SiteUnderTest) -> None:
    output = running.fails(1, "set", "tide.mode=custom")
    assert "do: roundgate set regatta tide.mode=custom --new-world bay-2" in output
    assert "no new world is needed" in running.fails(2, "set", "race.laps=4", "--new-world", "cove")
    running.ok("set", "tide.mode=custom", "--new-world", "bay-2")
    done = running.ok("apply", "--yes")
    assert "tide.mode is custom, says its console" in done
    running.ok("set", "tide.height=3.25")
    assert "tide.height is 3.25 metres, says its console" in running.ok("apply", "--yes")


def test_a_preset_that_needs_a_mode_says_so_and_may_bring_it(running: SiteUnderTest) -> None:
    output = running.ok("preset", "use", "neap")
    assert "counts only with tide.mode=custom, which is not set: add --with-mode" in output
    running.ok("discard")
    assert "world-fixed" in running.fails(1, "preset", "use", "neap", "--with-mode")
    assert "tide.mode: " in running.ok("preset", "use", "neap", "--with-mode", "--new-world", "bay-2")
    assert "proven" in running.ok("apply", "--yes")
    assert "counts only" not in running.ok("preset", "use", "neap"), "the mode is set"


def test_a_world_is_made_with_a_value_that_the_server_takes_or_its_default(running: SiteUnderTest) -> None:
    path = running.folder / "regatta" / "gullwind.properties"
    text = path.read_text()
    for before, is_fixed in (("small", True), ("enormous", False)):
        path.write_text(f"{text}world.size={before}\n")
        done = running.run("set", "world.size=large")
        assert ("world-fixed" in done.stdout) == is_fixed, done.stdout
        running.ok("discard")


def test_a_preset_is_for_its_game_and_leaves_out_what_the_edition_lacks(site: SiteUnderTest, regatta: Path) -> None:
    (site.folder / "presets").mkdir()
    (site.folder / "presets" / "swell.toml").write_text(
        'rulebook = "gullwind"\n[set]\n"ocean.swell" = 3\n"race.laps" = 4\n'
    )
    (site.folder / "presets" / "other.toml").write_text('rulebook = "chess"\n[set]\nrook = 1\n')
    as_edition(site, "inshore")
    output = site.ok("preset", "use", "swell")
    assert "ocean.swell is left out: it needs the edition offshore" in output and "race.laps" in output
    assert "is for the rulebook chess; regatta has gullwind" in site.fails(2, "preset", "use", "other")
    assert "Did you mean gentle?" in site.fails(2, "preset", "use", "gentel")


# --- lists in one value, and mods ---


def test_entries_of_a_list_in_one_value_are_added_moved_and_removed(site: SiteUnderTest, regatta: Path) -> None:
    site.ok("add", "race.classes", "skua")
    assert "race.classes: not set (default gull,tern) -> gull,tern,skua" in site.ok("slate")
    site.ok("move", "race.classes", "Skua", "--to", "0")
    site.ok("remove", "race.classes", "gull")
    assert "-> skua,tern" in site.ok("slate")
    assert "Did you mean tern?" in site.fails(2, "remove", "race.classes", "tren")
    assert "Did you mean plover?" in site.fails(1, "add", "race.classes", "plovr")
    output = site.fails(1, "remove", "race.classes", "skua", "tern")
    assert "the minimum is 1" in output and "-> skua,tern" in site.ok("slate")


def test_a_mod_comes_with_its_key_and_its_settings_in_one_slate(site: SiteUnderTest, modded: Path) -> None:
    site.ok("start")
    output = site.fails(1, "add", "launch.mods", "fogbank")
    assert "mod-order" in output and "do: roundgate add regatta launch.mods lanterns --at 0" in output
    output = site.ok("add", "launch.mods", "lanterns", "fogbank")
    assert "keys/lanterns.key: not there -> a copy of mods/lanterns/lanterns.key" in output
    assert "lanterns.ini: not there -> a copy of mods/lanterns/template.ini" in output
    done = site.ok("apply", "--yes")
    assert "keys/fogbank.key" in done
    assert (modded / "keys" / "fogbank.key").read_text() == "key of fogbank\n"
    number = json.loads(site.ok("rounds", "--json"))[0]["round"]
    site.ok("rounds", "rewind", str(number), "--yes")
    assert not (modded / "keys" / "fogbank.key").exists() and not (modded / "lanterns.ini").exists()
    assert "--mods" not in site.text("regatta", "launch.sh")


def test_a_mod_that_is_not_there_or_lacks_its_key_is_found(site: SiteUnderTest, modded: Path) -> None:
    output = site.fails(2, "add", "launch.mods", "lantern")
    assert "There is no folder mods/lantern" in output and "there are: fogbank, lanterns" in output
    script = modded / "launch.sh"
    script.write_text(script.read_text().replace("4096", '4096 --mods "lanterns;drift"'))
    output = site.fails(1, "check")
    assert "mod-missing" in output and "mod-file-missing" in output
    (modded / "keys").mkdir()
    (modded / "keys" / "lanterns.key").write_text("my own\n")
    (modded / "mods" / "drift").mkdir()
    (modded / "lanterns.ini").write_text("[lantern]\n")
    site.ok("check")
    site.ok("remove", "launch.mods", "lanterns")
    assert "keys/" not in site.ok("add", "launch.mods", "lanterns"), "what already exists is not copied"


# --- a world's own file ---


def test_each_worlds_file_is_addressed_by_its_world(site: SiteUnderTest, regatta: Path) -> None:
    for world in ("bay", "cove"):
        (regatta / "waters" / world).mkdir(parents=True)
        (regatta / "waters" / world / "rules.ini").write_text("[water]\nDepth=8\n")
    site.ok("set", "water.depth@cove=5")
    assert "could be water.depth@bay or water.depth@cove" in site.fails(2, "set", "water.depth=5")
    site.ok("set", "waters/bay/rules.ini:water.depth=6", "waters/bay/rules.ini:water.Wrecks=2")
    waiting = site.ok("slate")
    assert all(name in waiting for name in ("water.depth@bay: 8 metres -> 6", "water.depth@cove", "water.wrecks@bay"))
    assert "value-range" in site.fails(1, "set", "water.depth@bay=99")
    site.ok("start")
    assert "water.depth@bay is 6 metres, says its console" in site.ok("apply", "--yes")
    assert "water.depth@cove" in site.ok("show", "water.depth")


def test_servers_with_other_worlds_and_editions_are_compared(site: SiteUnderTest, regatta: Path) -> None:
    site.add("harbour")
    (regatta / "waters" / "bay").mkdir(parents=True)
    (regatta / "waters" / "bay" / "rules.ini").write_text("[water]\nDepth=8\n")
    (regatta / "scoring.local.toml").write_text("[points]\nfirst = 11\n")
    done = site.run("compare", "regatta", "harbour", "--json")
    assert done.returncode == 1 and not done.stderr, done.stderr
    rows = {row["name"]: row["values"] for row in json.loads(done.stdout)["rows"]}
    assert "guests" not in rows, "neither has any"
    (regatta / "guestlist.txt").write_text("GW-7K3M-Q2XD\n")
    (site.folder / "harbour" / "guestlist.txt").write_text("GW-8P2C-W4TN\n")
    found = json.loads(site.run("compare", "regatta", "harbour", "--json").stdout)["rows"]
    guests = [row["values"] for row in found if (row["name"], row["kind"]) == ("guests", "records")]
    assert guests == [["1", "1, not the same"]]
    assert rows["water.depth@bay"] == ["8 metres", None]
    assert rows["score.first"] == ["11", "10 (default)"]


# --- the server's habits, each caught ---


@pytest.mark.parametrize(
    ("file", "text", "code"),
    [
        ("weather.ini", "[wind]\nMeen=9\n", "key-unknown"),
        ("weather.ini", "[wind]\nMean=fresh\n", "value-kind"),
        ("weather.ini", "[wind]\nMean=90\n", "value-range"),
        ("weather.ini", "[wind]\nFrom=SW\n", "value-choice"),
        ("weather.ini", "[fog]\nFrom=5:00\n", "value-kind"),
        ("weather.ini", "[sky]\nBirds=gulls, terns\n", "value-choice"),
        ("weather.ini", "[fog]\nFrom=07:00\nUntil=07:00\n", "rule-broken"),
        ("weather.ini", "[tide]\nDrift1=180\nDrift2=100\n", "rule-broken"),
        ("startup.cfg", "set lights yes\n", "value-spelling"),
        ("startup.cfg", "set patrol.route 1,2,3\n", "value-kind"),
        ("startup.cfg", 'set patrol.route "1 2 3|400"\n', "value-range"),
        ("startup.cfg", "set horn.every 2h\n", "value-kind"),
        ("seamanship.toml", 'season-start = "4.4.2026"\n', "value-kind"),
        ("seamanship.toml", 'season-start = "2026-12-01"\n', "rule-broken"),
        ("seamanship.toml", 'points-per-mile = "12"\n', "value-quoted"),
        ("seamanship.toml", "points-per-mile = 12\nbonus 3\n", ""),
        ("scoring.toml", "[points]\nsecond = 20\n", "rule-broken"),
        ("gullwind.properties", "tide.table=bay\n", "value-affix"),
        ("gullwind.properties", "club.secretary=Wren\n", "value-pattern"),
        ("gullwind.properties", "race.classes=gull,tern,gull\n", "value-entry"),
        ("gullwind.properties", "chart.file=bay.chart\n", "path-missing"),
        ("gullwind.properties", "memory.limit=8192\n", "rule-broken"),
        ("gullwind.properties", "boat.slots=30\nmemory.limit=512\n", "advice-table"),
    ],
)
def test_what_the_server_takes_without_a_word_is_found(
    site: SiteUnderTest, regatta: Path, file: str, text: str, code: str
) -> None:
    (regatta / file).write_text(text)
    output = site.run("check")
    assert "Traceback" not in output.stderr
    assert f"  {code or 'toml'}" in output.stdout or (not code and output.returncode == 1), output.stdout


def test_a_value_that_the_mode_overrides_is_no_proof(running: SiteUnderTest) -> None:
    """The rulebook may be silent about a mode; the proof is not: the server answers with another value."""
    book = running.ok("rulebook", "show", "gullwind").replace('overridden_by = "tide.mode != \\"custom\\""\n', "")
    assert 'overridden_by = "tide.mode' not in book
    (running.folder / "rulebooks").mkdir()
    (running.folder / "rulebooks" / "gullwind.toml").write_text(book)
    running.ok("set", "tide.height=4")
    output = running.fails(3, "apply", "--yes")
    assert "tide.height should be 4 metres, but its console says 3.1 metres" in output


# --- rulebooks ---


def test_a_rulebook_of_a_mod_is_checked_shown_and_used(site: SiteUnderTest, modded: Path) -> None:
    assert "lanterns: nothing wrong" in site.ok("rulebook", "check", "lanterns")
    assert '[setting."lantern.oil"]   # lanterns' in site.ok("rulebook", "show", "lanterns")
    path = site.folder / "roundgate.toml"
    path.write_text(path.read_text().replace('rulebook = "gullwind"', 'rulebook = "lanterns"'))
    assert "above the maximum, 24" in site.fails(1, "set", "race.slots=30")
    site.ok("start")
    site.ok("add", "launch.mods", "lanterns")
    site.ok("set", "lantern.oil=2h", "lantern.glow=#ff8800")
    done = site.ok("apply", "--yes")
    assert "lantern.oil is 2h, says its console" in done and "lantern.glow is 255,136,0, says its console" in done


def test_schemas_are_printed_for_rulebooks_the_site_and_a_games_files(site: SiteUnderTest, regatta: Path) -> None:
    assert "Setting" in json.loads(site.ok("rulebook", "schema"))["$defs"]
    assert "ServerEntry" in json.loads(site.ok("rulebook", "schema", "site"))["$defs"]
    made = json.loads(site.ok("rulebook", "schema", "gullwind", "scoring.toml"))
    assert made["properties"]["points"]["properties"]["first"]["maximum"] == 100
    assert "officers.json" in site.fails(2, "rulebook", "schema", "gullwind", "weather.ini")
    assert "Which file" in site.fails(2, "rulebook", "schema", "gullwind")


# --- files that include others, and what no file has ---


def test_of_a_file_and_what_it_includes_the_one_read_last_counts(running: SiteUnderTest, regatta: Path) -> None:
    (regatta / "startup.cfg").write_text("set patrol.boats 1\nrun night.cfg\nset patrol.speed 6\n")
    (regatta / "night.cfg").write_text("set patrol.boats 3\nset patrol.speed 9\nset lihgts off\n")
    shown = running.ok("show", "regatta", "patrol", "--json")
    found = {row["name"]: (row["disk"], row["file"]) for row in json.loads(shown)[0]["settings"]}
    assert found["patrol.boats"] == ("3", "night.cfg") and found["patrol.speed"] == ("6 knots", "startup.cfg")
    assert "Did you mean lights?" in running.ok("check")
    running.ok("set", "patrol.boats=5", "patrol.speed=7")
    done = running.ok("apply", "--yes")
    assert "patrol.boats is 5, says its console" in done and "patrol.speed is 7 knots, says its console" in done
    assert "patrol.boats 5" in (regatta / "night.cfg").read_text()
    (running.folder / "night.cfg").write_text("set patrol.boats 4\n")
    (regatta / "startup.cfg").write_text("run ../night.cfg\nrun nowhere.cfg\n")
    assert "night.cfg" not in running.ok("show", "regatta", "patrol", "--json")


def test_what_only_the_console_has_is_sent_there_and_said_to_be_lost(running: SiteUnderTest) -> None:
    output = running.fails(1, "set", "race.pause=on")
    assert "No file holds race.pause" in output and "roundgate set regatta race.pause=on --now" in output
    output = running.ok("set", "race.pause=on", "--now")
    assert "race.pause is on now, read back" in output and "the next restart loses it" in output
    assert "set at the console only: lost at the next restart" in running.ok("show", "regatta", "race.pause")
    assert "the live console alone" in running.ok("explain", "race.pause")
    assert running.ok("slate") == "regatta: the slate is empty.\n"
    running.ok("restart")
    assert "console only" not in running.ok("show", "regatta", "race.pause")


@pytest.mark.parametrize("moved", ["Harbour Mile", "Long Reach"])
@pytest.mark.parametrize("before", ["Harbour Mile", "The Narrows", "Long Reach", "Gull Rock Loop"])
def test_an_entry_is_moved_before_another_one(site: SiteUnderTest, regatta: Path, moved: str, before: str) -> None:
    courses = ["Harbour Mile", "The Narrows", "Long Reach", "Gull Rock Loop"]
    wanted = [course for course in courses if course != moved or course == before]
    if moved != before:
        wanted.insert(wanted.index(before), moved)
    (regatta / "courses.txt").write_text("".join(f"{course}\n" for course in courses))
    items = [{"id": course} for course in courses]
    (regatta / "rounds.json").write_text(json.dumps({"items": items, "plain": courses}))
    site.ok("move", "regatta", "courses", moved, "--before", before)
    site.ok("move", "regatta", "rounds.json:plain", moved, "--before", before)
    site.ok("move", "regatta", f"rounds.json:items/{moved}", "--before", before)
    site.ok("apply", "regatta", "--yes")
    assert (regatta / "courses.txt").read_text().splitlines() == wanted
    found = json.loads((regatta / "rounds.json").read_text())
    assert found["plain"] == wanted and [course["id"] for course in found["items"]] == wanted


def test_where_an_entry_is_moved_is_one_place_that_is_there(site: SiteUnderTest, regatta: Path) -> None:
    assert "Either --to or --before" in site.fails(2, "move", "regatta", "courses", "The Narrows")
    both = ("courses", "The Narrows", "--to", "0", "--before", "Harbour Mile")
    assert "Either --to or --before" in site.fails(2, "move", "regatta", *both)
    (regatta / "rounds.json").write_text(json.dumps({"items": [{"id": "Gull"}, {"id": "Tern"}]}))
    several = ("rounds.json:items/Tern", "--before", "*")
    assert "One record to move it before" in site.fails(2, "move", "regatta", *several)
    output = site.fails(1, "move", "regatta", "courses", "The Narrows", "--before", "Harbor Mile")
    assert "do: roundgate move regatta courses 'The Narrows' --before 'Harbour Mile'" in output
