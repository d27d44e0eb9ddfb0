"""A second user of the machine, to whom a server's folder belongs, and who wants what only root may read or do."""

from __future__ import annotations

import os
import pwd
import shutil
import subprocess
import tempfile
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
import zstandard

from conftest import SiteUnderTest, wait_for, words_of

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="ONLY ROOT CAN MAKE A SECOND USER: nothing of this is tested")

USER = "nobody"
SECRET = "the-harbourmasters-own-words"
BOOK = r"""
[rulebook]
name = "quay"

[file.core]
path = "core.cfg"
format = "directives"

[setting.boats]
file = "core"
key = "boats"
type = "int"
default = 4
live = {{ query = "status", match = '^boats (?P<value>[0-9]+)$' }}

[query.status]
run = {run}

[server]
ready = '^ready$'
signals = ["SIGTERM"]
worlds = ["saves"]
logs = {logs}
joined = 'sailor (?P<name>.+?) \((?P<id>GW-\w+)\) came aboard'
"""
QUAY = """#!/bin/sh
trap 'exit 0' TERM
echo ready
while :; do sleep 1 & wait; done
"""


@pytest.fixture
def quay() -> Iterator[SiteUnderTest]:
    """A site of root's whose server belongs to somebody else, in a folder that both may enter."""
    folder = Path(tempfile.mkdtemp(prefix="roundgate-intruder-"))
    folder.chmod(0o755)
    site = SiteUnderTest(folder)
    (folder / "rulebooks").mkdir()
    (folder / "secret.txt").write_text(f"sailor {SECRET} (GW-0000) came aboard\n{SECRET} = 1\n")
    (folder / "secret.txt").chmod(0o600)
    home = folder / "quay"
    (home / "saves").mkdir(parents=True)
    (home / "logs").mkdir()
    (home / "saves" / "tide.world").write_text("high water\n")
    (home / "core.cfg").write_text("boats 4\n")
    (home / "status.sh").write_text('#!/bin/sh\necho "as $(id -un) $SPY" >>log.txt\ncat core.cfg\n')
    (home / "status.sh").chmod(0o755)
    (home / "launch.sh").write_text(QUAY)
    (home / "launch.sh").chmod(0o755)
    with (folder / "roundgate.toml").open("a") as file:
        file.write(
            f'\n[server.quay]\nfolder = "quay"\nstart = ["./launch.sh"]\nrulebook = "quay"\n'
            f'watch = "0.2s"\ngrace = "3s"\nuser = "{USER}"\n'
        )
    site.names.append("quay")
    rulebook(site)
    for path in (home, *home.rglob("*")):
        shutil.chown(path, USER)
    yield site
    site.run("stop", "quay")
    wait_for(lambda: not site.processes(), 20)
    shutil.rmtree(folder)


def rulebook(site: SiteUnderTest, run: str = '["./status.sh"]', logs: str = '["logs/*.log*"]') -> None:
    (site.folder / "rulebooks" / "quay.toml").write_text(BOOK.format(run=run, logs=logs))


def as_user(*command: str, cwd: Path) -> None:
    subprocess.run(command, user=USER, group=pwd.getpwnam(USER).pw_gid, extra_groups=[], cwd=cwd, check=True)


def everything(site: SiteUnderTest, *also: Path) -> bytes:
    """Return all bytes below some folders, archives unpacked."""
    found = b""
    for top in also or (site.folder / ".roundgate",):
        for path in top.rglob("*"):
            if path.is_file() and not path.is_symlink():
                data = path.read_bytes()
                if path.name.endswith(".tar.zst"):
                    data = zstandard.ZstdDecompressor().decompressobj().decompress(data)
                found += data
    return found


def test_a_command_of_a_rulebook_runs_only_once_it_is_allowed_and_then_as_the_servers_user(
    quay: SiteUnderTest,
) -> None:
    log = quay.folder / "quay" / "log.txt"
    assert "runs './status.sh'" in quay.ok("rulebook", "check", "quay")
    quay.ok("start")
    quay.ok("show", "boats", "--ask")
    quay.ok("set", "boats=6")
    review = quay.ok("slate")
    assert "./status.sh" in review and "roundgate rulebook allow quay" in review
    assert "cannot be read back" not in review, "that is said once, with what to do"
    assert "cannot be asked for boats" in quay.ok("apply", "--yes")
    assert not log.exists(), "nothing was run"

    quay.fails(2, "rulebook", "allow")  # nobody there who could be asked
    assert "./status.sh" in quay.ok("rulebook", "allow", "--yes")
    quay.ok("set", "boats=7")
    assert "as the server's user: ./status.sh" in quay.ok("slate")
    done = quay.run("apply", "--yes", env={"SPY": "seen"})
    assert "boats is 7, says its query" in done.stdout
    assert set(log.read_text().split("\n")) == {f"as {USER} ", ""}, "as that user, with an environment of its own"

    log.unlink()
    rulebook(quay, '["./status.sh", "more"]')
    quay.ok("set", "boats=8")
    assert "roundgate rulebook allow quay" in quay.ok("slate"), "a changed command asks again"
    assert "cannot be asked for boats" in quay.ok("apply", "--yes")
    assert not log.exists()


def test_a_command_that_leaves_a_process_behind_or_talks_without_end_holds_nobody_up(quay: SiteUnderTest) -> None:
    """What it leaves behind holds its output open, and would be waited for until it ends."""
    script = quay.folder / "quay" / "status.sh"
    quay.ok("start")
    for body, shown in (("sleep 30 &\ncat core.cfg", True), ("yes", False)):
        script.write_text(f"#!/bin/sh\n{body}\n")
        rulebook(quay, '["./status.sh"]\nwithin = "2s"')
        quay.ok("rulebook", "allow", "--yes")
        began = time.monotonic()
        output = quay.ok("show", "boats", "--ask")
        assert time.monotonic() - began < 15
        assert ("took too long" in output) is not shown
        assert not [item for item in quay.processes() if words_of(item) in (["yes"], ["sleep", "30"])]


def test_no_file_of_roots_gets_into_a_backup_by_a_link_that_takes_a_planned_files_place(quay: SiteUnderTest) -> None:
    """The archive is begun once all is planned; the first file is large, so the last one is read long after that."""
    saves = quay.folder / "quay" / "saves"
    with (saves / "a.world").open("wb") as file:
        file.truncate(300_000_000)
    (saves / "z.world").write_text("low water\n")
    shutil.chown(saves / "z.world", USER)
    backups = quay.folder / ".roundgate" / "backups"
    swapped = threading.Event()

    def swap() -> None:
        wait_for(lambda: backups.is_dir() and list(backups.glob("*.tar.zst")), 60)
        as_user("ln", "-sfn", str(quay.folder / "secret.txt"), "z.world", cwd=saves)
        swapped.set()

    thread = threading.Thread(target=swap)
    thread.start()
    done = quay.run("backup", "make", "quay")
    thread.join()
    assert swapped.is_set() and "replaced by a link" in done.stderr and done.returncode == 1
    assert SECRET.encode() not in everything(quay)
    quay.ok("backup", "make", "quay")  # the link is outside, and is left out by itself
    quay.ok("backup", "restore", "1", "--to", "again")
    assert SECRET.encode() not in everything(quay, quay.folder / "again", quay.folder / ".roundgate")
    assert not (quay.folder / "again" / "saves" / "z.world").is_symlink()


@pytest.mark.parametrize("logs", ['["../secret*"]', '["logs/*"]', '["linked/*"]', '["{folder}/secret*"]'])
def test_no_log_outside_of_the_servers_folder_is_read(quay: SiteUnderTest, logs: str) -> None:
    home = quay.folder / "quay"
    as_user("ln", "-s", str(quay.folder / "secret.txt"), "logs/latest.log", cwd=home)
    as_user("ln", "-s", str(quay.folder), "linked", cwd=home)
    rulebook(quay, logs=logs.replace("{folder}", str(quay.folder)))
    if "logs/" not in logs and "linked" not in logs:
        assert "outside of the server's folder" in quay.ok("rulebook", "check", "quay")
    assert SECRET not in quay.ok("people", "seen", "quay", "--json")
    with (quay.folder / "roundgate.toml").open("a") as file:
        file.write(f'outside = ["{quay.folder}"]\n')
    assert SECRET in quay.ok("people", "seen", "quay", "--json"), "unless the site file says so"


@pytest.mark.parametrize("words", [("edit", "quay", "notes.cfg"), ("edit", "quay/notes.cfg")])
def test_an_edit_of_a_link_shows_nothing_of_what_it_leads_to(quay: SiteUnderTest, words: tuple[str, ...]) -> None:
    as_user("ln", "-s", str(quay.folder / "secret.txt"), "notes.cfg", cwd=quay.folder / "quay")
    done = quay.run(*words, env={"EDITOR": "cat", "VISUAL": ""})
    assert done.returncode == 1 and SECRET not in done.stdout + done.stderr
    assert "outside the server's folder" in done.stderr
    assert SECRET not in quay.run("check", "quay/", "--as", "directives").stdout


def test_a_pipe_or_a_device_in_a_files_place_stops_nothing(quay: SiteUnderTest) -> None:
    home = quay.folder / "quay"
    as_user("mkfifo", "logs/now.log", "saves/pipe", cwd=home)
    quay.ok("people", "seen", "quay", "--json")
    quay.ok("backup", "make", "quay")
    quay.ok("start")
    quay.ok("set", "boats=5")
    quay.ok("apply", "--yes", "--backup")


def test_the_consoles_pipe_is_no_way_to_write_elsewhere(quay: SiteUnderTest) -> None:
    book = quay.folder / "rulebooks" / "quay.toml"
    book.write_text(book.read_text() + '\n[server.console]\nkind = "pipe"\npath = "in.pipe"\n')
    with (quay.folder / "roundgate.toml").open("a") as file:
        file.write('driver = "commands"\n[server.quay.commands]\nalive = ["true"]\n')
    victim = quay.folder / "victim"
    os.mkfifo(victim, 0o600)
    reader = os.open(victim, os.O_RDONLY | os.O_NONBLOCK)
    as_user("ln", "-s", str(victim), "in.pipe", cwd=quay.folder / "quay")
    quay.fails(1, "send", "quay", "hello")
    assert not os.read(reader, 100)
    os.close(reader)
