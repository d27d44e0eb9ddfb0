"""Rented servers: files by FTP, the restart by requests or by hand, and a line that breaks."""

from __future__ import annotations

import re
import sys
from typing import Any

import pytest

from conftest import BOOK, wait_for
from gullwind_standin.place import KEY, PASSWORD
from rented_fixtures import Make
from rented_site import BY_HAND, REQUESTS, is_listening
from terminals import Terminal

HABITS: list[dict[str, Any]] = [
    {"tls": True},
    {"no_rename_over": True},
    {"list_only": True},
    {"minutes": True, "busy": 2},
    {"connections": 2, "hides_dots": True},
]


@pytest.mark.parametrize("habits", HABITS, ids=[next(iter(one)) for one in HABITS])
def test_a_change_of_a_rented_server_is_reviewed_written_and_proven(rented: Make, habits: dict[str, Any]) -> None:
    place = rented(**habits)
    site = place.site
    assert "24" not in site.ok("show", "regatta", "race.slots") and "16" in site.ok("show", "regatta", "race.slots")
    assert "is up" in site.ok("start", "regatta")
    assert "race.slots" in site.ok("set", "regatta", "race.slots=24")
    assert place.value("boat.slots") == "16", "it waits on the slate"
    output = site.ok("apply", "regatta", "--yes")
    assert "confirms that the change is in force" in output
    assert f"port {place.game} (tcp) of 127.0.0.1 answers" in site.ok("rounds", "show", "2")
    assert place.value("boat.slots") == "24" and place.left() == []
    assert "up" in site.ok("status", "regatta")
    assert "is down" in site.ok("stop", "regatta")


@pytest.mark.parametrize("habits", [{}, {"list_only": True}, {"no_modes": True, "list_only": True}])
def test_a_start_script_can_still_be_run_after_it_was_written(rented: Make, habits: dict[str, Any]) -> None:
    place = rented(**habits)
    site = place.site
    for name in ("lanterns.key", "template.ini"):
        path = place.home / "mods" / "lanterns" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text("gullwind mod key\n" if name.endswith("key") else "[lantern]\nOil=60\n")
    site.ok("start", "regatta")
    site.ok("add", "regatta", "launch.mods", "lanterns")
    site.run("apply", "regatta", "--yes")
    assert "--mods" in (place.home / "launch.sh").read_text() and place.left() == []
    assert (place.home / "launch.sh").stat().st_mode & 0o777 == 0o755
    assert (place.home / "keys" / "lanterns.key").exists(), "in a folder that was not there"
    assert " up " in site.ok("status", "regatta")


def test_a_change_that_does_not_start_is_put_back_on_the_rented_machine(rented: Make) -> None:
    place = rented()
    site = place.site
    site.ok("start", "regatta")
    site.ok("set", "regatta", "tick.rate=60")
    output = site.fails(3, "apply", "regatta", "--yes")
    assert "The files are as they were, regatta is up with them" in output
    assert "tick.rate" in site.ok("slate", "regatta") and place.left() == []
    site.ok("discard", "regatta", "--yes")
    assert "60" not in site.ok("show", "regatta", "tick.rate")


def test_a_person_is_told_what_to_press_and_the_round_notices_it(rented: Make) -> None:
    place = rented(BY_HAND)
    site = place.site
    place.power("cast-off")
    wait_for(lambda: is_listening(place.game))
    site.ok("set", "regatta", "race.slots=24")
    words = [sys.executable, "-m", "roundgate", "apply", "regatta", "--yes"]
    with Terminal(words, site.folder) as terminal:
        terminal.until("Press Stop on the club's server page")
        assert place.value("boat.slots") == "16"
        place.power("moor")
        terminal.until("Press Start on the club's server page")
        assert place.value("boat.slots") == "24"
        place.power("cast-off")
        assert terminal.end() == 0, terminal.text
    assert "is up" in terminal.text


def test_a_place_out_of_reach_shows_the_copy_and_takes_changes_onto_the_slate(rented: Make) -> None:
    place = rented()
    site = place.site
    assert re.search("regatta +down", site.ok("status")), "before anything was read"
    site.ok("show", "regatta")
    place.close()
    assert "out of reach" in site.ok("status")
    done = site.run("show", "regatta", "race.slots")
    assert done.returncode == 0 and "16" in done.stdout
    assert "out of reach" in done.stderr and "as they were" in done.stderr
    site.ok("set", "regatta", "race.slots=24")
    assert "out of reach" in site.fails(1, "apply", "regatta", "--yes")
    place.open()
    site.ok("start", "regatta")
    site.ok("apply", "regatta", "--yes")
    assert place.value("boat.slots") == "24"


def test_somebody_who_changes_a_file_there_meanwhile_is_not_overwritten(rented: Make) -> None:
    place = rented()
    site = place.site
    site.ok("set", "regatta", "race.slots=24")
    path = place.home / "gullwind.properties"
    path.write_text(path.read_text().replace("heat.size=8", "heat.size=6"))
    site.ok("apply", "regatta", "--yes")
    assert (place.value("boat.slots"), place.value("heat.size")) == ("24", "6"), "both are there"


@pytest.mark.parametrize("at", range(1, 25))
def test_a_service_that_dies_at_any_act_leaves_files_that_recover_makes_whole(rented: Make, at: int) -> None:
    """Wholly old or wholly new in the end, and nothing beside them."""
    place = rented(**({"no_rename_over": True} if at % 2 else {"hides_dots": True}))
    site = place.site
    site.ok("show", "regatta")
    old = {path.name: path.read_bytes() for path in place.home.iterdir() if path.is_file()}
    site.ok("set", "regatta", "race.slots=24")
    site.ok("add", "regatta", "courses", "Long Reach")
    (place.home.parent.parent / "cut").write_text(str(place.acts + 4 + at))
    first = site.run("apply", "regatta", "--yes")
    (place.home.parent.parent / "cut").unlink()
    if place.process is not None and place.process.poll() is not None:
        place.open()
    if first.returncode == 4:
        assert "recover" in first.stdout + first.stderr
        site.run("rounds", "recover", "regatta")
    now = {path.name: path.read_bytes() for path in place.home.iterdir() if path.is_file()}
    is_new = place.value("boat.slots") == "24"
    assert place.left() == [], now.keys()
    assert ("Long Reach" in now["courses.txt"].decode()) == is_new
    assert is_new or {name: now[name] for name in old} == old
    if not is_new:
        site.ok("apply", "regatta", "--yes")
        assert place.value("boat.slots") == "24"


WRONG = [
    ("files = ", 'files = "wrong"\n#', "does not let club in"),
    ("password = ", "#", "needs its password as a secret"),
    ("insecure = true", "", "plain FTP"),
    ("ftp://club@", "ftp://club:4711-hush@", "has a password in it"),
    ("ftp://club@", "ftp://", "does not name the machine and the user"),
    ("ftp://", "gopher://", "is not a way to a folder"),
    ('driver = "requests"', "", "the driver 'keeper' cannot start it"),
    ("up = ", "down2 = ", "unknown field"),
    ("berth = ", 'berth = "wrong"\n#', "the secret in the headers is not right"),
]


@pytest.mark.parametrize(("old", "new", "expected"), WRONG, ids=[expected for _, _, expected in WRONG])
def test_what_is_wrong_with_a_rented_server_is_one_message(rented: Make, old: str, new: str, expected: str) -> None:
    place = rented()
    for name in ("roundgate.toml", "secrets.toml"):
        path = place.site.folder / name
        path.write_text(path.read_text().replace(old, new, 1))
        path.chmod(0o600)
    done = place.site.run("start", "regatta")
    output = done.stdout + done.stderr
    assert done.returncode == 1 and expected in output and "Traceback" not in output
    assert "4711-hush" not in output and PASSWORD not in output and KEY not in output


def test_an_address_of_plain_ftp_is_adopted_only_where_that_is_allowed(rented: Make) -> None:
    """And a failed attempt leaves the site file as it was."""
    place = rented()
    path = place.site.folder / "roundgate.toml"
    alone = '[site]\nname = "Saltmarsh Sailing Club"\n'
    path.write_text(alone)
    adopt = ["adopt", f"ftp://club@127.0.0.1:{place.ports[0]}/regatta"]
    password = {"ROUNDGATE_SECRET_REGATTA_FILES": PASSWORD}
    wrong = [
        (adopt, "--insecure"),
        (["adopt", "ftp://club@127.0.0.1:1/harbour", "--insecure"], "refuses the connection"),
        ([adopt[0], f"{adopt[1]}-gone", "--name", "regatta", "--insecure"], "refuses to"),
        ([*adopt, "--insecure", "--user", "gull"], "--user is for servers of this machine"),
        ([*adopt, "--insecure", "--name", "a/b"], "cannot be a server's name"),
        ([adopt[0], adopt[1].replace("@", ":hush@hush@"), "--insecure"], "does not let club in"),
    ]
    for words, expected in wrong:
        done = place.site.run(*words, env=password)
        assert done.returncode != 0 and expected in done.stderr, (words, done.stdout, done.stderr)
        assert "hush" not in done.stdout + done.stderr
        assert path.read_text() == alone
    done = place.site.run(*adopt, "--insecure", "--tag", "rented", env=password)
    assert done.returncode == 0 and "knows seconds" in done.stdout, done.stderr
    assert "insecure = true" in path.read_text() and PASSWORD not in path.read_text()
    again = place.site.run(*adopt, "--insecure", env=password)
    assert again.returncode == 1 and "has a server 'regatta' already" in again.stderr
    other = place.site.run(*adopt, "--insecure", "--name", "harbour", env=password)
    assert other.returncode == 1 and "is the server 'regatta' already" in other.stderr


def test_a_server_whose_state_nothing_tells_is_shown_and_hides_no_other(rented: Make) -> None:
    """One without a rulebook, by hand; and one whose service does not take the key."""
    place = rented(BY_HAND)
    site = place.site
    site.add("harbour", "boat.slots=16\n")
    path = site.folder / "roundgate.toml"
    whole = path.read_text()
    path.write_text(whole.replace('rulebook = "gullwind"\n', "", 1))
    assert "16" in site.ok("show", "regatta", "gullwind.properties:boat.slots")
    site.ok("set", "regatta", "gullwind.properties:boat.slots=20")
    output = site.ok("status")
    assert re.search(r"regatta +not known .* 1 on the slate", output) and re.search("harbour +down", output)
    assert "has no TCP port" in output and "has no TCP port" in site.fails(1, "apply", "regatta", "--yes")
    path.write_text(whole.replace(BY_HAND, REQUESTS.format(http=place.ports[1]).replace('/", at', '/missing", at')))
    (site.folder / "secrets.toml").write_text(f'files = "{PASSWORD}"\n')
    output = site.ok("status")
    assert re.search("regatta +not known", output) and re.search("harbour +down", output)
    assert "There is no secret 'berth'" in output


@pytest.mark.parametrize("path", ["../courses.txt", "/courses.txt"])
def test_a_rulebook_whose_path_leads_out_of_the_folder_writes_nothing_beside_the_copy(rented: Make, path: str) -> None:
    place = rented()
    site = place.site
    (site.folder / "rulebooks").mkdir()
    (site.folder / "rulebooks" / "gullwind.toml").write_text(BOOK.replace('path = "courses.txt"', f'path = "{path}"'))
    (place.home.parent / "courses.txt").write_text("Harbour Mile\n")
    assert "leads out of the folder" in site.fails(1, "check", "regatta")
    assert not (site.folder / ".roundgate" / "places" / "courses.txt").exists()
