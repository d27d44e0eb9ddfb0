"""The built program as a person calls it: looking, editing, checking, and every wrong word or value."""

from __future__ import annotations

import json
import os
import re
import shlex
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import BOOK, SiteUnderTest, words_of
from roundgate.core.quoting import placeholder_in

# --- what a person types --------------------------------------------------------------------------------------------


TYPED = [
    ("idle.drop=10m", "idle.drop.minutes", "10"),
    ("ping.limit=0.5s", "ping.limit", "500"),
    ("hull.damage=90%", "hull.damage", "90"),
    ("gust.share=90%", "gust.share", "0.9"),
    ("memory.limit=2G", "memory.limit", "2048"),
    ("gust.on=no", "gusts", "false"),
    ("tick.rate=60", "tick.rate", "60"),
    ("server.language=NL", "language", "nl"),
    ("welcome=Ahoy\\nMind the gap", "welcome.text", "Ahoy|Mind the gap"),
    ("gullwind.properties:mod.sails=red and white", "mod.sails", "red and white"),
    ("server.motto=a=b: #c", "server.motto", "a=b: #c"),
]


def test_values_as_people_say_them_end_up_as_the_file_holds_them(regatta: SiteUnderTest) -> None:
    regatta.ok("set", "regatta", "--new", *(typed for typed, _, _ in TYPED))
    regatta.ok("apply", "--yes")
    assert {key: regatta.value("regatta", key) for _, key, _ in TYPED} == {key: stored for _, key, stored in TYPED}


@pytest.mark.parametrize(
    ("typed", "key", "stored"),
    [
        ("idle.drop=600s", "idle.drop.minutes", "10"),
        ("idle.drop=off", "idle.drop.minutes", "0"),
        ("ping.limit=no limit", "ping.limit", "-1"),
        ("RACE.SLOTS=20", "boat.slots", "20"),
        ("slots=20", "boat.slots", "20"),
        ("boat.slots=20", "boat.slots", "20"),
    ],
)
def test_many_ways_to_say_one_thing(regatta: SiteUnderTest, typed: str, key: str, stored: str) -> None:
    regatta.ok("set", typed)
    [change] = json.loads(regatta.ok("slate", "--json"))[0]["changes"]
    assert change["before"] != change["after"]
    assert f"+{key}={stored}" in json.loads(regatta.ok("slate", "--json"))[0]["diff"]


WRONG: list[tuple[int, list[str], list[str]]] = [
    (1, ["set", "race.slots=40"], ["40 is above the maximum, 32", "hides the server", "race.slots=32"]),
    (1, ["set", "race.slots=many"], ["is not a whole number"]),
    (1, ["set", "tide.mode=sprng"], ["is not one of calm, spring", "tide.mode=spring"]),
    (1, ["set", "gust.on=perhaps"], ["neither yes nor no"]),
    (1, ["set", "idle.drop=90s"], ["not a whole number of minutes"]),
    (1, ["set", "wind.scale=0,8"], ["the decimal sign is a point", "wind.scale=0.8"]),
    (1, ["set", "net.port=99999"], ["ports go from 1 to 65535"]),
    (1, ["set", "net.address=300.1.1.1"], ["four numbers from 0 to 255"]),
    (1, ["set", "server.site=saltmarsh.example"], ["https://saltmarsh.example"]),
    (1, ["set", "server.name=The Privateers"], ["blocked word 'privateer'", "lobby hides"]),
    (1, ["set", "server.name=ab"], ["the minimum is 3"]),
    (1, ["set", "world.save=Second Tide"], ["does not have the right form", "first-tide"]),
    (1, ["set", "tick.rate=33"], ["steps of 10", "tick.rate=30"]),
    (1, ["set", "server.motto=a\tb"], ["control character"]),
    (1, ["set", "race.heat=14", "race.slots=12"], ["A heat cannot have more boats"]),
    (1, ["set", "console.open=on"], ["An open console needs a password"]),
    (1, ["set", "hull.damage=120%"], ["120 is above the maximum, 100"]),
    (2, ["set", "race.slot=12"], ["has no setting 'race.slot'", "Did you mean race.slots?"]),
    (2, ["set", "race.slots"], ["has no value"]),
    (2, ["set", "regata", "race.slots=12"], ["no server 'regata'", "Did you mean regatta?"]),
    (2, ["set", "@fast", "race.slots=3"], ["No server has the tag fast", "@all"]),
    (2, ["set", "entry.code=4711"], ["must not be part of the command"]),
    (2, ["set", "gullwind.properties:admin_password=x"], ["must not be part of the command"]),
    (2, ["set", "gulwind.properties:boat.slots=12"], ["has no file", "gullwind.properties:boat.slots=12"]),
    (2, ["set", "server=3"], ["Did you mean one of server.name, server.motto"]),
    (2, ["set", "courses=3"], ["courses is a list", "roundgate add"]),
    (1, ["add", "courses", "harbour mile"], ["is not known", "Harbour Mile"]),
    (1, ["remove", "courses", "Harbor Mile"], ["is not in courses", "Did you mean Harbour Mile?"]),
    (2, ["add", "race.slots", "3"], ["is a setting, not a list"]),
    (2, ["add", "courses"], ["A list and an entry are needed"]),
    (2, ["rounds", "show", "99"], ["There is no round 99"]),
    (2, ["rounds", "rewind", "99", "--yes"], ["There is no round 99"]),
    (2, ["check", "--format", "xml"], ["There is no format 'xml'"]),
    (2, ["explain", "race.slotz"], ["Did you mean race.slots?"]),
    (2, ["apply", "--at", "25:00", "--yes"], ["is not a time of day"]),
    (2, ["apply", "--countdown", "soon", "--yes"], ["is not a duration"]),
    (1, ["send", "status"], ["regatta is down", "roundgate start"]),
    (1, ["set", "race.laps=4", "--now"], ["is down"]),
    (1, ["set", "race.slots=20", "--now"], ["cannot be set at the live console"]),
]


@pytest.mark.parametrize("part", range(4))
def test_wrong_words_give_one_clear_message_and_change_nothing(regatta: SiteUnderTest, part: int) -> None:
    """In four parts, so that no worker waits for the one that has all of them."""
    before = regatta.text("regatta")
    for code, words, output in WRONG[part::4]:
        heard = regatta.fails(code, *words)
        assert "do: " in heard or "hint: " in heard, f"{words}: {heard}"
        for part in output:
            assert part in heard, f"{words}: {heard}"
    assert regatta.text("regatta") == before
    assert "the slate is empty" in regatta.ok("slate")


PLACEHOLDER = re.compile(r"\b[A-Z]{3,}\b|\.\.\.|\(")


@pytest.mark.parametrize("part", range(3))
def test_the_advice_for_a_wrong_call_can_be_followed(regatta: SiteUnderTest, part: int) -> None:
    """Each ``do:`` line that is a whole command is run as it stands, and does what it says."""
    followed = 0
    for _, words, _ in WRONG[part::3]:
        heard = regatta.run(*words)
        for line in (heard.stdout + heard.stderr).splitlines():
            advice = line.strip().removeprefix("do: ")
            if placeholder_in(advice):
                refuse_open_value(regatta, advice)
                continue
            is_call = line.strip().startswith("do: roundgate ") and not PLACEHOLDER.search(advice)
            if not is_call or shlex.split(advice)[1] in ("start", "log", "check"):
                continue
            done = regatta.run(*shlex.split(advice)[1:], given="471147\n")
            if "world-fixed" in done.stdout or "--new makes one" in done.stderr:
                continue  # right as a value; that it needs a new world is the next thing to be told
            assert done.returncode == 0, f"{words}: {advice}\n{done.stdout}{done.stderr}"
            followed += 1
        regatta.run("discard", "regatta")
    assert followed > 3


def refuse_open_value(site: SiteUnderTest, advice: str) -> None:
    """What only the user knows: neither the shell nor the program takes what stands in its place."""
    call = advice.replace("roundgate", "touch ran;", 1)
    assert subprocess.run(["sh", "-c", call], cwd=site.folder, capture_output=True, check=False).returncode
    assert not (site.folder / "ran").exists(), call
    assert "stands for what you mean" in site.fails(2, *shlex.split(advice.partition("    (")[0])[1:])


def test_nothing_is_asked_where_nobody_can_answer(regatta: SiteUnderTest) -> None:
    regatta.ok("set", "race.slots=20")
    assert "do: roundgate apply --yes" in regatta.fails(2, "apply")
    assert regatta.value("regatta", "boat.slots") == "16"


def test_the_last_course_cannot_be_removed_and_order_is_kept(regatta: SiteUnderTest) -> None:
    regatta.ok("remove", "courses", "Harbour Mile")
    assert "at least one entry" in regatta.fails(1, "remove", "courses", "The Narrows")
    regatta.ok("add", "courses", "Lantern Run", "--at", "0")
    regatta.ok("add", "courses", "ws:204815", "Long Reach")
    regatta.ok("move", "courses", "Long Reach", "--to", "1")
    regatta.ok("apply", "--yes")
    assert regatta.text("regatta", "courses.txt").split("\n") == [
        "Lantern Run",
        "Long Reach",
        "The Narrows",
        "ws:204815",
        "",
    ]


def test_reset_discard_and_a_second_value_for_one_setting(regatta: SiteUnderTest) -> None:
    regatta.ok("set", "race.slots=20")
    regatta.ok("set", "race.slots=24", "race.laps=9")
    assert regatta.ok("slate").count("race.slots: 16 -> 24") == 1
    assert "1 taken off the slate, 1 left" in regatta.ok("discard", "slots")
    regatta.fails(1, "discard", "race.heat")
    regatta.ok("reset", "race.slots")
    regatta.ok("apply", "--yes")
    assert (regatta.value("regatta", "boat.slots"), regatta.value("regatta", "laps.count")) == ("12", "9")


def test_a_secret_is_taken_from_standard_input_and_never_shown(running: SiteUnderTest) -> None:
    secret = "48151623"
    output = running.ok("set", "entry.code", given=secret + "\n")
    running.fails(1, "set", "entry.code", given="12\n")
    output += running.fails(1, "set", "entry.code", given="not-digits-99\n")
    assert "not-digits-99" not in output
    output += running.ok("slate") + running.ok("slate", "--json") + running.ok("apply", "--yes")
    assert running.value("regatta", "entry.code") == secret
    output += running.ok("show", "--all") + running.ok("show", "--all", "--json") + running.ok("explain", "entry.code")
    path = running.folder / "regatta" / "gullwind.properties"
    path.write_text(path.read_text() + f"entry.code=x{secret} \n#entry.code={secret}\nentry_codde={secret}\n")
    output += running.fails(1, "check") + running.fails(1, "check", "--json") + running.ok("status")
    output += (
        running.ok("rounds") + running.ok("rounds", "show", "2") + running.ok("rounds", "--json") + running.ok("log")
    )
    assert secret not in output
    state = running.folder / ".roundgate"
    holds = [one for one in state.rglob("*") if one.is_file() and secret.encode() in one.read_bytes()]
    allowed = ("before-", "gullwind.properties")
    assert all(hold.name.startswith(allowed) for hold in holds), "only private copies of the file itself may hold it"


def test_a_secret_that_the_server_itself_logs_is_blanked_out_in_all_that_a_round_says(site: SiteUnderTest) -> None:
    """The start script prints the new code as a failure: it is the reason of the rewind, and evidence."""
    home = site.add("regatta", "boat.slots=16\n")
    script = (home / "launch.sh").read_text()
    words = "sed -n 's/^entry.code=[0-9]/ERROR in config: &/p' gullwind.properties\n"
    (home / "launch.sh").write_text(script.replace("exec ", words + "exec "))
    site.ok("start")
    site.ok("set", "entry.code", given="48151623\n")
    output = site.fails(3, "apply", "--yes")
    assert "its log says: ERROR in config: entry.code=(hidden)" in output
    output += site.ok("rounds", "show", "2") + site.ok("rounds", "show", "2", "--json") + site.ok("rounds", "--json")
    assert "48151623" not in output
    site.ok("discard")
    site.ok("stop")
    books = (site.folder / ".roundgate" / "state.sqlite").read_bytes()
    assert b"48151623" not in books, "neither the journal nor the history may keep it"


def test_nothing_on_the_way_has_the_secret_among_its_arguments(running: SiteUnderTest) -> None:
    running.ok("set", "entry.code", given="48151623\n")
    terminal = subprocess.Popen(
        [sys.executable, "-m", "roundgate", "apply", "--yes", "--countdown", "1s"],
        cwd=running.folder,
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
    )
    seen = 0
    while terminal.poll() is None:
        for process in running.processes():
            seen += 1
            assert "48151623" not in " ".join(words_of(process))
    assert terminal.returncode == 0 and seen


# --- looking --------------------------------------------------------------------------------------------------------


def test_show_tells_the_four_layers(running: SiteUnderTest) -> None:
    running.ok("set", "race.slots=24")
    running.ok("send", "value gust.limit 30")
    path = running.folder / "regatta" / "gullwind.properties"
    path.write_text(path.read_text().replace("heat.size=8", "heat.size=6"))
    found = {setting["name"]: setting for setting in json.loads(running.ok("show", "--all", "--json"))[0]["settings"]}
    slots, heat, gust = found["race.slots"], found["race.heat"], found["gust.limit"]
    assert (slots["default"], slots["disk"], slots["slate"], slots["running"]) == ("12", "16", "24", "16")
    assert [(difference["code"], difference["value"]) for difference in slots["differences"]] == [("on-slate", "24")]
    assert (heat["disk"], heat["running"]) == ("6", "8")
    assert [difference["code"] for difference in heat["differences"]] == ["needs-restart"]
    assert gust["running"] == "30"
    assert [difference["code"] for difference in gust["differences"]] == ["live-only"]
    asked = {
        setting["name"]: setting
        for setting in json.loads(running.ok("show", "gust.limit", "--ask", "--json"))[0]["settings"]
    }
    assert asked["gust.limit"]["running"] == "30"


def test_show_changed_gives_what_is_not_at_its_default_on_disk_or_on_the_slate(site: SiteUnderTest) -> None:
    site.add("regatta", "boat.slots=16\ngust.limit=18\nheat.size=many\nlaps.count=3\n")
    site.ok("set", "idle.drop=10m")
    [shown] = json.loads(site.ok("show", "--changed", "--json"))
    found = {setting["name"] for setting in shown["settings"]} - {"net.port"}
    assert found == {"race.slots", "race.heat", "idle.drop"}, "18, 3 and what is not set are defaults; 'many' is none"


def test_show_and_explain_find_by_name_key_file_and_meaning(regatta: SiteUnderTest) -> None:
    assert "race.slots" in regatta.ok("show", "--search", "boats")
    assert "race.slots" not in regatta.ok("show", "--advanced")
    assert "tick.rate" in regatta.ok("show", "--all")
    assert "courses" in regatta.ok("show", "--file", "courses.txt")
    output = regatta.ok("explain", "idle.drop")
    for words in (
        "put ashore",
        "10m",
        "'off' (0)",
        "in minutes",
        "rewrites this file when it stops",
    ):
        assert words in output
    assert "gullwind.properties:2" in regatta.ok("explain", "boat.slots").replace(
        "gullwind.properties:2 ", "gullwind.properties:2"
    )
    assert "at least" not in regatta.ok("explain", "courses")
    assert "wrong" in regatta.ok("explain", "value-range")


def test_piped_output_is_plain_and_status_is_stable_json(running: SiteUnderTest) -> None:
    for words in (["status"], ["show"], ["slate"], ["check"], ["rounds"], ["--help"], []):
        assert "\x1b" not in running.run(*words).stdout
    server = json.loads(running.ok("status", "--json"))["servers"][0]
    assert set(server) == {
        *("server", "state", "since", "process", "players", "slots"),
        *("address", "on-slate", "differs", "remarks"),
        *("round", "crashes", "listed"),
    }
    assert server["state"] == "up" and server["process"] == running.server_process("regatta")


def test_which_server_is_meant(site: SiteUnderTest) -> None:
    for name, tags in (("harbour", '["casual"]'), ("regatta", '["ranked"]'), ("nightwatch", '["casual"]')):
        site.add(name, extra=f"tags = {tags}")
    site.ok("set", "@casual", "race.laps=4")
    site.ok("set", "regatta,harbour", "race.length=30m")
    waiting = {server["server"]: server["on-slate"] for server in json.loads(site.ok("status", "--json"))["servers"]}
    assert waiting == {"harbour": 2, "regatta": 1, "nightwatch": 1}
    output = site.fails(2, "set", "race.laps=5")
    assert "Which server?" in output and "do: roundgate set <server> race.laps=5" in output
    assert "do: roundgate ranks why <server> Tern 'race delete'" in site.fails(2, "ranks", "why", "Tern", "race delete")
    inside = site.run("set", "race.laps=6", cwd=site.folder / "regatta")
    assert inside.returncode == 0 and inside.stdout.startswith("regatta")
    elsewhere = site.run("status", cwd=Path("/"))
    assert elsewhere.returncode == 2 and "There is no site here" in elsewhere.stderr
    for words in (["--site", str(site.folder), "status"], ["status", "--site", str(site.folder)]):
        assert "nightwatch" in site.run(*words, cwd=Path("/")).stdout
    assert "nightwatch" in site.run("status", cwd=Path("/"), env={"ROUNDGATE_SITE": str(site.folder)}).stdout


# --- checking -------------------------------------------------------------------------------------------------------


MISTAKES = [
    ("boat.slots=40", "value-range", 1, 12),
    ("gusts=yes", "value-spelling", 1, 7),
    ("boat.slot=24", "key-unknown", 1, 1),
    ("a=1\nboat.slots=1\nboat.slots=2", "key-twice", 2, 1),
    ("boat slots=24", "key-with-space", 1, 5),
    ("boat.slots", "key-alone", 1, 1),
    ("server.motto=fair winds\\\nboat.slots=24", "line-runs-on", 1, 24),
    ("server.motto=caf\\u00e", "escape-broken", 1, 17),
    ("chart=C:\\charts", "backslash-lost", 1, 9),
    ('server.name="Saltmarsh"', "quotes-kept", 1, 13),
    ("gusts=true ", "space-at-end", 1, 11),
    ("boat.slots=\u00a024", "hidden-character", 1, 12),
    ("<<<<<<< ours\nboat.slots=1", "merge-marker", 1, 1),
    ("", "file-empty", 1, 1),
    ("server.motto=x\\", "end-backslash", 1, 15),
    ("tide.mode=sprng", "value-choice", 1, 11),
    ("net.port=99999", "value-range", 1, 10),
    ("heat.size=14\nboat.slots=12", "rule-broken", 1, 11),
]


def test_each_mistake_is_found_at_its_place(regatta: SiteUnderTest) -> None:
    path = regatta.folder / "regatta" / "gullwind.properties"
    for number, (lines, code, line, column) in enumerate(MISTAKES):
        path.write_text(lines, encoding="utf-8")
        found = json.loads(regatta.run("check", "--json").stdout)["findings"]
        assert (code, line, column) in [(finding["code"], finding["line"], finding["column"]) for finding in found], (
            lines,
            found,
        )
        if code in ("key-with-space", "merge-marker"):
            assert [finding["code"] for finding in found if finding["line"] == 1] == [code], (
                "what follows from it is not told too"
            )
        if number < 4:
            text = regatta.run("check").stdout
            assert f"{code}  gullwind.properties:{line}:{column}" in text
            assert " " * (column + 1) + "^" in text


def test_findings_on_the_slate_are_told_apart_from_those_on_disk(regatta: SiteUnderTest) -> None:
    path = regatta.folder / "regatta" / "gullwind.properties"
    path.write_text(path.read_text() + "gusts=yes\n")
    regatta.ok("set", "race.slots=10")
    path.write_text(path.read_text().replace("heat.size=8", "heat.size=11"))
    found = json.loads(regatta.run("check", "--json").stdout)["findings"]
    assert {(finding["code"], finding["on-slate"]) for finding in found} == {
        ("value-spelling", False),
        ("rule-broken", True),
    }
    assert "have errors" in regatta.fails(1, "apply", "--yes")
    regatta.ok("discard")
    regatta.ok("set", "race.laps=4")
    assert "errors on disk already" in regatta.fails(1, "apply", "--yes")
    regatta.ok("apply", "--yes", "--force")


@pytest.mark.parametrize(
    ("spoil", "expected"),
    [
        (lambda path: path.unlink(), "is not there"),
        (lambda path: path.write_bytes(b"boat.slots=1\n\0\0\x01"), "NUL byte in line 2"),
        (lambda path: path.write_bytes(b"\xff\xfeb\x00\x00\xd8"), "byte-order mark says utf-16-le"),
        (lambda path: (path.unlink(), path.mkdir()), "cannot be read"),
    ],
    ids=["missing", "nul", "broken-utf16", "folder"],
)
def test_a_file_that_cannot_be_read_is_told_and_not_touched(
    regatta: SiteUnderTest, spoil: object, expected: str
) -> None:
    path = regatta.folder / "regatta" / "gullwind.properties"
    spoil(path)  # type: ignore[operator]
    assert expected in regatta.run("check").stdout
    if path.is_file():
        before = path.read_bytes()
        assert regatta.run("set", "race.slots=20").returncode == 1
        assert path.read_bytes() == before
    regatta.ok("status")


@pytest.mark.skipif(os.getuid() == 0, reason="root reads and writes whatever the mode says")
@pytest.mark.parametrize("mode", [0o000, 0o444])
def test_a_file_without_permission_is_told(regatta: SiteUnderTest, mode: int) -> None:
    path = regatta.folder / "regatta" / "gullwind.properties"
    path.chmod(mode)
    done = regatta.run("set", "race.slots=20")
    done = regatta.run("apply", "--yes") if done.returncode == 0 else done
    assert done.returncode == 1 and ("permission denied" in done.stdout or "write-protected" in done.stdout)


# --- site and rulebooks ---------------------------------------------------------------------------------------------


def test_init_and_adopt_recognise_the_game_and_make_the_first_run(tmp_path: Path, site: SiteUnderTest) -> None:
    home = site.add("harbour")
    (site.folder / "roundgate.toml").unlink()
    assert "no site here" in site.fails(2, "adopt", "harbour")
    site.ok("init", "--name", 'The "Saltmarsh"')
    site.fails(1, "init")
    for name in ("gullwind.properties", "courses.txt"):
        (home / name).unlink()
    output = site.ok(
        "adopt", "harbour", "--tag", "casual", "--first-run", "--start", f"{sys.executable} -m gullwind_standin.main"
    )
    assert "gullwind (by its start command)" in output
    assert (home / "gullwind.properties").exists() and (home / "courses.txt").exists()
    assert site.server_process("harbour") is None
    assert "already" in site.fails(1, "adopt", "harbour")
    other = site.folder / "quay"
    other.mkdir()
    (other / "gullwind.properties").write_text("boat.slots=4\nserver.name=Quay\n")
    assert "gullwind (by gullwind.properties, 2 of their 2 keys known)" in site.ok("adopt", "quay", "--start", "true")
    assert "How is it started?" in site.fails(2, "adopt", ".", "--name", "here")


def test_a_server_without_a_rulebook_is_still_read_checked_and_changed(site: SiteUnderTest) -> None:
    home = site.folder / "barge"
    home.mkdir()
    (home / "barge.properties").write_text("colour=red\nowner.password=hunter22\n")
    site.ok("adopt", "barge", "--start", "sleep 60")
    assert "barge.properties:colour" in site.ok("show")
    site.ok("set", "barge.properties:colour=blue")
    output = site.ok("show", "--all") + site.ok("slate") + site.ok("apply", "--yes") + site.ok("rounds", "show", "1")
    assert "hunter22" not in output
    assert (home / "barge.properties").read_text() == "colour=blue\nowner.password=hunter22\n"
    site.ok("start")
    assert "up" in site.ok("status")
    site.ok("stop")


@pytest.mark.parametrize(
    ("spoil", "place", "cause"),
    [
        (("[kind.course]", "[kind.course"), ":", "This is not TOML"),
        (('fixed_by = "world.save"', 'fixed_by = "world.safe"'), "fixed_by", "Did you mean world.save?"),
    ],
)
def test_a_broken_rulebook_is_told_with_line_and_column(
    regatta: SiteUnderTest, spoil: tuple[str, str], place: str, cause: str
) -> None:
    assert spoil[0] in BOOK
    folder = regatta.folder / "rulebooks"
    folder.mkdir()
    (folder / "gullwind.toml").write_text(BOOK.replace(*spoil, 1))
    output = regatta.fails(1, "rulebook", "check", "gullwind")
    assert cause in output
    where = re.search(r"gullwind\.toml:(\d+):(\d+)", output)
    assert where, output
    line = BOOK.replace(*spoil, 1).split("\n")[int(where[1]) - 1]
    assert place in line or place == ":", f"{where[0]}: {line}"


def test_the_bundled_rulebook_is_right_and_says_so(regatta: SiteUnderTest) -> None:
    output = regatta.ok("rulebook", "check", "gullwind")
    assert "nothing wrong" in output and int(re.search(r"(\d+) settings", output)[1]) >= 30  # type: ignore[index]
    assert "Gullwind dedicated server" in regatta.ok("rulebook", "list")


def test_an_unexpected_error_is_one_line_with_the_details_in_a_file(regatta: SiteUnderTest, tmp_path: Path) -> None:
    broken = tmp_path / "broken"
    broken.mkdir()
    (broken / "sitecustomize.py").write_text(
        "import roundgate.host.store as store\n"
        "def slate(*_words): raise RuntimeError('a mistake of ours')\n"
        "store.Store.slate = slate\n"
    )
    done = regatta.run("slate", env={"XDG_STATE_HOME": str(tmp_path), "PYTHONPATH": str(broken)})
    assert done.returncode == 1
    assert re.fullmatch(
        r"error  Something unexpected happened \(RuntimeError\); the details are in \S+\. .*\n", done.stderr
    )
    assert "Traceback" in next(tmp_path.rglob("error-*.log")).read_text()
