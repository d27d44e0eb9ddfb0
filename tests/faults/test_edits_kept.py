"""No edit by anybody is overwritten without a copy and a word, and a round writes exactly what was reviewed."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from background import Background, journal, rounds, status, wait_for_step
from conftest import BOOK, SiteUnderTest, wait_for
from roundgate.host import files
from roundgate.host.errors import Trouble
from roundgate.host.places import Folder


def edit(path: Path, old: str, new: str) -> None:
    text = path.read_text()
    assert old in text
    path.write_text(text.replace(old, new))


def begin(site: SiteUnderTest, *words: str) -> tuple[Background, int]:
    """Begin a round that waits until nobody is aboard; gives it and its number. ``go`` ends the wait."""
    site.ok("send", "muster 1")
    work = Background(site, *words, "--when-empty")
    return work, wait_for_step(site, "announce")


def go(site: SiteUnderTest) -> None:
    site.ok("send", "ashore")


@pytest.mark.parametrize("verb", ["apply", "restart"])
def test_an_edit_by_hand_during_the_wait_survives_the_stop(running: SiteUnderTest, verb: str) -> None:
    """The server rewrites the file when it stops; what counts is the file at the moment of the stop."""
    core = running.folder / "regatta" / "gullwind.properties"
    if verb == "apply":
        running.ok("set", "race.slots=24")
    work, number = begin(running, verb, *(["--yes"] if verb == "apply" else []))
    edit(core, "heat.size=8", "heat.size=6")
    go(running)
    code, output = work.end()
    assert code == 0, output
    assert running.value("regatta", "heat.size") == "6"
    assert any(
        "race.heat was edited by hand while the round waited" in words for _, _, words in journal(running, number)
    )
    assert "the slate is empty" in running.ok("slate")


def test_an_edit_by_hand_of_what_the_round_sets_is_told(running: SiteUnderTest) -> None:
    running.ok("set", "race.slots=24")
    work, number = begin(running, "apply", "--yes")
    edit(running.folder / "regatta" / "gullwind.properties", "boat.slots=16", "boat.slots=20")
    go(running)
    assert work.end()[0] == 0
    assert running.value("regatta", "boat.slots") == "24"
    assert any("changed by hand to 20" in words for _, _, words in journal(running, number))


@pytest.mark.parametrize("edited", [True, False])
def test_an_edit_by_hand_while_the_server_stops_is_kept_as_a_copy_and_told(site: SiteUnderTest, edited: bool) -> None:
    """The server writes its own values over it with its last breath; what it writes itself is no edit."""
    home = site.add("regatta", "boat.slots=16\nheat.size=8\n", trials="stop-seconds 1.5\n")
    site.ok("start")
    site.ok("set", "race.slots=24")
    work = Background(site, "apply", "--yes")
    number = wait_for_step(site, "stop")
    wait_for(lambda: "Stopping" in site.ok("log"))
    if edited:
        edit(home / "gullwind.properties", "heat.size=8", "heat.size=6")
    code, output = work.end()
    assert code == 0, output
    assert site.value("regatta", "boat.slots") == "24" and site.value("regatta", "heat.size") == "8"
    told = [words for _, _, words in journal(site, number) if "edited by hand while the server stopped" in words]
    assert len(told) == edited, told
    if edited:
        assert "(race.heat)" in told[0] and "edited by hand while the server stopped" in output
        assert "heat.size=6" in Path(told[0].split("kept as ")[1]).read_text()


def test_an_edit_by_hand_while_the_server_stops_is_in_the_snapshot_of_a_file_that_the_server_never_writes(
    site: SiteUnderTest,
) -> None:
    """Such files are saved before the stop, and compared once more after it."""
    home = site.add("regatta", "boat.slots=16\n", trials="stop-seconds 1.5\n")
    site.ok("start")
    site.ok("add", "courses", "Lantern Run")
    work = Background(site, "apply", "--yes")
    number = wait_for_step(site, "stop")
    wait_for(lambda: "Stopping" in site.ok("log"))
    before = (home / "courses.txt").read_text() + "By Hand\n"
    (home / "courses.txt").write_text(before)
    code, output = work.end()
    assert code == 0 and "edited by hand" not in output, output
    assert (home / "courses.txt").read_text() == before + "Lantern Run\n"
    site.ok("rounds", "rewind", str(number), "--yes")
    assert (home / "courses.txt").read_text() == before


SAVES = """#!/bin/sh
trap 'echo "boats 9" >core.cfg; sleep 0.4; echo "boats 9" >core.cfg; exit 0' TERM
echo ready
while :; do sleep 0.1 & wait; done
"""
SAVES_BOOK = """
[rulebook]
name = "quay"

[file.core]
path = "core.cfg"
format = "directives"
rewritten = "at-stop"

[setting.boats]
file = "core"
key = "boats"
type = "int"

[setting.crew]
file = "core"
key = "crew"
type = "int"

[server]
ready = '^ready$'
"""


def test_what_the_server_itself_writes_several_times_while_it_stops_is_no_edit_by_hand(site: SiteUnderTest) -> None:
    """It saves another value than it had read, and saves the same once more when it ends."""
    home = site.add("regatta")
    (site.folder / "rulebooks").mkdir()
    (site.folder / "rulebooks" / "gullwind.toml").write_text(SAVES_BOOK.replace('"quay"', '"gullwind"'))
    (home / "launch.sh").write_text(SAVES)
    (home / "core.cfg").write_text("boats 4\n")
    site.ok("start")
    site.ok("set", "crew=3")
    output = site.run("apply", "--yes").stdout
    assert "regatta is up with the new files" in output and "by hand" not in output, output
    assert (home / "core.cfg").read_text() == "boats 9\ncrew 3\n"


def test_a_mistake_by_hand_during_the_wait_ends_the_round_before_the_stop(running: SiteUnderTest) -> None:
    running.ok("set", "race.slots=24")
    first = running.server_process("regatta")
    work, _ = begin(running, "apply", "--yes")
    (running.folder / "regatta" / "courses.txt").write_text("")
    go(running)
    code, output = work.end()
    assert code == 1 and "errors on disk" in output
    assert running.server_process("regatta") == first and running.value("regatta", "boat.slots") == "16"


def test_what_is_set_or_discarded_during_the_wait_is_not_part_of_the_round(running: SiteUnderTest) -> None:
    running.ok("set", "race.slots=24", "race.laps=7")
    work, number = begin(running, "apply", "--yes")
    running.ok("set", "race.slots=30", "server.motto=Fair winds")
    output = running.fails(1, "discard", "race.laps")
    assert f"round {number} is bringing that into force" in output and "roundgate rounds cancel" in output
    go(running)
    code, output = work.end()
    assert code == 0, output
    assert running.value("regatta", "boat.slots") == "24" and running.value("regatta", "laps.count") == "7"
    changes = {change["name"]: change["after"] for change in rounds(running)[0]["changes"]}
    assert changes == {"race.slots": "24", "race.laps": "7"}
    waiting = running.ok("slate")
    assert "race.slots: 24 -> 30" in waiting and "server.motto" in waiting and "race.laps" not in waiting


def test_after_a_rewind_what_was_set_since_stands_for_the_same_key(running: SiteUnderTest) -> None:
    running.ok("set", "tick.rate=60", "race.slots=24")
    work, _ = begin(running, "apply", "--yes")
    running.ok("set", "tick.rate=40")
    go(running)
    assert work.end()[0] == 3
    waiting = running.ok("slate")
    assert "tick.rate: 30 -> 40" in waiting and "60" not in waiting and "-> 24" in waiting
    assert "proven" in running.ok("apply", "--yes")


SLOW_WRITE = """
import os, sys, time
if 'roundgate.host.rounds' in sys.orig_argv and 'run' in sys.orig_argv:
    import roundgate.host.rounds.write as step
    plain = step.files.prepare
    def edited(folder, contents, *more):
        if {when}:
            with open({path!r}, 'a') as file:
                file.write('By Hand\\n')
        return plain(folder, contents, *more)
    step.files.prepare = edited
"""


@pytest.mark.parametrize("once", [True, False])
def test_an_edit_between_replay_and_write_is_seen(running: SiteUnderTest, once: bool) -> None:
    """Once: the replay begins again and both edits are there. Again and again: nothing is written, and that is said."""
    path = running.folder / "regatta" / "courses.txt"
    sabotage = running.folder / "sabotage"
    sabotage.mkdir()
    when = f"'By Hand' not in open({str(path)!r}).read()" if once else "True"
    (sabotage / "sitecustomize.py").write_text(SLOW_WRITE.format(when=when, path=str(path)))
    running.ok("add", "courses", "Lantern Run")
    done = running.run("apply", "--yes", "--force", env={"PYTHONPATH": str(sabotage)})
    text = path.read_text()
    if once:
        assert done.returncode == 0, done.stdout
        assert "By Hand\n" in text and "Lantern Run\n" in text
        assert "changed by somebody else just now; it is read again" in done.stdout
    else:
        assert done.returncode == 1 and "kept changing, so nothing was written" in done.stdout
        assert text.count("By Hand") == 3 and "Lantern Run" not in text
    assert status(running)["state"] == "up"


def test_a_rewind_puts_back_only_what_the_round_wrote_and_keeps_what_it_replaces(running: SiteUnderTest) -> None:
    """The change does not hold; meanwhile somebody edits the file that was written, and another one."""
    home = running.folder / "regatta"
    sabotage = running.folder / "sabotage"
    sabotage.mkdir()
    (sabotage / "sitecustomize.py").write_text(
        "import sys\n"
        "if 'roundgate.host.rounds' in sys.orig_argv and 'run' in sys.orig_argv:\n"
        "    import roundgate.host.rounds.bring_up as engine\n"
        "    plain = engine.undo\n"
        "    def late(*words):\n"
        f"        open({str(home / 'courses.txt')!r}, 'a').write('Lantern Run\\n')\n"
        f"        open({str(home / 'gullwind.properties')!r}, 'a').write('# by hand\\n')\n"
        "        return plain(*words)\n"
        "    engine.undo = late\n"
    )
    running.ok("set", "tick.rate=60")
    done = running.run("apply", "--yes", env={"PYTHONPATH": str(sabotage)})
    assert done.returncode == 3, done.stdout
    assert "Lantern Run" in (home / "courses.txt").read_text(), "the round never wrote this file"
    assert "# by hand" not in (home / "gullwind.properties").read_text()
    kept = [words for _, _, words in journal(running, 2) if "kept as" in words]
    assert len(kept) == 1 and "gullwind.properties" in kept[0]
    assert Path(kept[0].split("kept as ")[1]).read_text().endswith("# by hand\n")


def test_going_back_before_a_round_tells_of_later_edits_and_keeps_them(running: SiteUnderTest) -> None:
    running.ok("add", "courses", "Lantern Run")
    running.ok("apply", "--yes")
    courses = running.folder / "regatta" / "courses.txt"
    courses.write_text(courses.read_text() + "Spring Sprint\n")
    guests = running.folder / "regatta" / "guestlist.txt"
    guests.write_text("GW-7K3M-Q2XD\n")
    output = running.ok("rounds", "rewind", "2", "--yes")
    assert "courses.txt: changed again since round 2; those changes go too" in output
    assert courses.read_text() == "Harbour Mile\nThe Narrows\n"
    assert guests.read_text() == "GW-7K3M-Q2XD\n", "a file that round 2 did not write"
    assert "Spring Sprint" in (running.folder / ".roundgate/rounds/3/before-courses.txt").read_text()


@pytest.mark.parametrize("rulebook", ["gullwind", ""])
def test_a_server_that_rewrites_its_file_all_the_time_can_be_applied_to(site: SiteUnderTest, rulebook: str) -> None:
    (site.folder / "rulebooks").mkdir()
    book = BOOK.replace('rewritten = "at-stop"', 'rewritten = "while-running"')
    (site.folder / "rulebooks" / "gullwind.toml").write_text(book)
    site.add("regatta", "boat.slots=16\n", trials="restless 0.01\n")
    where = site.folder / "roundgate.toml"
    where.write_text(where.read_text().replace('rulebook = "gullwind"', f'rulebook = "{rulebook}"'))
    key = "race.slots" if rulebook else "gullwind.properties:boat.slots"
    site.ok("start")
    for slots in ("21", "22"):
        site.ok("set", f"{key}={slots}")
        assert "proven" in site.ok("apply", "--yes")
    site.ok("stop")
    assert "boat.slots=22\n" in site.text("regatta")


def test_servers_adopted_at_once_are_all_there(site: SiteUnderTest) -> None:
    names = [f"boat{number}" for number in range(8)]
    for name in names:
        (site.folder / name).mkdir()
        (site.folder / name / "start.sh").write_text("#!/bin/sh\nexec sleep 100\n")
    work = [Background(site, "adopt", name, "--rulebook", "") for name in names]
    for one in work:
        code, output = one.end()
        assert code == 0, output
    assert {row.split()[0] for row in site.ok("status").splitlines()[1:9]} == set(names)
    left = [path.name for path in site.folder.iterdir() if ".new" in path.name]
    assert not left


def test_a_folder_swapped_for_a_link_leads_nowhere(tmp_path: Path) -> None:
    home, outside = tmp_path / "home", tmp_path / "outside"
    (home / "conf").mkdir(parents=True)
    outside.mkdir()
    (home / "conf" / "a.txt").write_text("ours")
    (outside / "a.txt").write_text("theirs")
    folder = Folder(str(home))
    made = files.prepare(folder, {"conf/a.txt": b"new"}, "1")
    (home / "conf").rename(home / "conf-was")
    (home / "conf").symlink_to(outside)
    with pytest.raises(Trouble):
        files.commit(folder, made)
    assert (outside / "a.txt").read_text() == "theirs"
    with pytest.raises(Trouble):
        folder.read("conf/a.txt")


def test_a_folder_swapped_between_the_look_and_the_step_is_noticed(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The path is resolved while all is in order; the folder becomes a link before it is opened."""
    home, outside = tmp_path / "home", tmp_path / "outside"
    (home / "conf").mkdir(parents=True)
    outside.mkdir()
    (home / "conf" / "a.txt").write_text("ours")
    (outside / "a.txt").write_text("theirs")
    folder = Folder(str(home))
    plain = Folder._split

    def swapped(self: Folder, path: str) -> tuple[str, str]:
        found = plain(self, path)
        if not (home / "conf").is_symlink():
            (home / "conf").rename(home / "conf-was")
            (home / "conf").symlink_to(outside)
        return found

    monkeypatch.setattr(Folder, "_split", swapped)
    with pytest.raises(Trouble, match="replaced by a link"):
        folder.read("conf/a.txt")


def test_fixing_a_folder_leaves_files_alone_that_lie_outside_of_it(site: SiteUnderTest) -> None:
    inside, outside = site.folder / "inside", site.folder / "outside"
    inside.mkdir()
    outside.mkdir()
    (outside / "a.json").write_text('{"a": 1,}\n')
    (inside / "link.json").symlink_to(outside / "a.json")
    (inside / "b.json").write_text('{"b": 1,}\n')
    done = site.run("check", "--fix", str(inside))
    assert (outside / "a.json").read_text() == '{"a": 1,}\n'
    assert (inside / "b.json").read_text() == '{"b": 1}\n'
    assert "outside" in done.stderr + done.stdout


@pytest.mark.parametrize("mode", [0o644, 0o640, 0o600])
def test_a_new_file_gets_what_its_neighbours_have(running: SiteUnderTest, mode: int) -> None:
    home = running.folder / "regatta"
    for path in home.iterdir():
        if path.is_file() and path.suffix != ".sh":
            path.chmod(mode)
    made = subprocess.run(
        [sys.executable, "-c", "import os; from roundgate.host import files; from roundgate.host.places import Folder; "
         f"folder = Folder({str(home)!r}); files.commit(folder, files.prepare(folder, {{'new.txt': b'x'}}, '1'))"],
        check=True, capture_output=True, umask=0o022,
    )  # fmt: skip
    assert made.returncode == 0
    assert (home / "new.txt").stat().st_mode & 0o777 == mode
    lonely = running.folder / "lonely"
    lonely.mkdir()
    folder = Folder(str(lonely))
    files.commit(folder, files.prepare(folder, {"new.txt": b"x"}, "1"))
    assert (lonely / "new.txt").stat().st_mode & 0o777 == 0o666 & ~files._UMASK
    assert os.path.exists(home / "new.txt")


def test_two_people_who_call_recover_at_once_are_both_told(running: SiteUnderTest) -> None:
    inject = str(Path(__file__).parent / "inject")
    running.ok("set", "race.slots=24")
    assert running.run("apply", "--yes", env={"PYTHONPATH": inject, "CRASH_AT": "journal write begin"}).returncode != 0
    work = [Background(running, "rounds", "recover") for _ in range(3)]
    for one in work:
        code, output = one.end()
        assert "without a message" not in output, output
        assert code in (0, 5), output
    wait_for(lambda: rounds(running)[0]["outcome"] != "open")
    assert status(running)["state"] == "up"
