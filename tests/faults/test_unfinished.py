"""Rounds that do not end: files that cannot be put back, and a process that is killed before it holds the server."""

from __future__ import annotations

import json
import shutil
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import LAUNCH, SiteUnderTest, wait_for
from peers import Hook

IN_THE_WAY = """#!/bin/sh
if grep -q boat.slots=24 gullwind.properties; then
    rm gullwind.properties
    mkdir -p gullwind.properties/in-the-way
    exit 1
fi
"""


@pytest.fixture
def hook() -> Iterator[Hook]:
    hook = Hook()
    yield hook
    hook.close()


def test_a_round_that_cannot_put_its_files_back_stays_open_tells_so_once_and_is_finished(
    site: SiteUnderTest, hook: Hook
) -> None:
    """The server's start puts a folder where its file was; the keeper tries again and again until that is gone."""
    home = site.add("regatta", "boat.slots=16\n")
    start = LAUNCH.format(python=sys.executable, more="").partition("\n")[2]
    (home / "launch.sh").write_text(IN_THE_WAY + start)
    with (site.folder / "roundgate.toml").open("a") as file:
        file.write(f'\n[notices.webhook.club]\nurl = "{hook.url}"\npause = "1s"\n')
    site.ok("start")
    site.ok("set", "race.slots=24")
    said = site.fails(4, "apply", "--yes")
    assert "the files could NOT be put back" in said and "What was saved is in" in said, said
    number = json.loads(site.ok("rounds", "--json"))[0]["round"]

    def tries() -> int:
        return site.ok("rounds", "show", str(number)).count("could NOT be put back")

    wait_for(lambda: tries() >= 3, 60)
    assert site.server_process("regatta") is None
    assert f"round {number} is being recovered by itself (try" in site.run("status").stdout
    assert hook.events() == ["up-again", "going-down", "failed"]
    shutil.rmtree(home / "gullwind.properties")
    wait_for(lambda: json.loads(site.ok("rounds", "--json"))[0]["outcome"] != "open", 60)
    wait_for(lambda: hook.events().count("failed") == 1 and len(hook.got) == 4, 20)
    assert json.loads(site.ok("rounds", "--json"))[0]["outcome"] == "rewound"
    assert site.value("regatta", "boat.slots") == "16"
    assert site.server_process("regatta") is not None
    assert "boat.slots=24" in site.ok("slate") or "16 -> 24" in site.ok("slate"), "the change waits again"
    assert hook.events()[3] == "rewound"


INJECT = str(Path(__file__).parent / "inject")


@pytest.mark.parametrize(
    ("at", "countdown", "told"),
    [
        ("journal gather begin", "0s", 0),
        ("journal gather end", "30s", 0),
        ("journal announce begin", "30s", 0),
        ("journal announce note", "30s", 1),
    ],
)
def test_a_round_that_is_killed_before_the_stop_is_closed_by_the_keeper_and_players_are_told(
    running: SiteUnderTest, at: str, countdown: str, told: int
) -> None:
    process = running.server_process("regatta")
    running.ok("set", "race.slots=24")
    hurt = {"PYTHONPATH": INJECT, "CRASH_AT": at}
    done = running.run("apply", "--yes", "--countdown", countdown, env=hurt)
    assert done.returncode == 4 and "do: roundgate rounds recover regatta" in done.stdout, done.stdout + done.stderr
    wait_for(lambda: json.loads(running.ok("rounds", "--json"))[0]["outcome"] == "failed", 20)
    assert "interrupted before anything was changed" in running.ok("rounds", "show", "2")
    assert running.ok("log").count("The restart is called off.") == told
    assert running.server_process("regatta") == process and "16 -> 24" in running.ok("slate")
    row = json.loads(running.ok("status", "--json"))["servers"][0]
    assert row["state"] == "up" and row["round"] is None
    assert "no round was interrupted" in running.ok("rounds", "recover", "regatta")
    running.ok("apply", "--yes")
    assert running.value("regatta", "boat.slots") == "24"
