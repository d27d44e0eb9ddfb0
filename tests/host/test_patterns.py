"""Patterns of rulebooks on lines that somebody else wrote: the quick way gives what the bounded way gives."""

from __future__ import annotations

import time

import pytest
import regex
from hypothesis import given
from hypothesis import strategies as st

from conftest import BOOK, SiteUnderTest
from roundgate.core.patterns import LineSearch, needs_no_clock
from roundgate.host.patterns import LONGEST_LINE, search

PARTS = ["server ", r"(?P<value>\d+)", r"(?P<value>.*)", r"[\w.]+", "x?", "a{2}", "^", "$", r"\bto\b", "(?i:GULL)"]
LINES = st.text(alphabet="server 0123 gullGULL.toab\n", max_size=60)


@given(st.lists(st.sampled_from(PARTS), min_size=1, max_size=5), LINES)
def test_the_quick_way_finds_what_the_bounded_way_finds(parts: list[str], line: str) -> None:
    pattern = "".join(dict.fromkeys(parts))
    if pattern.count("(?P<value>") > 1:
        pattern = pattern.replace("(?P<value>", "(", 1)
    found, wanted = search(pattern, line), regex.search(pattern, line)
    assert (found is None) == (wanted is None)
    if found is not None and wanted is not None:
        assert (found.span(), found.groupdict()) == (wanted.span(), wanted.groupdict())


SLOW = ["a*b*c", "(a+)+$", "(x|y)*z", "a{2,}b+", "(a{1,})+", ".*.*=.*", "a?a?a?b", "a{0,9}a{0,9}b"]


@pytest.mark.parametrize("pattern", SLOW)
def test_what_may_take_long_is_searched_by_the_clock(pattern: str) -> None:
    assert not needs_no_clock(pattern)
    assert search(f"{pattern}\x00", "a" * LONGEST_LINE) is None


@pytest.mark.parametrize("pattern", [r"^tide is (?P<value>.*)$", r"server (?P<version>[\d.]+)", "ready", r"\d{2,}"])
def test_what_rulebooks_usually_say_needs_no_clock(pattern: str) -> None:
    assert needs_no_clock(pattern)


def test_a_pattern_that_only_one_of_the_modules_knows_is_searched_by_it() -> None:
    found = search(r"\p{Lu}ull", "the Gull sails")
    assert found is not None and found[0] == "Gull"
    assert search("(", "(") is None, "one that is not a pattern matches nothing"


@pytest.mark.parametrize("pattern", [*SLOW, r"sailor (?P<name>.+?) \((?P<id>\w+)\) came"])
def test_many_lines_of_a_log_are_searched_as_one_is_or_not_at_all_once_that_takes_too_long(pattern: str) -> None:
    """The lines of a stranger: the quick way and the clocked one agree, and 10,000 hostile ones end soon."""
    many = LineSearch(pattern, time.process_time)
    for line in ("aaab", "xyxyz", "a=b", "sailor Tern (GW) came", "", "aac"):
        found, wanted = many.search(line.encode()), regex.search(pattern, line)
        assert (found is None) == (wanted is None)
        assert found is None or found.span() == wanted.span()
    hostile = LineSearch(rf"{pattern}\x00", time.process_time)
    assert not any(hostile.search(b"a" * LONGEST_LINE) for _ in range(10_000))
    assert hostile.spent < 3, "in seconds of this process"


def test_people_seen_ends_whatever_the_rulebooks_patterns_are_and_status_names_them(site: SiteUnderTest) -> None:
    home = site.add("regatta")
    (site.folder / "rulebooks").mkdir()
    joined = next(line for line in BOOK.split("\n") if line.startswith("joined = "))
    slow = r"joined = '^(?P<id>(a|a)*)(?P<name>x|y)$'"
    (site.folder / "rulebooks" / "gullwind.toml").write_text(BOOK.replace(joined, slow))
    (home / "logs").mkdir()
    (home / "logs" / "latest.log").write_text(("a" * 3000 + "!x\n") * 50)
    site.ok("people", "seen", "regatta", "--json")
    assert "these patterns of its rulebook take too long and are disabled: joined" in site.ok("status")
    (site.folder / "rulebooks" / "gullwind.toml").write_text(BOOK)
    assert "take too long" not in site.ok("status"), "another pattern is another matter"
