"""Rented servers by SFTP: a real OpenSSH server, adopted by its address, changed, and cut off at any byte."""

from __future__ import annotations

import random
import re
import shutil
import stat
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import BOOK, SiteUnderTest, wait_for
from gullwind_standin.place import KEY
from rented_fixtures import ADDRESS
from rented_site import REQUESTS, RentedPlace
from sailors import WORD, Sailor, made_sailor
from sshd import SSHD, Line, Sshd
from terminals import Terminal

pytestmark = pytest.mark.skipif(SSHD is None, reason="NO SSHD IS INSTALLED: nothing of SFTP is tested")


def test_a_server_is_adopted_by_its_address_and_a_change_is_proven(
    site: SiteUnderTest, sshd: Sshd, tmp_path: Path
) -> None:
    (site.folder / "ssh.conf").write_text(sshd.configuration())
    place = RentedPlace(site, tmp_path, REQUESTS, address=ADDRESS)
    whole = (site.folder / "roundgate.toml").read_text()
    (site.folder / "roundgate.toml").write_text(whole[: whole.index("[server.regatta]")])
    address = f"sftp://files.saltmarsh.example{place.home}"
    output = site.ok("adopt", address, "--ssh-config", "ssh.conf", "--yes")
    for step in ("host key", "sign in", "folder", "write", "clock", "rename", "names", "remove"):
        assert re.search(rf"^  {step} ", output, re.MULTILINE), step
    assert "trusted from now on" in output and "rulebook: gullwind" in output and "knows seconds" in output
    assert place.left() == []
    assert "by-hand" in (site.folder / "roundgate.toml").read_text()
    assert "16" in site.ok("show", "regatta", "race.slots")
    (site.folder / "roundgate.toml").write_text(whole)
    site.ok("start", "regatta")
    site.ok("set", "regatta", "race.slots=24")
    assert place.value("boat.slots") == "16"
    assert "confirms that the change is in force" in site.ok("apply", "regatta", "--yes")
    assert place.value("boat.slots") == "24" and place.left() == []
    site.ok("stop", "regatta")
    place.close()


def test_a_written_file_keeps_its_mode_and_a_link_stays_one(known: RentedPlace) -> None:
    core, courses = known.home / "gullwind.properties", known.home / "courses.txt"
    core.chmod(0o640)
    (known.home / "kept").mkdir()
    courses.rename(known.home / "kept" / "courses.txt")
    courses.symlink_to("kept/courses.txt")
    known.site.ok("set", "regatta", "race.slots=24")
    known.site.ok("add", "regatta", "courses", "Long Reach")
    known.site.ok("apply", "regatta", "--yes")
    assert known.value("boat.slots") == "24" and stat.S_IMODE(core.stat().st_mode) == 0o640
    assert courses.is_symlink() and "Long Reach" in (known.home / "kept" / "courses.txt").read_text()


def test_a_host_key_that_is_not_known_is_asked_about_and_a_changed_one_refused(place: RentedPlace, sshd: Sshd) -> None:
    site = place.site
    output = site.fails(1, "show", "regatta")
    assert "is not known here" in output and "roundgate place check regatta" in output
    refused = site.run("place", "check", "regatta")
    assert refused.returncode != 0 and not (sshd.folder / "known").exists()
    site.ok("place", "check", "regatta", "--yes")
    assert "known here" in site.ok("place", "check", "regatta")
    end_shared_connections(site)
    sshd.make_key("host")
    sshd.start()
    for command in (["show", "regatta"], ["place", "check", "regatta", "--yes"]):
        done = site.run(*command)
        output = done.stdout + done.stderr
        assert "has changed" in output and "ssh-keygen -R" in output, command
    assert done.returncode == 1


def end_shared_connections(site: SiteUnderTest) -> None:
    """End the connections that commands share."""
    for process in site.processes():
        if process.name() == "ssh":
            process.terminate()
    wait_for(lambda: not list((site.folder / ".roundgate" / "places").glob("ssh-*")))


def test_wrong_ways_to_a_folder_are_one_message_each(known: RentedPlace, sshd: Sshd) -> None:
    site, home = known.site, known.home
    path = site.folder / "roundgate.toml"
    right = path.read_text()
    wrong = [
        (f"example{home}", f"example{home}/courses.txt", "is a file"),
        (f"example{home}", f"example{home}-gone", "there is nothing of that name"),
        ("files.saltmarsh.example", "127.0.0.1:1", "out of reach"),
        ("files.saltmarsh.example", "-oProxyCommand=x", "begins with a dash"),
    ]
    for old, new, expected in wrong:
        path.write_text(right.replace(old, new, 1))
        assert expected in site.fails(1, "place", "check", "regatta"), new
    path.write_text(right)
    (home / "courses.txt").unlink()
    (home / "courses.txt").symlink_to("/etc/passwd")
    assert "leads out of the server's folder" in site.fails(1, "check", "regatta")
    (home / "courses.txt").unlink()
    (home / "mods").symlink_to("/etc")
    (site.folder / "rulebooks").mkdir()
    book = BOOK.replace('path = "courses.txt"', 'path = "mods/hostname"')
    (site.folder / "rulebooks" / "gullwind.toml").write_text(book)
    assert "mods on files.saltmarsh.example is a link that leads out" in site.fails(1, "check", "regatta")
    (site.folder / "rulebooks" / "gullwind.toml").unlink()
    (home / b"kl\xe4fte.txt".decode("utf-8", "surrogateescape")).write_text("")
    assert "is not in UTF-8" in site.fails(1, "check", "regatta")


@pytest.fixture
def sailor() -> Iterator[Sailor]:
    with made_sailor() as made:
        yield made


def test_a_password_is_kept_as_a_secret_and_shown_nowhere(site: SiteUnderTest, sailor: Sailor, tmp_path: Path) -> None:
    """The service is as many are: the user is shut into one folder, and has no shell there."""
    rules = f"Match User {sailor.name}\n  ChrootDirectory {sailor.jail}\n  ForceCommand internal-sftp -d /\n"
    sshd = Sshd(tmp_path / "sshd", rules)
    (site.folder / "ssh.conf").write_text(sshd.configuration(with_key=False))
    place = RentedPlace(site, tmp_path, REQUESTS, address=ADDRESS, home=sailor.jail / "regatta")
    subprocess.run(["chown", "-R", sailor.name, str(place.home)], check=True)
    path = site.folder / "roundgate.toml"
    whole = path.read_text()
    path.write_text('[site]\nname = "Saltmarsh Sailing Club"\n')
    (site.folder / "secrets.toml").unlink()
    address = f"sftp://{sailor.name}@files.saltmarsh.example/regatta"
    adopt = ["adopt", address, "--ssh-config", "ssh.conf", "--yes"]
    wrong = site.run(*adopt, env={"ROUNDGATE_SECRET_REGATTA_FILES": "neap"})
    assert wrong.returncode == 1 and "does not let" in wrong.stderr and "neap" not in wrong.stdout + wrong.stderr
    assert path.read_text().count("server.") == 0
    done = site.run("adopt", address.replace("@", f":{WORD}@"), *adopt[2:])
    output = done.stdout + done.stderr
    assert done.returncode == 0 and WORD not in output and "seen by other users" in output, output
    assert WORD not in path.read_text()
    kept = site.folder / "secrets.toml"
    assert WORD in kept.read_text() and stat.S_IMODE(kept.stat().st_mode) == 0o600
    assert "16" in site.ok("show", "regatta", "race.slots")
    table = whole[whole.index("driver = ") :]
    path.write_text(path.read_text().partition("driver = ")[0] + f'address = "127.0.0.1"\n{table}')
    kept.write_text(f'{kept.read_text()}berth = "{KEY}"\n')
    site.ok("start", "regatta")
    site.ok("set", "regatta", "race.slots=24")
    assert "confirms that the change is in force" in site.ok("apply", "regatta", "--yes")
    assert place.value("boat.slots") == "24" and place.left() == []
    place.close()
    sshd.stop()


def test_a_password_is_asked_for_at_a_terminal_until_it_is_right(
    site: SiteUnderTest, sailor: Sailor, tmp_path: Path
) -> None:
    sshd = Sshd(tmp_path / "sshd", f"Match User {sailor.name}\n  ForceCommand internal-sftp\n")
    (sshd.folder / "authorized").write_text("")
    (site.folder / "ssh.conf").write_text(sshd.configuration())
    (sailor.jail / "courses.txt").write_text("Harbour Mile\n")
    shutil.chown(sailor.jail, sailor.name)
    address = f"sftp://{sailor.name}@files.saltmarsh.example/~"
    words = [sys.executable, "-m", "roundgate", "adopt", address, "--ssh-config", "ssh.conf", "--name", "regatta"]
    with Terminal(words, site.folder) as terminal:
        terminal.until("is it to be trusted?")
        terminal.type("y\r")
        terminal.until("(not shown): ", at_cursor=True)
        terminal.type("neap\r")
        terminal.until("sign in   files.saltmarsh.example does not let")
        terminal.until("(not shown): ", at_cursor=True)
        terminal.type(f"{WORD}\r")
        terminal.until("is a server of this site now")
        assert terminal.end() == 0, terminal.text
    assert WORD not in terminal.text and "no key is taken" in terminal.text
    assert WORD in (site.folder / "secrets.toml").read_text()
    assert "Harbour Mile" in site.ok("show", "regatta", "courses.txt")
    sshd.stop()


@pytest.mark.parametrize("seed", range(300))
def test_a_line_that_is_cut_at_any_byte_leaves_files_that_recover_makes_whole(
    site: SiteUnderTest, sshd: Sshd, tmp_path: Path, seed: int
) -> None:
    """Wholly old or wholly new in the end, the server up, and nothing left beside its files."""
    line = Line(sshd.port)
    (site.folder / "ssh.conf").write_text(sshd.configuration(line.port))
    place = RentedPlace(site, tmp_path, REQUESTS, address=ADDRESS)
    try:
        sshd.make_known()
        site.ok("start", "regatta")
        old = contents(place)
        site.ok("set", "regatta", "race.slots=24")
        site.ok("add", "regatta", "courses", "Long Reach")
        line.cut_after = line.passed + random.Random(seed).randrange(60_000)
        first = site.run("apply", "regatta", "--yes")
        line.mend()
        if first.returncode == 4:
            assert "recover" in first.stdout + first.stderr
            site.ok("rounds", "recover", "regatta")
        now = contents(place)
        is_new = place.value("boat.slots") == "24"
        assert place.left() == []
        assert ("Long Reach" in now["courses.txt"].decode()) == is_new
        assert is_new or (place.value("boat.slots"), now["courses.txt"]) == ("16", old["courses.txt"])
        assert " up " in site.ok("status", "regatta")
        assert is_new == (first.returncode == 0)
    finally:
        place.close()
        line.close()


def contents(place: RentedPlace) -> dict[str, bytes]:
    return {name: (place.home / name).read_bytes() for name in ("gullwind.properties", "courses.txt")}
