"""A moment of the timetable is claimed once, whoever asks at the same time, and never again once it is over."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest

from roundgate.core.timetable.looking import MomentOutcome
from roundgate.host.site import Site
from roundgate.host.site_file.tables import SiteFile
from roundgate.host.timetable.books import TimetableBooks

NOW = 4_000_000_000.0
CLAIM_ALL = f"""
import json, sys
from pathlib import Path
from roundgate.host.site import Site
from roundgate.host.site_file.tables import SiteFile
from roundgate.host.timetable.books import TimetableBooks

books = TimetableBooks(Site(Path(sys.argv[1]), SiteFile()))
print("ready", flush=True)
sys.stdin.readline()
print(json.dumps([at for at in range(200) if books.claim("regatta", "tea", {NOW} + at)]))
"""


@pytest.fixture
def site(tmp_path: Path) -> Site:
    return Site(tmp_path, SiteFile())


def test_of_several_processes_one_has_each_moment(site: Site) -> None:
    processes = [
        subprocess.Popen(
            [sys.executable, "-c", CLAIM_ALL, str(site.folder)],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
        )
        for _ in range(4)
    ]
    for process in processes:
        assert process.stdout is not None and process.stdout.readline() == "ready\n"
    for process in processes:
        assert process.stdin is not None
        process.stdin.write("\n")
        process.stdin.flush()
    claimed = [json.loads(process.communicate(timeout=60)[0]) for process in processes]
    assert sorted(at for moments in claimed for at in moments) == list(range(200))


def test_what_was_written_while_the_clock_was_ahead_is_not_the_last(site: Site) -> None:
    books = TimetableBooks(site)
    books.write("regatta", "tea", NOW, "done")
    assert books.miss("regatta", "tea", [NOW, NOW + 86400, NOW + 2 * 86400], "nobody was there") == [
        NOW + 86400,
        NOW + 2 * 86400,
    ]
    assert books.miss("regatta", "tea", [NOW + 86400], "nobody was there") == []
    row = books.last("regatta", "tea", NOW + 60)
    assert row is not None and (row.due, row.outcome) == (NOW, "done")
    assert books.claim("regatta", "tea", NOW + 86400, again=True), "it is carried out when it comes"
    row = books.last("regatta", "tea", NOW + 60)
    assert row is not None and (row.due, row.outcome) == (NOW + 86400, "running")
    books.close()


@pytest.mark.parametrize("outcome", [None, "done", "failed", "needless", "missed", "skip", "skipped"])
def test_only_a_missed_moment_can_be_claimed_again(site: Site, outcome: MomentOutcome | None) -> None:
    books = TimetableBooks(site)
    assert books.claim("regatta", "tea", NOW)
    if outcome is not None:
        books.write("regatta", "tea", NOW, outcome, "as it was")
    assert not books.claim("regatta", "tea", NOW)
    last = books.last("regatta", "tea", NOW)
    if outcome != "skip":
        assert last is not None and (last.outcome, last.detail) == (
            outcome or "running",
            "as it was" if outcome else "",
        )
    assert books.taken("regatta", "tea", NOW - 1) == {NOW: outcome or "running"}, "a claim in vain changes nothing"
    assert books.claim("regatta", "tea", NOW, again=True) == (outcome == "missed")
    assert not books.claim("regatta", "tea", NOW, again=True)
    assert books.claim("harbour", "tea", NOW) and books.claim("regatta", "supper", NOW)
    books.close()


def test_a_moment_belongs_to_the_process_that_claimed_it_until_that_has_died(site: Site) -> None:
    books = TimetableBooks(site)
    assert books.claim("regatta", "tea", NOW) and books.orphans("regatta", "tea") == []
    row = books.last("regatta", "tea", NOW)
    assert row is not None and (row.outcome, row.detail) == ("running", "")
    with subprocess.Popen(
        [sys.executable, "-c", CLAIM_ALL, str(site.folder)], stdin=subprocess.PIPE, stdout=subprocess.PIPE
    ) as other:
        claimed = json.loads(other.communicate(b"\n")[0].splitlines()[1])
    assert len(claimed) == 199, "all but the one that this process has"
    found = books.orphans("regatta", "tea")
    assert sorted(found) == [NOW + at for at in claimed] and books.orphans("regatta", "tea") == []
    books.close()
