"""The only module that writes a server's files: all or none, modes and links kept, strangers' changes noticed."""

from __future__ import annotations

import errno
import os
import shutil
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from roundgate.host import files
from roundgate.host.errors import Trouble, as_trouble
from roundgate.host.files import Folder


def left_behind(folder: Path) -> list[str]:
    return [path.name for path in folder.rglob("*") if ".roundgate-" in path.name]


def test_where_a_folder_really_is_is_looked_at_again_once_its_path_leads_elsewhere(tmp_path: Path) -> None:
    """A folder that is a link is moved to another disk, and then a folder stands where its old place was."""
    first, second, link = (tmp_path / name for name in ("first", "second", "link"))
    for folder in (first, second):
        (folder / "sub").mkdir(parents=True)
        (folder / "sub" / "a").write_text(folder.name)
    link.symlink_to(first)
    folder = Folder(str(link))
    assert folder.read("sub/a") == b"first" and folder.resolve("sub/a") == str(first / "sub/a")
    link.unlink()
    link.symlink_to(second)
    assert folder.read("sub/a") == b"second"
    second.rename(tmp_path / "third")
    second.symlink_to("third")
    assert folder.resolve("sub/a") == str(tmp_path / "third/sub/a"), "what was remembered is a link itself now"
    (tmp_path / "third/sub").rename(tmp_path / "third/below")
    (tmp_path / "third/sub").symlink_to("below")
    assert folder.resolve("sub/a") == str(tmp_path / "third/below/a")
    assert folder.resolve("none/../sub/b/c") == str(tmp_path / "third/below/b/c")


@pytest.mark.parametrize("size", [0, 1, 4095, 4096, 70_000])
def test_a_file_of_any_size_is_read_whole(tmp_path: Path, size: int) -> None:
    data = bytes(number % 251 for number in range(size))
    (tmp_path / "a").write_bytes(data)
    assert Folder(str(tmp_path)).read("a") == data


def test_several_files_are_replaced_with_their_modes_and_nothing_is_left_beside_them(tmp_path: Path) -> None:
    (tmp_path / "a").write_bytes(b"old a")
    (tmp_path / "a").chmod(0o640)
    (tmp_path / "gone").write_bytes(b"x")
    folder = Folder(str(tmp_path))
    prepared = files.prepare(folder, {"a": b"new a", "b": b"new b", "gone": None}, "7")
    assert (tmp_path / "a").read_bytes() == b"old a", "nothing is replaced before the commit"
    assert files.read_manifest(files.manifest_bytes(prepared)) == prepared
    files.commit(folder, prepared)
    assert (tmp_path / "a").read_bytes() == b"new a" and (tmp_path / "a").stat().st_mode & 0o777 == 0o640
    assert (tmp_path / "b").read_bytes() == b"new b" and not (tmp_path / "gone").exists()
    assert left_behind(tmp_path) == [] and files.written_by_others(folder, prepared) == []


def test_a_change_by_somebody_else_is_noticed_before_the_first_rename(tmp_path: Path) -> None:
    for name in ("a", "b"):
        (tmp_path / name).write_bytes(b"old")
    folder = Folder(str(tmp_path))
    prepared = files.prepare(folder, {"a": b"new", "b": b"new"}, "7")
    (tmp_path / "b").write_bytes(b"theirs")
    with pytest.raises(Trouble, match="b was changed by somebody else"):
        files.commit(folder, prepared)
    assert (tmp_path / "a").read_bytes() == b"old" and (tmp_path / "b").read_bytes() == b"theirs"
    assert files.written_by_others(folder, prepared) == ["b"]
    files.discard(folder, prepared)
    assert left_behind(tmp_path) == []


@pytest.mark.parametrize("failing", ["write", "fsync", "fchmod"])
def test_a_disk_that_fails_while_preparing_leaves_nothing(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, failing: str
) -> None:
    (tmp_path / "a").write_bytes(b"old")
    (tmp_path / "b").write_bytes(b"old")
    calls = []

    def full(*_words: object) -> None:
        calls.append(1)
        if len(calls) > 1:
            raise OSError(errno.ENOSPC, "No space left on device")

    plain = getattr(os, failing)
    monkeypatch.setattr(os, failing, lambda *words: full(*words) or plain(*words))
    with pytest.raises(OSError, match="No space left") as caught:
        files.prepare(Folder(str(tmp_path)), {"a": b"new", "b": b"new"}, "7")
    monkeypatch.undo()
    assert left_behind(tmp_path) == []
    assert [(tmp_path / name).read_bytes() for name in ("a", "b")] == [b"old", b"old"]
    trouble = as_trouble(caught.value)
    assert trouble is not None and "The disk is full" in trouble.what


def test_links_are_followed_within_the_folder_and_named_places_and_nowhere_else(tmp_path: Path) -> None:
    home, shared = tmp_path / "home", tmp_path / "shared"
    for folder in (home, shared):
        folder.mkdir()
    (shared / "real").write_bytes(b"old")
    (home / "link").symlink_to(shared / "real")
    (home / "loop").symlink_to(home / "loop")
    with pytest.raises(Trouble, match="outside the server's folder"):
        Folder(str(home)).resolve("link")
    with pytest.raises(Trouble, match="outside the server's folder"):
        Folder(str(home)).resolve("../shared/real")
    allowed = Folder(str(home), (str(shared),))
    files.commit(allowed, files.prepare(allowed, {"link": b"new"}, "1"))
    assert (home / "link").is_symlink() and (shared / "real").read_bytes() == b"new"
    with pytest.raises(Trouble):
        Folder(str(home), (str(tmp_path / "sha"),)).resolve("link")
    texts, unreadable = files.read_texts(Folder(str(home)), ["link", "loop", "none"])
    assert texts == {} and "link" in unreadable and "none" not in unreadable


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.dictionaries(st.sampled_from("abcd"), st.binary(max_size=20), max_size=4),
    st.dictionaries(st.sampled_from("abcd"), st.one_of(st.none(), st.binary(max_size=20)), min_size=1, max_size=4),
)
def test_whatever_is_written_can_be_put_back(
    tmp_path: Path, before: dict[str, bytes], after: dict[str, bytes | None]
) -> None:
    for path in tmp_path.iterdir():
        path.unlink()
    for name, data in before.items():
        (tmp_path / name).write_bytes(data)
    folder = Folder(str(tmp_path))

    def now() -> dict[str, bytes]:
        return {path.name: path.read_bytes() for path in tmp_path.iterdir()}

    files.commit(folder, files.prepare(folder, after, "1"))
    wanted = {**before, **after}
    assert now() == {name: data for name, data in wanted.items() if data is not None}
    files.commit(folder, files.prepare(folder, {name: before.get(name) for name in after}, "1-back"))
    assert now() == before


def test_what_a_broken_off_prepare_left_is_swept_up(tmp_path: Path) -> None:
    (tmp_path / "a").write_bytes(b"old")
    folder = Folder(str(tmp_path))
    files.prepare(folder, {"a": b"new"}, "3")
    assert left_behind(tmp_path)
    files.sweep(folder, ["a", "never-there"], "4")
    assert left_behind(tmp_path)
    files.sweep(folder, ["a", "never-there"], "3")
    assert left_behind(tmp_path) == []


def test_our_own_files_are_wholly_there_or_not_at_all(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "state"
    files.write_durably(str(path), b"first")
    assert path.stat().st_mode & 0o777 == 0o600

    def cut(*_words: object) -> None:
        raise OSError(errno.EIO, "Input/output error")

    monkeypatch.setattr(os, "fsync", cut)
    with pytest.raises(OSError, match="Input/output"):
        files.write_durably(str(path), b"second")
    monkeypatch.undo()
    assert path.read_bytes() == b"first"


def test_a_file_that_is_no_longer_what_was_replayed_on_is_not_prepared(tmp_path: Path) -> None:
    (tmp_path / "a").write_bytes(b"theirs")
    folder = Folder(str(tmp_path))
    with pytest.raises(files.ChangedMeanwhile):
        files.prepare(folder, {"a": b"new"}, "7", {"a": files.digest(b"ours")})
    assert left_behind(tmp_path) == []
    assert files.prepare(folder, {"a": b"new"}, "7", {"a": files.digest(b"theirs")})


def test_a_new_file_is_like_its_neighbours_but_not_like_a_program(tmp_path: Path) -> None:
    for name in ("start.sh", "stop.sh", "tool"):
        (tmp_path / name).write_bytes(b"#!/bin/sh\n")
        (tmp_path / name).chmod(0o755)
    (tmp_path / "core.cfg").write_bytes(b"a 1\n")
    (tmp_path / "core.cfg").chmod(0o640)
    folder = Folder(str(tmp_path))
    files.commit(folder, files.prepare(folder, {"new.json": b"{}"}, "7"))
    assert (tmp_path / "new.json").stat().st_mode & 0o777 == 0o640


@pytest.mark.parametrize(("pieces", "every"), [(1, 1), (2, 1), (3, 1), (4, 1), (1, 2), (2, 2), (1, 4)])
def test_a_file_is_not_read_half_written(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, pieces: int, every: int
) -> None:
    """Its server has emptied it and writes it in pieces, one at each pause of the reader, or at every second one."""
    whole = "".join(f"tide.{number}=" + "ä" * 100 + "\n" for number in range(60)).encode()
    cuts = [0, *(len(whole) * part // pieces - 4 for part in range(1, pieces)), len(whole)]
    path = tmp_path / "a.properties"
    path.write_bytes(b"")
    pauses = 0

    def go_on(_seconds: float) -> None:
        nonlocal pauses
        pauses += 1
        path.write_bytes(whole[: cuts[min(pauses // every, pieces)]])

    monkeypatch.setattr(files.time, "sleep", go_on)
    texts, unreadable = files.read_texts(Folder(str(tmp_path)), ["a.properties"])
    assert not unreadable and texts["a.properties"].body.encode() == whole and pauses >= pieces * every


def test_a_walk_gives_each_thing_once_though_a_folder_goes_meanwhile(tmp_path: Path) -> None:
    for name in ("a/x", "b/y", "c/z"):
        (tmp_path / "top" / name).parent.mkdir(parents=True)
        (tmp_path / "top" / name).write_text("")
    folder = Folder(str(tmp_path))
    seen = []
    for found in folder.walk("top/"):
        seen.append(found.path)
        if found.path == "top/a/x":
            shutil.rmtree(tmp_path / "top" / "b")
    assert seen == ["top/a", "top/b", "top/c", "top/a/x", "top/c/z"]
    with pytest.raises(FileNotFoundError):
        list(folder.walk("elsewhere/"))
    deep = tmp_path / "/".join(["d"] * 120)
    deep.mkdir(parents=True)
    with pytest.raises(Trouble, match="more than 100 folders"):
        list(folder.walk())
