"""What is wrong with ranks is found, in every form in which they may be kept; right files say nothing."""

from __future__ import annotations

import re

import pytest

from conftest import SiteUnderTest

WREN, TERN = "GW-7K3M-Q2XD", "GW-8P2C-W4TN"
OFFICERS = f'{{"officers": [{{"id": "{WREN}", "name": "Wren", "rank": "harbourmaster"}}]}}\n'
DECK = """newcomers: deckhand
ranks:
  deckhand:
    may: [sail.start, chat.say]
  marshal:
    also: [deckhand]
    may: [race.start]
  harbourmaster:
    also: [marshal]
    may: [race.*, rank.*]
"""
SIGNALS = """[guest]
power = 1
newcomer = 1
sail.start = 1
chat.say = 1
[warden]
power = 20
chat.say = 1
chat.mute = 1
[harbourmaster]
power = 40
everything = 1
rank.take = 1
"""
CREW = f"{WREN} harbourmaster\n{TERN} warden,guest\n"
RIGHTS = f"""newcomers: lookout
roles: [lookout, pilot]
looks:
  lookout: {{ colour: '#7f8c8d', power: 1 }}
  pilot: {{ colour: '#8e44ad', power: 40 }}
rights:
  sail.start: [lookout, pilot]
  race.abort: [pilot]
crew:
  - {WREN}@cove: pilot
"""
LINES = "deckhand: +sail.start +chat.say\nmarshal: +race.* -race.delete *deckhand\n"
WATERS = f"""ranks:
  deckhand:
    newcomer: true
    may: [sail.start]
  pilot:
    also: [deckhand]
    may: [race.abort]
crew:
  {WREN}:
    ranks: [pilot]
    may: [chat.say]
"""
FORMS: dict[str, dict[str, str]] = {
    "deck": {"ranks.yml": DECK, "officers.json": OFFICERS},
    "signals": {"signals.ini": SIGNALS, "signalcrew.txt": CREW},
    "stores": {"rights.yml": RIGHTS},
    "lines": {"crewlines.properties": LINES, "linecrew.properties": f"{WREN}=marshal\n"},
    "levels": {"commandlevels.properties": "race.abort=4\nrank.give=9\n", "startup.cfg": f"grant {WREN} 9\n"},
    "waters": {"waters/bay/ranks.yml": WATERS},
}


def kept(site: SiteUnderTest, form: str, files: dict[str, str] | None = None) -> None:
    """Add a server, down, that keeps its ranks in a form."""
    home = site.add("regatta", f"ranks.kept={form}\nworld.save=bay\n")
    (home / "saves").mkdir()
    (home / "saves" / "bay.world").write_text("{}")
    for name, text in (FORMS[form] if files is None else files).items():
        (home / name).parent.mkdir(parents=True, exist_ok=True)
        (home / name).write_text(text)


@pytest.mark.parametrize("form", FORMS)
def test_right_ranks_say_nothing_and_the_running_server_says_the_same(site: SiteUnderTest, form: str) -> None:
    kept(site, form)
    output = site.run("check", "regatta").stdout
    assert "rank-" not in output and "record-" not in output, output
    site.ok("start")
    for sailor in (WREN, TERN, "GW-9999-9999"):
        for permission in ("race.abort", "race.delete", "sail.start", "rank.give", "chat.say"):
            code = site.run("ranks", "may", sailor, permission).returncode
            output = site.ok("send", "regatta", f"may {sailor} {permission}")
            assert (f"{sailor} may {permission}" in output) == (code == 0), (sailor, permission, output)


@pytest.mark.parametrize(
    ("form", "name", "old", "new", "code", "words"),
    [
        ("deck", "ranks.yml", "    also: [deckhand]\n", "    also: [harbourmaster]\n", "rank-circle", "each other's"),
        ("deck", "ranks.yml", "newcomers: deckhand", "newcomers: deckhnad", "rank-newcomers", "Did you mean deckhand?"),
        ("deck", "ranks.yml", "newcomers: deckhand\n", "", "rank-newcomers", "No rank is that of newcomers"),
        (
            "waters",
            "waters/bay/ranks.yml",
            "  pilot:\n",
            "  pilot:\n    newcomer: true\n",
            "rank-newcomers",
            "deckhand, p",
        ),
        ("waters", "waters/bay/ranks.yml", "    newcomer: true\n", "", "rank-newcomers", "No rank is that"),
        ("deck", "ranks.yml", "race.start", "race.strat", "rank-permission", "Did you mean race.start?"),
        ("waters", "waters/bay/ranks.yml", "[chat.say]", "[chat.sey]", "rank-permission", "grants 'chat.sey'"),
        ("levels", "commandlevels.properties", "race.abort", "race.abrot", "rank-permission", "race.abort"),
        ("deck", "ranks.yml", "[race.start]", "[race.start, sail.start]", "rank-idle", "marshal grants sail.start"),
        ("deck", "ranks.yml", "rank.*]\n", "rank.*]\n    never: [crew.call]\n", "rank-idle", "nothing grants it"),
        (
            "lines",
            "crewlines.properties",
            "marshal:",
            "bosun: +race.start\nmarshal:",
            "rank-empty",
            "Nobody is in bosun",
        ),
        ("deck", "ranks.yml", "[sail.start, chat.say]", "[sail.start, chat.mute]", "rank-base", "may not chat.say"),
        ("deck", "ranks.yml", "[race.start]", "[race.start, race.delete]", "rank-dangerous", "race.delete, which is"),
        ("deck", "ranks.yml", "[race.start]", "['*']", "rank-dangerous", "marshal grants all permissions"),
        ("levels", "commandlevels.properties", "rank.give=9", "rank.give=3", "rank-dangerous", "3 grants rank.give"),
        (
            "levels",
            "commandlevels.properties",
            "rank.give=9",
            "chat.mute=2",
            "rank-base",
            "2 may chat.mute, and may not",
        ),
        ("deck", "ranks.yml", "[race.start]", "[race.*]", "rank-dangerous", "race.*, and so race.delete, which"),
        ("signals", "signals.ini", "rank.take = 1\n", "", "rank-left-out", "that leaves out rank.take"),
        (
            "signals",
            "signals.ini",
            "chat.mute = 1",
            "chat.mute = yes",
            "rank-flag",
            "chat.mute is yes; it may be 1 or 0",
        ),
        ("signals", "signals.ini", "power = 20", "power = 40", "rank-power", "have the same power, 40"),
        (
            "stores",
            "rights.yml",
            "race.abort: [pilot]",
            "race.abort: [pilott]",
            "rank-undeclared",
            "Did you mean pilot?",
        ),
        ("stores", "rights.yml", "  pilot: {", "  plot: {", "rank-incomplete", "pilot has no colour, power"),
        ("stores", "rights.yml", "roles: [lookout, pilot]", "roles: [lookout]", "rank-undeclared", "the rank 'pilot'"),
        ("deck", "ranks.yml", "    may: [race.start]", "    may:\n      race.start:", "rank-not-list", "- race.start"),
        ("signals", "signalcrew.txt", "warden,guest", "warden,gest", "record-reference", "Did you mean guest?"),
        ("stores", "rights.yml", "@cove: pilot", "@cove: pilt", "record-reference", "Did you mean pilot?"),
        ("deck", "ranks.yml", "    may: [race.start]", "\tmay: [race.start]", "tab", "tab"),
    ],
)
def test_what_is_wrong_with_ranks_is_found_with_its_place(
    site: SiteUnderTest, form: str, name: str, old: str, new: str, code: str, words: str
) -> None:
    kept(site, form)
    path = site.folder / "regatta" / name
    assert path.read_text().count(old) == 1
    path.write_text(path.read_text().replace(old, new))
    output = site.run("check", "regatta").stdout
    assert code in output and words in output, output
    assert f"{name}" in output
    assert code != "rank-base" or output.count("rank-base") == 1, "said where it begins, not of those above"
    assert "unexpected" not in site.run("ranks", "matrix").stderr
    if not code.startswith(("record", "tab")):
        assert code in site.ok("explain", code)


def test_a_world_without_ranks_and_ranks_without_a_world_are_found(site: SiteUnderTest) -> None:
    kept(site, "waters", {"waters/bay/ranks.yml": WATERS, "waters/moon/ranks.yml": WATERS})
    output = site.run("check", "regatta").stdout
    assert "ranks of the world moon, and there is no such world (saves/moon.world)" in output
    (site.folder / "regatta" / "saves" / "moon.world").write_text("{}")
    assert "rank-world" not in site.run("check", "regatta").stdout
    site.ok("set", "regatta", "world.save=fjord")
    output = site.run("check", "regatta").stdout
    assert "loads the world fjord, and that has no ranks" in output and "There are ranks of: bay, moon" in output


def test_worlds_are_asked_about_by_name_and_compared(site: SiteUnderTest) -> None:
    moon = WATERS.replace("[race.abort]", "[race.abort, race.start]").replace("ranks: [pilot]", "ranks: [deckhand]")
    kept(site, "waters", {"waters/bay/ranks.yml": WATERS, "waters/moon/ranks.yml": moon})
    assert site.ok("ranks", "may", WREN, "race.abort") == f"regatta@bay  {WREN} may race.abort\n"
    assert "may NOT" in site.fails(1, "ranks", "may", "regatta@moon", WREN, "race.abort")
    output = site.fails(1, "ranks", "diff", "regatta@bay", "regatta@moon")
    assert re.search(r"pilot +- +race\.start", output), output
    site.ok("ranks", "grant", "regatta@moon", "pilot", "race.delete")
    assert "waters/moon/ranks.yml (after)" in site.ok("slate", "regatta")
    assert "regatta@nowhere" not in site.fails(2, "ranks", "tree", "regatta@nowhere").replace("'nowhere'", "")


def test_a_member_whose_rank_is_in_two_places_is_said(site: SiteUnderTest) -> None:
    """One rulebook more, on top: the guests have ranks too."""
    kept(site, "deck")
    (site.folder / "rulebooks").mkdir()
    (site.folder / "rulebooks" / "club.toml").write_text(
        '[rulebook]\nname = "club"\ntitle = "Club"\nlayers = ["gullwind"]\n\n'
        '[ranks.deck]\nmembers = ["officers", "line-crew"]\n'
    )
    site_file = site.folder / "roundgate.toml"
    site_file.write_text(site_file.read_text().replace('rulebook = "gullwind"', 'rulebook = "club"'))
    (site.folder / "regatta" / "linecrew.properties").write_text(f"{WREN}=marshal\n")
    output = site.run("check", "regatta").stdout
    assert f"The rank of {WREN} is given in officers and in line-crew" in output, output


def test_places_are_right_whatever_the_line_ends_are(site: SiteUnderTest) -> None:
    """Lines are counted in one way: a file with carriage returns alone has lines too."""
    kept(site, "deck")
    path = site.folder / "regatta" / "ranks.yml"
    spoilt = DECK.replace("race.start", "race.strat").replace("newcomers: deckhand", "newcomers: deckhnad")
    for end in ("\n", "\r\n", "\r"):
        path.write_bytes(spoilt.replace("\n", end).encode())
        output = site.run("check", "regatta").stdout
        assert "rank-permission  ranks.yml:7:11" in output and "may: [race.strat]" in output, (end, output)
        assert "rank-newcomers" in output
