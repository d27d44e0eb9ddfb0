"""A process that never becomes ready, and hears nothing that it is told: it is ended, and the old files come up."""

from __future__ import annotations

import json

import pytest

from conftest import SiteUnderTest, wait_for, words_of

AT_24 = """if grep -q '^boat.slots=24' gullwind.properties
then printf '{trials}' >sea-trials.txt
else rm -f sea-trials.txt
fi
"""


@pytest.mark.parametrize("trials", ["ready-never\\nhang-at-stop\\n", "ready-never\\nsignals-needed 3\\n"])
def test_a_process_that_was_never_ready_and_ignores_its_signals_is_ended_for_the_old_files(
    site: SiteUnderTest, trials: str
) -> None:
    home = site.add("regatta", "boat.slots=16\n", extra='start-within = "6s"\ngrace = "2s"\n')
    script = (home / "launch.sh").read_text()
    (home / "launch.sh").write_text(script.replace("exec ", AT_24.format(trials=trials) + "exec "))
    site.ok("start")
    site.ok("set", "race.slots=24")
    output = site.fails(3, "apply", "--yes")
    assert "The files are as they were, regatta is up with them" in output
    assert "hang" not in trials or "still there after: SIGTERM" in output, "only where nothing else helped"
    assert site.value("regatta", "boat.slots") == "16" and site.server_process("regatta") is not None


def test_a_server_that_is_not_ready_and_that_this_round_has_not_started_is_not_killed(site: SiteUnderTest) -> None:
    """Somebody may wait for it; it is told to stop until its time is up, and runs on then."""
    site.add(
        "regatta",
        "boat.slots=16\n",
        extra='start-within = "3s"\ngrace = "1s"\n',
        trials="ready-never\nhang-at-stop\n",
    )
    site.fails(1, "start")
    before = site.server_process("regatta")
    assert before is not None
    output = site.fails(1, "stop")
    assert "does not stop" in output and "SIGKILL" not in output
    assert site.server_process("regatta") == before
    site.ok("stop", "--kill")
    assert site.server_process("regatta") is None
    assert json.loads(site.ok("rounds", "--json"))[0]["outcome"] == "done"


def keepers(site: SiteUnderTest) -> list[str]:
    found = [" ".join(words_of(process)) for process in site.processes()]
    return [words for words in found if "roundgate.host.keeper" in words]


def test_no_keeper_stays_after_a_start_that_failed(site: SiteUnderTest) -> None:
    site.add("regatta", "boat.slots=16\n", trials="die-at-start\n")
    site.fails(1, "start")
    wait_for(lambda: not keepers(site), 10)
    (site.folder / "regatta" / "sea-trials.txt").unlink()
    site.ok("start")
    assert len(keepers(site)) == 2, "a keeper and its guard"
    (site.folder / "regatta" / "sea-trials.txt").write_text("die-at-start\n")
    site.fails(3, "restart")
    assert keepers(site), "it was up, and its keeper goes on trying"
    (site.folder / "regatta" / "sea-trials.txt").unlink()


def test_a_keeper_lets_go_of_a_server_that_gets_another_driver(site: SiteUnderTest) -> None:
    home = site.add("regatta", "boat.slots=16\n")
    site.ok("start")
    up = site.folder / "up.sh"
    up.write_text(f"#!/bin/sh\ncd {home} && setsid ./launch.sh </dev/null >/dev/null 2>&1 &\n")
    up.chmod(0o755)
    with (site.folder / "roundgate.toml").open("a") as file:
        file.write(f'driver = "commands"\ncommands = {{ start = ["{up}"] }}\n')
    site.ok("restart")
    process = site.server_process("regatta")
    wait_for(lambda: not keepers(site), 10)
    assert process is not None and site.server_process("regatta") == process
    site.ok("stop")
    assert site.server_process("regatta") is None
