"""Backups of rented servers: fetched over a line that breaks, verified, and put back by a round."""

from __future__ import annotations

import random
import re
from pathlib import Path

import pytest

from rented_fixtures import Make
from rented_site import RentedPlace

WORLDS = {
    "saves/old-harbour/chart.dat": 300_000,
    "saves/old-harbour/deep/log.txt": 20,
    "saves/a blank, ä and ⛵/chart.dat": 5_000,
    "saves/saltmarsh-2026/empty": 0,
}


def fill(place: RentedPlace, seed: int = 0) -> dict[str, bytes]:
    made = {path: random.Random(f"{seed} {path}").randbytes(size) for path, size in WORLDS.items()}
    for path, data in made.items():
        (place.home / path).parent.mkdir(parents=True, exist_ok=True)
        (place.home / path).write_bytes(data)
    return made


def held(place: RentedPlace) -> dict[str, bytes]:
    root = place.home
    return {str(path.relative_to(root)): path.read_bytes() for path in root.glob("saves/**/*") if path.is_file()}


def test_the_worlds_of_a_place_are_saved_changed_and_put_back_by_a_round(either: RentedPlace, tmp_path: Path) -> None:
    site, first = either.site, fill(either)
    site.ok("start", "regatta")
    assert "cannot be told to hold its saving" in site.fails(1, "backup", "make", "regatta")
    output = site.ok("backup", "make", "regatta", "--as-it-runs")
    assert re.search(r"Backup 1 of regatta: 5 files, .* verified by reading it again", output, re.DOTALL)
    assert "is intact" in site.ok("backup", "check", "1")
    second = fill(either, 1)
    (either.home / "saves/new.txt").write_text("made since")
    output = site.ok("backup", "restore", "regatta", "1", "--yes")
    assert "saves  replaces what is there" in output and "what was there before is backup 2" in output.lower()
    assert held(either).items() >= first.items() and either.left() == []
    assert not (either.home / "saves/new.txt").exists()
    assert " up " in site.ok("status", "regatta")
    site.ok("backup", "restore", "2", "--to", str(tmp_path / "out"))
    assert (tmp_path / "out/saves/new.txt").read_text() == "made since"
    assert {path: (tmp_path / "out" / path).read_bytes() for path in second} == second
    assert not [path for path in (site.folder / ".roundgate/places").iterdir() if path.name.startswith("regatta.s")]


def test_a_whole_folder_is_saved_without_what_leads_out_of_it(either: RentedPlace, tmp_path: Path) -> None:
    site = either.site
    fill(either)
    (tmp_path / "hush.txt").write_text("another's")
    (either.home / "saves/lee.txt").symlink_to(tmp_path / "hush.txt")
    site.ok("backup", "make", "regatta", "--whole", "--zip")
    site.ok("backup", "restore", "1", "--to", str(tmp_path / "out"))
    came = {str(path.relative_to(tmp_path / "out")) for path in (tmp_path / "out").rglob("*") if path.is_file()}
    assert came >= {*WORLDS, "gullwind.properties", "courses.txt", "launch.sh"}
    assert "saves/lee.txt" not in came


def test_what_a_replaced_link_leads_to_is_not_removed(either: RentedPlace) -> None:
    site = either.site
    fill(either)
    (either.home / "mods").mkdir()
    (either.home / "mods" / "fog.txt").write_text("thick")
    (either.home / "saves" / "mods").symlink_to(either.home / "mods")
    site.ok("backup", "make", "regatta")
    site.ok("backup", "restore", "regatta", "1", "--yes")
    assert (either.home / "mods" / "fog.txt").read_text() == "thick" and either.left() == []


def test_a_restore_that_does_not_start_puts_the_former_worlds_back(either: RentedPlace) -> None:
    site = either.site
    fill(either)
    site.ok("backup", "make", "regatta", "--whole")
    site.ok("start", "regatta")
    fill(either, 1)
    now = held(either)
    (either.home / "launch.sh").write_text("#!/bin/sh\nexit 3\n")
    done = site.run("backup", "restore", "regatta", "1", "saves", "--yes")
    assert done.returncode != 0
    assert held(either) == now and either.left() == []


@pytest.mark.parametrize("seed", range(12))
def test_a_backup_goes_on_where_a_killed_service_broke_it_off(rented: Make, seed: int) -> None:
    """And what had come already is not asked for again."""
    place = rented(**({"list_only": True} if seed % 2 else {}))
    site, made = place.site, fill(place)
    before = place.acts
    site.ok("backup", "make", "regatta")
    made_by = place.acts
    first_of_worlds = made_by + (made_by - before - len(WORLDS)) + 1
    (place.home.parent.parent / "cut").write_text(str(first_of_worlds + seed % len(WORLDS)))
    first = site.run("backup", "make", "regatta", "--as-it-runs")
    (place.home.parent.parent / "cut").unlink()
    assert first.returncode == 1 and re.search(r"\d of 4 files are here already", first.stderr), first.stderr
    assert "goes on where it was" in first.stderr
    place.open()
    again = place.acts
    site.ok("backup", "make", "regatta", "--as-it-runs")
    asked_for_first = first_of_worlds - 1 - made_by
    assert place.acts - again == asked_for_first + len(WORLDS) - seed % len(WORLDS)
    site.ok("backup", "restore", "2", "--to", str(site.folder / "out"))
    assert {path: (site.folder / "out" / path).read_bytes() for path in made} == made


@pytest.mark.parametrize("at", range(1, 33))
def test_a_restore_that_a_dying_service_breaks_off_is_finished_or_undone(rented: Make, at: int) -> None:
    place = rented(**({"no_rename_over": True} if at % 2 else {"hides_dots": True}))
    site, first = place.site, fill(place)
    site.ok("backup", "make", "regatta")
    second = fill(place, 1)
    (place.home.parent.parent / "cut").write_text(str(place.acts + 6 + at))
    done = site.run("backup", "restore", "regatta", "1", "--yes")
    (place.home.parent.parent / "cut").unlink()
    if place.process is not None and place.process.poll() is not None:
        place.open()
    if done.returncode == 4:
        site.run("rounds", "recover", "regatta")
    assert held(place) == (first if done.returncode == 0 else second), done.stdout + done.stderr
    if not place.left():
        return
    # What could not be cleared away while nobody answered goes with the next restore.
    site.ok("backup", "restore", "regatta", "1", "--yes")
    assert held(place) == first and place.left() == []


def test_a_place_without_room_refuses_a_restore_and_keeps_what_it_has(rented: Make) -> None:
    place = rented(quota=900_000)
    site, first = place.site, fill(place)
    site.ok("backup", "make", "regatta", "--as-it-runs")
    now = fill(place, 1)
    (place.home / "saves/ballast").write_bytes(bytes(400_000))
    done = site.run("backup", "restore", "regatta", "1", "--yes")
    assert done.returncode == 1 and "cannot be unpacked" in done.stdout + done.stderr, done.stdout + done.stderr
    (place.home / "saves/ballast").unlink()
    assert held(place) == now and place.left() == []
    site.ok("backup", "restore", "regatta", "1", "--yes")
    assert held(place) == first


def test_names_in_latin_1_are_read_as_they_are_meant(rented: Make, tmp_path: Path) -> None:
    place = rented(encoding="latin-1")
    (place.home / "saves").mkdir()
    (place.home / "saves" / "Hafen \u00e4\u00f6.dat").write_text("tide")
    place.site.ok("backup", "make", "regatta")
    place.site.ok("backup", "restore", "1", "--to", str(tmp_path / "out"))
    assert (tmp_path / "out" / "saves" / "Hafen \u00e4\u00f6.dat").read_text() == "tide"
