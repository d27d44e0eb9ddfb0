"""The people book, rosters, and who was seen: from a name in last night's log to an officer on two servers."""

from __future__ import annotations

import bz2
import getpass
import gzip
import json
import lzma
import os
import re
import shutil
import sys
import tomllib
from datetime import date, timedelta
from pathlib import Path

import pytest
import zstandard

import roundgate
from background import Background
from conftest import BOOK, SiteUnderTest, wait_for
from terminals import Terminal

DEMO = Path(roundgate.__file__).parent / "demo" / "site" / "regatta"
WREN, TERN, SKUA, PLOVER = "GW-7K3M-Q2XD", "GW-8P2C-W4TN", "GW-2H9V-L6RB", "GW-5D4J-M8KF"


@pytest.fixture
def club(site: SiteUnderTest) -> SiteUnderTest:
    """Two servers with rosters, one of them with logs of a week."""
    for name in ("harbour", "regatta"):
        home = site.add(name, extra='tags = ["casual"]' if name == "harbour" else "")
        for file in ("ranks.yml", "guestlist.txt", "banned.txt"):
            shutil.copy(DEMO / file, home)
        (home / "officers.json").write_text('{"officers": []}\n')
        (home / "logs").mkdir()
    shutil.copy(DEMO / "officers.json", site.folder / "regatta")
    return site


def line(day: int, hour: int, name: str, identifier: str, what: str = "came aboard") -> str:
    return f"[2026-11-{day:02} {hour:02}:00:00] sailor {name} ({identifier}) {what}\n"


def write_logs(club: SiteUnderTest) -> Path:
    logs = club.folder / "regatta" / "logs"
    gone = line(3, 21, "Plover", PLOVER, "went ashore")
    packed = {
        "a.log.gz": gzip.compress(line(1, 19, "Plover", PLOVER).encode()),
        "b.log.xz": lzma.compress(line(2, 19, "Plover", PLOVER).encode()),
        "c.log.bz2": bz2.compress((line(3, 19, "Plover", PLOVER) + gone).encode()),
        "d.log.zst": zstandard.compress(line(4, 19, "Ruff", "GW-AAAA-2222").encode()),
    }
    for number, (name, data) in enumerate(packed.items()):
        (logs / name).write_bytes(data)
        os.utime(logs / name, (number * 1000.0, number * 1000.0))
    (logs / "latest.log").write_text(line(5, 19, "Wren\x1b[31m", WREN) + line(5, 20, "Plover", PLOVER))
    return logs


def seen(club: SiteUnderTest, *words: str) -> dict[str, dict[str, object]]:
    return {row["id"]: row for row in json.loads(club.ok("people", "seen", "regatta", "--json", *words))}


def test_who_was_seen_is_read_from_logs_of_every_kind_and_read_on_from_there(club: SiteUnderTest) -> None:
    logs = write_logs(club)
    found = seen(club)
    assert (found[PLOVER]["visits"], found[PLOVER]["seconds"]) == (4, 7200.0) and found["GW-AAAA-2222"][
        "name"
    ] == "Ruff"
    shown = club.ok("people", "seen", "regatta")
    assert "\x1b" not in shown and "Wren\\x1b[31m" in shown and "2026-11-05 20:00" in shown
    with (logs / "latest.log").open("a") as file:
        file.write(line(6, 19, "Plover", PLOVER) + line(6, 20, "Tern", TERN)[:30])
    assert seen(club)[PLOVER]["visits"] == 5 and TERN not in seen(club), "a line that is not whole yet is left"
    with (logs / "latest.log").open("a") as file:
        file.write(line(6, 20, "Tern", TERN)[30:])
    assert seen(club)[TERN]["visits"] == 1 and seen(club)[PLOVER]["visits"] == 5
    os.rename(logs / "latest.log", logs / "latest.log.1")
    (logs / "latest.log").write_text(line(7, 19, "Plover", PLOVER))
    assert seen(club)[PLOVER]["visits"] == 6, "a rotated log is known by its inode"
    assert seen(club, "--since", "1s") == {}
    assert "'soon' is not a duration" in club.fails(2, "people", "seen", "regatta", "--since", "soon")


def test_from_a_name_in_the_log_to_an_officer_on_two_servers(club: SiteUnderTest) -> None:
    write_logs(club)
    output = club.ok("add", "regatta", "officers", "Plover", "--as", "coxswain")
    assert f"Plover is {PLOVER}" in output
    assert "Plover joins officers: an admin as coxswain." in club.ok("slate", "regatta")
    assert "Did you mean Plover?" in club.fails(2, "add", "regatta", "officers", "Plovr", "--as", "coxswain")
    club.ok("people", "add", "Plover", PLOVER.lower())
    assert f"Plover is {PLOVER}" in club.ok("add", "harbour", "officers", "plover", "--as", "deckhand")
    assert "no ranks/cox" in club.fails(1, "set", "harbour", "officers/Plover.rank=cox")
    club.ok("apply", "regatta", "--yes")
    club.ok("apply", "harbour", "--yes")
    officers = json.loads((club.folder / "harbour" / "officers.json").read_text())["officers"]
    assert officers == [{"id": PLOVER, "name": "Plover", "rank": "deckhand"}]
    shown = club.ok("people", "show", "plover")
    assert "harbour  officers:deckhand, guests" in shown
    assert "regatta  officers:coxswain, guests  2026-11-01 19:00  2026-11-05 20:00  4       2h" in shown
    page = json.loads(club.ok("people", "show", "plover", "--json"))
    assert page["person"]["name"] == "Plover" and page["servers"][1]["rosters"] == ["officers:coxswain", "guests"]
    assert (page["servers"][0]["visits"], page["servers"][1]["visits"]) == (0, 4)


def test_the_rosters_become_what_the_book_wants_and_then_nothing_more(club: SiteUnderTest) -> None:
    club.ok("people", "add", "Wren", WREN)
    club.ok("people", "add", "Skua", f"https://lobby.example/{SKUA}")
    club.ok("people", "want", "Wren", "@all", "officers:marshal")
    club.ok("people", "want", "Skua", "@casual", "guests")
    output = club.ok("roster", "sync", "@all")
    assert re.search(rf"Wren +{WREN} +joins officers as marshal +officers: harbourmaster -> marshal", output), output
    assert re.search(rf"Skua +{SKUA} +joins guests\n", output) or re.search(rf"Skua +{SKUA} +joins guests +-", output)
    assert output.count("next: roundgate apply harbour,regatta") == 1, "one review for all servers"
    assert "Tern is on officers, unwanted by the book: kept" in output
    assert "-> " not in club.ok("roster", "sync", "@all")
    for server in ("harbour", "regatta"):
        club.ok("apply", server, "--yes")
    again = club.ok("roster", "sync", "@all")
    assert "harbour, regatta: the rosters are as the people book wants them" in again
    club.ok("roster", "sync", "regatta", "--exact")
    assert "leaves officers: no longer an admin" in club.ok("slate", "regatta")
    (row,) = [row for row in json.loads(club.ok("roster", "--json")) if row["id"] == WREN]
    assert row["rosters"] == {"harbour": ["officers:marshal", "guests"], "regatta": ["officers:marshal", "guests"]}
    assert "Wren       GW-7K3M-Q2XD" in club.ok("roster")


def test_the_book_is_kept_by_hand_or_by_command(club: SiteUnderTest) -> None:
    assert "Nobody is in the people book yet" in club.ok("people")
    club.ok("people", "add", "Wren", WREN)
    assert "is Wren already" in club.fails(2, "people", "add", "Jenny", WREN)
    assert "is not an id of any kind" in club.fails(2, "people", "add", "Jenny", "Jenny")
    club.ok("people", "note", "Wren", "has", "the key")
    club.ok("people", "rename", "wren", "Wren of Gull Rock")
    (one,) = json.loads(club.ok("people", "--json"))
    assert (one["name"], one["also"], one["note"]) == ("Wren of Gull Rock", ["Wren"], "has the key")
    output = club.ok("people", "remove", "Wren")
    assert "still on officers of regatta: roundgate remove regatta officers/GW-7K3M-Q2XD" in output
    (club.folder / "people.toml").write_text("[person.wren]\nnam = 'Wren'\n")
    assert "people.toml" in club.fails(1, "people") and "Traceback" not in club.fails(1, "roster")
    assert "'people dance' is not a command. One of: list, show" in club.fails(2, "people", "dance")


def test_ids_in_the_wrong_form_are_found_with_the_repair(club: SiteUnderTest) -> None:
    guests = club.folder / "regatta" / "guestlist.txt"
    guests.write_text(f"{WREN}\n{TERN.lower()}\nSkua\n{WREN.lower()}\n")
    output = club.fails(1, "check", "regatta")
    assert f"Did you mean {TERN}?" in output and f"do: roundgate rename regatta guests/{TERN.lower()} {TERN}" in output
    assert "'Skua' does not have the right form. It should look like GW-7K3M-Q2XD." in output
    assert f"more than once, as {WREN}" in output
    club.ok("rename", "regatta", f"guests/{TERN.lower()}", TERN)
    club.ok("remove", "regatta", "guests/Skua")
    club.ok("remove", "regatta", f"guests/{WREN.lower()}")
    club.ok("apply", "regatta", "--yes", "--force")
    assert guests.read_text() == f"{WREN}\n{TERN}\n"


def test_ids_pasted_from_a_chat_go_onto_a_roster_and_doubtful_ones_do_not(club: SiteUnderTest) -> None:
    chat = f"hi, {SKUA} and ({PLOVER}) please; also gw-aaaa-bbbb\n" + "".join(f"GW-{n:04}-ABCD;" for n in range(40))
    output = club.run("roster", "import", "regatta", "guests", "-", given=chat).stdout
    assert "not written like an id: gw-aaaa-bbbb" in output and "1 of them are on guests already" in output
    assert "(41 waiting)" in output
    path = club.folder / "ids.json"
    path.write_text(json.dumps([{"who": WREN}, {"who": "GW-9999-AAAA"}]))
    assert "GW-9999-AAAA: not there" in club.ok("roster", "import", "harbour", "bans", str(path))
    assert "nobody new" in club.ok("roster", "import", "harbour", "bans", str(path))
    assert "has no roster 'gests'" in club.fails(2, "roster", "import", "harbour", "gests", str(path))


def test_a_ban_ends_when_it_was_meant_to(club: SiteUnderTest) -> None:
    """By the file where that has a place for it; else the people book keeps it. check, status and sync see to it."""
    tomorrow, yesterday = (f"{date.today() + timedelta(days=days)}" for days in (1, -1))
    write_logs(club)
    club.ok("add", "regatta", "bans", "Plover", "--until", "1d")
    assert f"until={tomorrow}" in club.ok("slate", "regatta")
    output = club.ok("add", "regatta", "guests", "Ruff", "GW-9999-CCCC", "--until", "2w")
    assert "Ruff is GW-AAAA-2222" in output and output.count("the people book keeps that") == 2
    book = tomllib.loads((club.folder / "people.toml").read_text())["person"]
    assert book["ruff"]["until"] == {"regatta/guests": f"{date.today() + timedelta(days=14)}"}
    club.ok("apply", "regatta", "--yes", "--force")
    assert "person-due" not in club.run("check", "regatta").stdout
    path = club.folder / "people.toml"
    path.write_text(path.read_text().replace(f"{date.today() + timedelta(days=14)}", yesterday))
    bans = club.folder / "regatta" / "banned.txt"
    bans.write_text(bans.read_text().replace(tomorrow, yesterday))
    output = club.run("check", "regatta").stdout
    assert f"Plover's time on bans ended on {yesterday}." in output
    assert f"Ruff's time on guests ended on {yesterday}, by people.toml." in output
    assert "the time on" in club.ok("status", "regatta") and "roster sync regatta" in club.ok("status", "regatta")
    output = club.ok("roster", "sync", "regatta")
    assert re.search(rf"{PLOVER} +leaves bans, ended on {yesterday}", output)
    assert re.search(rf"GW-AAAA-2222 +leaves guests, ended on {yesterday}", output)
    club.ok("apply", "regatta", "--yes", "--force")
    assert PLOVER not in bans.read_text() and "GW-AAAA-2222" not in club.text("regatta", "guestlist.txt")
    assert "person-due" not in club.run("check", "regatta").stdout
    assert "-> " not in club.ok("roster", "sync", "regatta"), "twice changes nothing"
    club.ok("add", "regatta", "guests", "Ruff")
    assert "until" not in tomllib.loads(path.read_text())["person"]["ruff"], "without an end it has none any more"


def contents(club: SiteUnderTest) -> dict[Path, bytes]:
    """Return what is in the site, the state aside."""
    return {
        path: path.read_bytes() for path in club.folder.rglob("*") if path.is_file() and ".roundgate" not in path.parts
    }


@pytest.mark.parametrize(
    ("words", "expected"),
    [
        (("add", "regatta", "bans", PLOVER, "name=P", "--until", "soon"), "is not a time at which something ends"),
        (("add", "regatta", "bans", PLOVER, "name=P", "--until", "2020-01-01"), "is over already"),
        (("add", "regatta", "courses", "Long Reach", "--until", "7d"), "are for people on a roster"),
        (("add", "regatta", "guests", PLOVER, "--as", "marshal"), "have no rank"),
        (("add", "regatta", "guests", "Plover"), "Nobody called 'Plover'"),
        (("add", "regatta", "guests", "7350-441"), "An id looks like GW-"),
        (
            ("add", "regatta", "guests", "hv_3k9plq27"),
            "is the id of a haven, and here the id of a sailor is needed, such as GW-",
        ),
        (("add", "regatta", "gests", PLOVER), "Did you mean guests?"),
        (("add", "regatta", "guests", WREN), "already exists"),
        (("move", "regatta", "guests/Wren", "--to", "gold"), "has no roster 'gold'"),
        (("move", "regatta", "guests/Nobody", "--to", "bans"), "regatta has no guests/Nobody"),
        (("roster", "sync", "regata"), "There is no server 'regata'"),
        (("people", "want", "Wren", "@all", "officers"), "Nobody called 'Wren'"),
        (("people", "merge", "Wren", "Tern"), "Nobody called 'Wren'"),
        (("people", "show"), "Missing argument"),
        (("people", "want", "Wren"), "Missing argument"),
    ],
)
def test_wrong_words_about_people_are_one_message_and_change_nothing(
    club: SiteUnderTest, words: tuple[str, ...], expected: str
) -> None:
    before = contents(club)
    assert expected in club.fails(2, *words)
    assert "the slate is empty" in club.ok("slate", "regatta")
    assert contents(club) == before


def test_two_of_a_name_are_both_shown(club: SiteUnderTest) -> None:
    write_logs(club)
    with (club.folder / "regatta" / "logs" / "latest.log").open("a") as file:
        file.write(line(6, 12, "Plover", TERN))
    output = club.fails(2, "add", "regatta", "officers", "Plover")
    assert PLOVER in output and TERN in output and "Give the id" in output
    club.ok("people", "add", "Jay", SKUA)
    club.ok("people", "add", "Jay", "GW-9999-AAAA")
    assert "'Jay' could be Jay (jay), Jay (jay-2)" in club.fails(2, "add", "regatta", "guests", "Jay")
    assert "could be jay, jay-2" in club.fails(2, "people", "note", "JAY", "is", "late")
    assert "Jay is GW-9999-AAAA" in club.ok("add", "regatta", "guests", "jay-2")


def test_two_entries_of_the_book_become_one_person(club: SiteUnderTest) -> None:
    club.ok("people", "add", "Wren", WREN)
    club.ok("people", "add", "Jenny Wren", "GW-9999-AAAA")
    club.ok("people", "note", "Jenny Wren", "sails", "on", "Sundays")
    club.ok("people", "want", "Jenny Wren", "regatta", "guests")
    club.ok("people", "merge", "Wren", "Jenny Wren")
    (one,) = json.loads(club.ok("people", "--json"))
    assert (one["key"], one["name"], one["also"], one["note"]) == ("wren", "Wren", ["Jenny Wren"], "sails on Sundays")
    assert one["ids"] == {"sailor": [WREN, "GW-9999-AAAA"]} and one["wanted"] == {"regatta": "guests"}
    assert "That is one person already" in club.fails(2, "people", "merge", "Wren", "jenny wren")
    guests = club.folder / "regatta" / "guestlist.txt"
    guests.write_text(guests.read_text() + "GW-9999-AAAA\n")
    officers = club.folder / "regatta" / "officers.json"
    officers.write_text(officers.read_text().replace('"Wren"', '"Wrem"'))
    output = club.run("check", "regatta").stdout
    assert f"Wren is on guests twice: as {WREN} and as GW-9999-AAAA." in output
    assert f"{WREN} is called Wrem in officers, and Wren in the people book." in output
    path = club.folder / "people.toml"
    path.write_text(path.read_text() + f'\n[person.j]\nname = "Jay"\nids.sailor = ["{WREN}"]\n')
    output = club.fails(1, "check", "@all")
    assert output.count("people-same-id") == 1 and "roundgate people merge wren j" in output
    path.write_text("[person.wren]\nname = 3\n")
    assert "people.toml:2:1" in club.fails(1, "check", "@all") and "people.toml:2:1" in club.fails(1, "roster")


def test_the_last_admin_and_oneself_stay_unless_that_is_really_meant(club: SiteUnderTest) -> None:
    club.ok("people", "add", "Tern", TERN)
    path = club.folder / "people.toml"
    path.write_text(path.read_text() + f'user = "{getpass.getuser()}"\n')
    assert "That is you" in club.fails(1, "remove", "regatta", "officers/Tern")
    club.ok("remove", "regatta", "officers/Wren")
    club.ok("remove", "regatta", "officers/Skua")
    assert "the last admin of regatta" in club.fails(1, "move", "regatta", "officers/Tern", "--to", "bans")
    output = club.fails(1, "remove", "regatta", "officers/Tern")
    assert "Tern is the last admin of regatta. Nothing was put on the slate." in output and "--force" in output
    club.ok("people", "add", "Ruff", "GW-9999-AAAA")
    club.ok("people", "want", "Ruff", "regatta", "officers:deckhand")
    assert "That is you" in club.fails(1, "roster", "sync", "regatta", "--exact")
    club.ok("remove", "regatta", "officers/Tern", "--force")
    assert "(4 waiting)" in club.ok("set", "regatta", "race.laps=4")


def test_a_list_that_does_not_count_is_said_and_switched_on(club: SiteUnderTest) -> None:
    output = club.ok("add", "regatta", "guests", "GW-9999-AAAA")
    assert "guests does not count yet. To let it count: roundgate set regatta guests.only=on" in output
    club.ok("set", "regatta", "guests.only=on")
    assert "does not count" not in club.ok("add", "regatta", "guests", "GW-9999-BBBB")


def test_somebody_moves_from_one_roster_to_another(club: SiteUnderTest) -> None:
    club.ok("move", "regatta", "officers/Skua", "--to", "bans", "--until", "2w")
    output = club.ok("slate", "regatta")
    assert "Skua leaves officers" in output and "Skua joins bans: banned" in output
    club.ok("move", "regatta", f"guests/{PLOVER}", "--to", "officers", "--as", "deckhand")
    club.ok("apply", "regatta", "--yes", "--force")
    assert "Plover" in club.fails(2, "remove", "regatta", "guests/Plover"), "gone already, and not in the book"
    club.ok("people", "add", "Terence", TERN)
    assert f"guests/{TERN}" in club.ok("remove", "regatta", "guests/terence"), "by the name in the people book"
    assert f"Terence ({TERN}) leaves guests" in club.ok("slate", "regatta")
    assert f"id: {SKUA}\nname: Skua\nuntil: {date.today() + timedelta(days=14)}\n" in club.text("regatta", "banned.txt")
    officers = json.loads(club.text("regatta", "officers.json"))["officers"]
    assert officers[-1] == {"id": PLOVER, "rank": "deckhand"} and SKUA not in club.text("regatta", "officers.json")


def test_a_fresh_server_gets_its_first_admin_in_one_command(club: SiteUnderTest) -> None:
    assert "is not empty: Wren is on it" in club.fails(2, "roster", "first", "regatta")
    work = Background(club, "roster", "first", "harbour", "--as", "harbourmaster", "--yes")

    def comes_in() -> bool:
        club.run("send", "harbour", "muster")
        return work.process.poll() is not None

    wait_for(comes_in)
    code, output = work.end()
    assert code == 0, output
    assert "Join harbour now" in output and "joined: GW-" in output and "officers reload" in output
    (one,) = json.loads(club.text("harbour", "officers.json"))["officers"]
    assert one["rank"] == "harbourmaster" and "officer harbourmaster" in club.ok("send", "harbour", f"who {one['id']}")


def asked(site: SiteUnderTest, words: list[str], answers: list[tuple[str, str]]) -> tuple[int, str]:
    """Run a command at a terminal, answering each question as it comes; return the exit code and all that was shown."""
    with Terminal([sys.executable, "-m", "roundgate", *words], site.folder, TERM="dumb") as terminal:
        for question, answer in answers:
            terminal.until(question)
            terminal.type(f"{answer}\n")
        return terminal.end(), terminal.text


def test_at_a_terminal_what_is_not_clear_is_asked(club: SiteUnderTest) -> None:
    write_logs(club)
    with (club.folder / "regatta" / "logs" / "latest.log").open("a") as file:
        file.write(line(6, 12, "Plover", SKUA))
    code, output = asked(club, ["add", "regatta", "bans", "Plover"], [("Which? ", "2")])
    assert code == 0 and f"bans/{SKUA}" in output and PLOVER in output, output
    club.ok("discard", "regatta")
    assert asked(club, ["add", "regatta", "bans", "Plover"], [("Which? ", "9")])[0] == 2
    code, output = asked(club, ["add", "regatta", "grants", PLOVER], [("grants: level (", "7")])
    assert code == 0 and f"grants/{PLOVER}: not there -> id={PLOVER}, level=7" in output, output
    code, output = asked(club, ["add", "regatta", "grants", TERN], [("grants: level (", "12")])
    assert code == 1 and "12 is above the maximum, 9" in output, output
    code, output = asked(club, ["add", "regatta", "guests", SKUA], [("Set guests.only=on as well? [y/N] ", "y")])
    assert code == 0 and "guests.only: not set (default false) -> true" in output, output


def test_one_roster_is_a_table_with_who_was_seen_when(club: SiteUnderTest) -> None:
    write_logs(club)
    with (club.folder / "regatta" / "logs" / "latest.log").open("a") as file:
        file.write(line(6, 12, "W\u0433en", TERN))
    club.ok("people", "add", "Plover", PLOVER)
    output = club.ok("roster", "show", "regatta", "guests")
    assert f"regatta  Plover        {PLOVER}  2026-11-05 20:00  plover" in output, output
    assert f"regatta  W\u0433en          {TERN}" in output, "the name that was seen last"
    rows = json.loads(club.ok("roster", "show", "regatta", "bans", "--json"))
    assert [(row["name"], row["until"], row["last"]) for row in rows] == [
        ("Cormorant", "", 0.0),
        ("Skimmer", "2031-03-01", 0.0),
    ]
    assert "Did you mean guests?" in club.fails(2, "roster", "show", "regatta", "gests")
    shown = club.ok("people", "seen", "regatta")
    assert "looks like" not in shown, "that letter looks like no other"
    with (club.folder / "regatta" / "logs" / "latest.log").open("a") as file:
        file.write(line(6, 13, "\u0422ern", SKUA))
    assert "\u0422ern (looks like Tern)" in club.ok("people", "seen", "regatta")


@pytest.mark.parametrize(
    ("file", "text", "expected"),
    [
        ("officers.json", '{"officers": "Wren"}', "officers"),
        (
            "officers.json",
            '{"officers": ["GW-7K3M-Q2XD"]}',
            "This is a plain value, and the entries of officers are records",
        ),
        ("officers.json", '{"officers": [{"name": "Wren", "rank": "marshal"}]}', "has no id"),
        ("officers.json", '{"officers": [{"id": "Wren", "rank": "marshal"}]}', "'Wren' does not have the right form"),
        ("officers.json", '{"officers": [', "officers.json:1"),
        ("banned.txt", "id: GW-3X7Q-Z1PC\nname: Knot\nuntil: soon\n", "does not have the form"),
        ("banned.txt", "name: Knot\n", "has no id"),
        ("guestlist.txt", f"{WREN}\n{WREN}\n", "more than once"),
        ("guestlist.txt", "\x00\x01", "guestlist.txt"),
    ],
)
def test_a_file_that_is_not_what_the_rulebook_says_is_one_message(
    club: SiteUnderTest, file: str, text: str, expected: str
) -> None:
    (club.folder / "regatta" / file).write_text(text)
    shown = club.fails(1, "check", "regatta")
    assert expected in shown and file in shown
    for words in (["roster"], ["people", "show", "Wren"], ["show", "regatta", "officers"], ["status"]):
        assert "unexpected" not in club.run(*words).stderr


def test_a_roster_is_never_longer_than_the_server_reads(club: SiteUnderTest) -> None:
    (club.folder / "rulebooks").mkdir()
    book = BOOK.replace("[records.guests]\n", "[records.guests]\nmost = 4\n")
    (club.folder / "rulebooks" / "gullwind.toml").write_text(book)
    club.ok("add", "regatta", "guests", "GW-9999-AAAA")
    output = club.fails(1, "add", "regatta", "guests", "GW-9999-BBBB")
    assert "guests may have 4; there are 5." in output and "Nothing was put on the slate" in output


def test_one_is_banned_on_all_servers_by_a_name_that_one_of_them_has_seen(club: SiteUnderTest) -> None:
    """All or nothing: what does not fit on one server is put on none; who already exists is told."""
    write_logs(club)
    output = club.ok("add", "@all", "bans", "Ruff", "--until", "1w")
    assert output.count("Ruff is GW-AAAA-2222") == 2 and output.count("bans/GW-AAAA-2222: not there") == 2
    output = club.ok("add", "@all", "bans", "Ruff", "GW-9999-DDDD")
    assert output.count("Ruff is on bans already") == 2 and output.count("bans/GW-9999-DDDD: not there") == 2
    club.ok("discard", "@all")
    (club.folder / "rulebooks").mkdir()
    book = BOOK.replace("[roster.bans]\n", "[roster.outlaws]\n").replace("[records.bans", "[records.outlaws")
    book = book.replace('records = "bans"', 'records = "outlaws"')
    (club.folder / "rulebooks" / "strict.toml").write_text(book.replace('name = "gullwind"', 'name = "strict"', 1))
    path = club.folder / "roundgate.toml"
    before, _, after = path.read_text().rpartition('rulebook = "gullwind"')
    path.write_text(f'{before}rulebook = "strict"{after}')
    assert "for people on a roster" in club.fails(2, "add", "@all", "bans", "Ruff", "--until", "1w")
    assert club.ok("slate", "@all").count("the slate is empty") == 2
