"""One moment of a server: what follows from it is worked out once, however many ask."""

from __future__ import annotations

import os
from collections import Counter
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
from tests.conftest import SiteUnderTest

from roundgate import api
from roundgate.core import checks
from roundgate.core.operations.values import SetValue
from roundgate.host import files, workspace
from roundgate.host.files import Folder, SeenTexts, read_texts


@pytest.fixture
def counts(monkeypatch: pytest.MonkeyPatch) -> Counter[str]:
    """Count the calls of what is slow; they are made anyway."""
    found: Counter[str] = Counter()

    def counted(module: Any, name: str) -> None:
        plain = getattr(module, name)

        def call(*words: Any, **more: Any) -> Any:
            found[name] += 1
            return plain(*words, **more)

        monkeypatch.setattr(module, name, call)

    counted(checks, "check_disk")
    counted(workspace, "replay")
    return found


def test_each_slate_is_replayed_once_and_each_state_checked_once(site: SiteUnderTest, counts: Counter[str]) -> None:
    site.add("regatta", "boat.slots=16\n")
    with api.open_site(site.folder) as opened:
        moment = opened.server("regatta").workspace
        operations = [SetValue("gullwind.properties", "boat.slots", "24", "16", "race.slots")]
        for _ in range(3):
            moment.findings_of(moment.outcome(operations))
            moment.findings_on_disk()
        assert counts == {"replay": 1, "check_disk": 2}, "the files as they are, and as the slate would leave them"
        moment.findings_of(moment.outcome([]))
        assert counts == {"replay": 2, "check_disk": 2}, "an empty slate leaves the state that is checked already"


def test_the_same_content_seen_again_is_not_checked_again(site: SiteUnderTest, counts: Counter[str]) -> None:
    home = site.add("regatta", "boat.slots=16\n")
    file = home / "gullwind.properties"
    before = file.read_bytes()
    with api.open_site(site.folder) as opened:
        moment = opened.server("regatta").workspace
        moment.findings_on_disk()
        file.write_bytes(before.replace(b"16", b"20"))
        other = moment.again()
        other.findings_on_disk()
        file.write_bytes(before)
        assert [finding.code for finding in other.again().findings_on_disk()] == []
    assert counts["check_disk"] == 2


def test_a_file_that_is_asked_for_later_is_read_then_and_what_follows_is_worked_out_anew(site: SiteUnderTest) -> None:
    home = site.add("regatta", "boat.slots=16\n")
    (home / "extra.ini").write_text("[a]\nb = 1\n")
    with api.open_site(site.folder) as opened:
        moment = opened.server("regatta").workspace
        assert "extra.ini" not in moment.read().files.texts
        outcome = moment.outcome([SetValue("extra.ini", "a.b", "2")])
        assert outcome.touched == ["extra.ini"] and "extra.ini" in moment.read().files.texts


def test_a_write_in_the_same_tick_of_the_clock_is_seen(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """On a file system whose times are coarse, two writes of one size look the same: what is fresh is read again."""
    seen, folder, file = SeenTexts(), Folder(str(tmp_path)), tmp_path / "a.ini"
    plain, tick = os.stat, 40_000_000

    def coarse(path: str, *words: Any, **more: Any) -> Any:
        found = plain(path, *words, **more)
        times = {name: getattr(found, name) // tick * tick + 1 for name in ("st_mtime_ns", "st_ctime_ns")}
        return SimpleNamespace(st_dev=found.st_dev, st_ino=found.st_ino, st_size=found.st_size, **times)

    monkeypatch.setattr(files, "os", SimpleNamespace(**{**vars(os), "stat": coarse}))
    for number in range(500):
        file.write_text(f"{number % 10}\n")  # a whole line: one without its end would be read again in any case
        texts, _ = read_texts(folder, ["a.ini"], seen)
        assert texts["a.ini"].body == f"{number % 10}\n"


def test_a_file_that_has_been_at_rest_is_not_read_again(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    seen, folder, file = SeenTexts(), Folder(str(tmp_path)), tmp_path / "a.ini"
    file.write_text("1")
    os.utime(file, (1_000_000_000, 1_000_000_000))
    first = read_texts(folder, ["a.ini"], seen)
    monkeypatch.setattr(Folder, "read", lambda *_: pytest.fail("it was read again"))
    assert read_texts(folder, ["a.ini"], seen) == first
