"""A process that never becomes ready, and hears nothing that it is told: it is ended, and the old files come up."""

from __future__ import annotations

import json

import pytest

from conftest import SiteUnderTest

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
