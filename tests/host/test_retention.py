"""What rounds saved stays as long as the site file says, and what is somebody's own stays forever."""

from __future__ import annotations

from pathlib import Path

from conftest import SiteUnderTest


def keep(site: SiteUnderTest, count: int) -> None:
    file = site.folder / "roundgate.toml"
    text = file.read_text().partition("\n[rounds]")[0]
    file.write_text(f"{text}\n[rounds]\nkeep = {count}\n")


def folder(site: SiteUnderTest, number: int) -> Path:
    return site.folder / ".roundgate" / "rounds" / str(number)


def with_copies(site: SiteUnderTest) -> list[int]:
    """Return the rounds whose folders hold copies that can be put back."""
    found = [path for path in (site.folder / ".roundgate" / "rounds").iterdir() if (path / "saved.json").exists()]
    assert all(list(path.glob("before-*")) for path in found)
    return sorted(int(path.name) for path in found)


def change(site: SiteUnderTest, server: str, slots: int) -> None:
    site.ok("set", server, f"race.slots={slots}")
    site.ok("apply", server, "--yes")


def test_old_rounds_lose_their_copies_and_newer_ones_can_be_gone_back_to(regatta: SiteUnderTest) -> None:
    regatta.add("harbour")
    change(regatta, "harbour", 30)
    for slots in (11, 12, 13):
        change(regatta, "regatta", slots)
    assert with_copies(regatta) == [1, 2, 3, 4], "a hundred stay where the site file says nothing"
    keep(regatta, 2)
    change(regatta, "regatta", 14)
    assert with_copies(regatta) == [1, 4, 5], "those of another server stay"
    assert not list(folder(regatta, 3).glob("before-*")) and not list(folder(regatta, 3).glob("started-*"))
    before = regatta.text("regatta")
    said = regatta.fails(1, "rounds", "rewind", "2", "--yes")
    assert "The files that round 2 saved were deleted on 20" in said and "[rounds]" in said
    assert "deleted on 20" in regatta.fails(1, "compare", "round:3", "regatta")
    assert regatta.text("regatta") == before
    shown = regatta.ok("rounds", "show", "2")
    assert "race.slots" in shown and "its steps are no longer kept" in shown, "the history stays"
    assert "gather" in regatta.ok("rounds", "show", "4") and "no longer kept" not in regatta.ok("rounds", "show", "1")
    regatta.ok("rounds", "rewind", "4", "--yes")
    assert regatta.value("regatta", "boat.slots") == "12"
    assert with_copies(regatta) == [1, 5, 6], "a rewind is a round too"
    keep(regatta, 0)
    change(regatta, "regatta", 15)
    assert with_copies(regatta) == [1, 5, 6, 7]
    keep(regatta, -1)
    assert "[rounds] cannot be below 0" in regatta.fails(1, "status")


def test_worlds_go_and_what_somebody_else_had_written_stays(regatta: SiteUnderTest) -> None:
    saves = regatta.folder / "regatta" / "saves"
    saves.mkdir(exist_ok=True)
    (saves / "tide.world").write_text("old")
    regatta.ok("start", "regatta")
    regatta.ok("restart", "regatta", "--backup")
    assert (folder(regatta, 2) / "worlds" / "saves" / "tide.world").read_text() == "old"
    kept = folder(regatta, 2) / "kept-0-gullwind.properties"
    kept.write_text("boat.slots=19")
    keep(regatta, 1)
    regatta.ok("stop", "regatta")
    change(regatta, "regatta", 12)
    assert not (folder(regatta, 2) / "worlds").exists()
    assert sorted(path.name for path in folder(regatta, 2).iterdir()) == ["deleted.json", kept.name, "round.json"]
    assert kept.read_text() == "boat.slots=19" and (saves / "tide.world").read_text() == "old"
    assert {"round.json", "manifest.json"} < {path.name for path in folder(regatta, 4).iterdir()}


def test_as_many_worlds_of_rounds_stay_as_backups(regatta: SiteUnderTest) -> None:
    saves = regatta.folder / "regatta" / "saves"
    saves.mkdir(exist_ok=True)
    (saves / "tide.world").write_text("old")
    file = regatta.folder / "roundgate.toml"
    file.write_text(file.read_text() + "\n[backup]\nkeep = 2\n")
    regatta.ok("start", "regatta")
    for _ in range(3):
        regatta.ok("restart", "regatta", "--backup")
    assert [(folder(regatta, number) / "worlds").exists() for number in (2, 3, 4)] == [False, True, True]
    assert with_copies(regatta) == [1, 2, 3, 4], "the files stay"


def test_a_deletion_that_was_broken_off_is_finished(regatta: SiteUnderTest) -> None:
    for slots in (11, 12):
        change(regatta, "regatta", slots)
    (folder(regatta, 1) / "saved.json").unlink()  # a deletion begins with it
    keep(regatta, 1)
    change(regatta, "regatta", 13)
    assert with_copies(regatta) == [3]
    assert not list(folder(regatta, 1).glob("before-*")) and (folder(regatta, 1) / "deleted.json").exists()
    stamp = (folder(regatta, 1) / "deleted.json").stat().st_mtime_ns
    change(regatta, "regatta", 14)
    assert with_copies(regatta) == [4] and (folder(regatta, 1) / "deleted.json").stat().st_mtime_ns == stamp
