"""What is remembered: in order, on disk, private, and nothing of a secret after its time."""

from __future__ import annotations

from pathlib import Path

import pytest

from roundgate.core.operations.lists import AddItem
from roundgate.core.operations.values import SetValue, Unset
from roundgate.host.cache import ParsedFiles
from roundgate.host.logs.ends import last_lines
from roundgate.host.store import Store, value_digest


@pytest.fixture
def store(tmp_path: Path) -> Store:
    return Store(tmp_path / "state")


def slots(stored: str) -> SetValue:
    return SetValue("core", "boat.slots", stored, "16", "race.slots")


def test_the_slate_keeps_order_and_one_value_for_each_key(store: Store) -> None:
    store.add_to_slate("regatta", [slots("20"), AddItem("list", "courses", "x")], "wren")
    store.add_to_slate("regatta", [slots("24")], "tern")
    store.add_to_slate("harbour", [Unset("core", "a")], "wren")
    waiting = store.slate("regatta")
    assert [(held.operation, held.by) for held in waiting] == [
        (AddItem("list", "courses", "x"), "wren"),
        (slots("24"), "tern"),
    ]
    store.take_off_slate([waiting[0].id])
    assert [one.operation for one in store.slate("regatta")] == [slots("24")]
    assert len(store.slate("harbour")) == 1
    store.close()


def test_two_open_stores_see_the_same(store: Store, tmp_path: Path) -> None:
    other = Store(tmp_path / "state")
    number = store.open_round("regatta", "apply", b"{}", "wren")
    assert other.open_round("regatta", "apply", b"{}", "tern") == number + 1
    other.write_journal(number, "stop", "begin", "")
    store.write_journal(number, "stop", "end", "0.1")
    assert [(line.step, line.mark) for line in other.journal(number)] == [("stop", "begin"), ("stop", "end")]
    store.close_round(number, "failed", "no room", ["last words"])
    row = other.round(number)
    assert row is not None and (row.outcome, row.message, row.evidence) == ("failed", "no room", ["last words"])
    assert [opened.number for opened in other.open_rounds()] == [number + 1]
    store.close()
    other.close()


def test_what_happens_inside_a_whole_happens_wholly_or_not_at_all(store: Store) -> None:
    with pytest.raises(ValueError, match="on the way"), store.whole():
        store.note_live("regatta", "race.laps", "7")
        raise ValueError("on the way")
    assert store.live("regatta", 0) == {}
    store.close()


def test_a_secret_that_was_on_the_slate_is_overwritten_when_it_is_taken_off(store: Store, tmp_path: Path) -> None:
    path = tmp_path / "state" / "state.sqlite"
    store.add_to_slate("regatta", [SetValue("core", "entry.code", "4815162342", None, "entry.code")], "wren")
    assert b"4815162342" in path.read_bytes()
    waiting = store.slate("regatta")
    number = store.open_round("regatta", "apply", b"{}", "wren")
    store.remember_written(number, "regatta", waiting, lambda _name, stored: str(stored))
    assert store.slate("regatta") == []
    assert store.written("regatta") == {"entry.code": (number, value_digest("regatta", "entry.code", "4815162342"))}
    store.close()
    assert b"4815162342" not in path.read_bytes()
    assert path.stat().st_mode & 0o777 == 0o600


def test_values_set_live_count_only_since_the_start(store: Store) -> None:
    store.note_live("regatta", "race.laps", "7")
    assert store.live("regatta", 0) == {"race.laps": "7"}
    assert store.live("regatta", 2**33) == {}
    store.note_timing("regatta", "start", 2.5)
    assert store.timing("regatta", "start") == 2.5 and store.timing("regatta", "stop") is None
    store.close()


def test_a_parsed_file_is_kept_until_it_changes_and_a_spoilt_cache_does_no_harm(tmp_path: Path) -> None:
    state, path = tmp_path / "state", tmp_path / "book.toml"
    state.mkdir()
    path.write_text("a = 1\n")
    assert ParsedFiles(state).toml(path) == {"a": 1}
    cache = state / "parsed.cache"
    assert cache.stat().st_mode & 0o777 == 0o600
    assert str(path) in ParsedFiles(state).held.files
    path.write_text("a = 22\n")
    assert ParsedFiles(state).toml(path) == {"a": 22}
    for spoilt in (b"", b"\xff\xff", cache.read_bytes()[:-3]):
        cache.write_bytes(spoilt)
        assert ParsedFiles(state).toml(path) == {"a": 22}
    assert ParsedFiles(None).toml(path) == {"a": 22}


@pytest.mark.parametrize("count", [0, 1, 3, 5000])
def test_the_last_lines_of_a_log_however_long(tmp_path: Path, count: int) -> None:
    path = tmp_path / "console.log"
    assert last_lines(path, count) == []
    lines = [f"line {number} {'x' * (number % 300)}" for number in range(3000)]
    path.write_text("".join(line + "\n" for line in lines))
    assert last_lines(path, count) == (lines[-count:] if count else [])


def test_what_a_round_brings_into_force_is_nobody_elses(store: Store) -> None:
    first = store.open_round("regatta", "apply", b"{}", "wren")
    second = store.open_round("regatta", "apply", b"{}", "tern")
    store.add_to_slate("regatta", [slots("20"), AddItem("list", "courses", "x")], "wren")
    numbers = [one.id for one in store.slate("regatta")]
    assert [one.id for one in store.claim(first, numbers[:1])] == numbers[:1]
    assert [one.id for one in store.claim(second, numbers)] == numbers[1:], "the first round has the other"
    assert store.take_off_slate(numbers) == [], "rounds are at work with them"
    store.add_to_slate("regatta", [slots("24")], "tern")
    store.close_round(first, "failed", "no room", [])
    waiting = [one.operation for one in store.slate("regatta") if one.round is None]
    assert waiting == [slots("24")], "what was put there since takes the place of what waits again"
    store.close()
