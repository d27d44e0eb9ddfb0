"""``rulebook draft``: from a folder of files to a rulebook that is used, by the built program."""

from __future__ import annotations

from pathlib import Path

import pytest
from tests.conftest import SiteUnderTest

HARBOUR = """# Harbour settings

# How many boats may be on the water at once. Default: 12, 1 to 32
boat.slots=16

# The tide: calm, spring or storm
tide=spring

# Idle time in minutes, 0 = off
idle.drop=10

# May strangers come in? true or false
#guests=false

console.password=barnacle-77
"""


@pytest.fixture
def harbour(site: SiteUnderTest) -> Path:
    """A server without a rulebook, whose file tells in comments what it holds."""
    home = site.add("harbour")
    file = site.folder / "roundgate.toml"
    file.write_text(file.read_text().replace('rulebook = "gullwind"\n', ""))
    (home / "harbour.properties").write_text(HARBOUR)
    (home / "gullwind.properties").unlink()
    return home


def test_a_draft_is_written_told_in_numbers_and_used(site: SiteUnderTest, harbour: Path) -> None:
    output = site.ok("rulebook", "draft", "harbour")
    book = site.folder / "rulebooks" / "harbour.toml"
    assert "3 files" in output and "passes 'roundgate rulebook check'" in output
    assert "barnacle" not in book.read_text() + output
    assert "nothing wrong" in site.ok("rulebook", "check", "harbour")
    file = site.folder / "roundgate.toml"
    file.write_text(file.read_text().replace("[server.harbour]", '[server.harbour]\nrulebook = "harbour"'))
    assert "1 to 32" in site.fails(1, "set", "boat.slots=40")
    assert "calm" in site.fails(1, "set", "tide=sprink")
    site.ok("set", "idle.drop=1h", "tide=storm")
    assert "+idle.drop=60" in site.ok("slate")
    assert "10m" in site.ok("show", "idle.drop")
    assert "guests" in site.ok("show", "--all")


def test_a_draft_never_writes_over_a_file_unless_told(site: SiteUnderTest, harbour: Path) -> None:
    site.ok("rulebook", "draft", "harbour")
    book = site.folder / "rulebooks" / "harbour.toml"
    book.write_text("mine")
    output = site.fails(1, "rulebook", "draft", "harbour")
    assert "already exists; nothing was written" in output and book.read_text() == "mine"
    site.ok("rulebook", "draft", "harbour", "--force")
    assert book.read_text() != "mine"
    other = site.folder / "elsewhere.toml"
    site.ok("rulebook", "draft", "harbour", "--name", "sea", "--to", str(other))
    assert 'name = "sea"' in other.read_text()


def test_what_cannot_be_drafted_is_told_and_nothing_is_written(site: SiteUnderTest, harbour: Path) -> None:
    (harbour / "harbour.properties").write_bytes(b"\x00\xff\x00binary")
    (harbour / "empty.ini").write_bytes(b"")
    output = site.ok("rulebook", "draft", "harbour")
    assert "left out: harbour.properties" in output
    for path in harbour.iterdir():
        path.unlink()
    assert "no file to draft a rulebook from" in site.fails(1, "rulebook", "draft", "harbour", "--name", "none")
    assert not (site.folder / "rulebooks" / "none.toml").exists()
    assert "cannot be a rulebook's name" in site.fails(2, "rulebook", "draft", "harbour", "--name", "a/b")


def test_settings_that_are_all_commented_out_behind_an_ending_of_settings_are_found(
    site: SiteUnderTest, harbour: Path
) -> None:
    (harbour / "tide.conf").write_text("# How high it may come.\n#height 12\n\n# In minutes.\n#delay 5\n#flood no\n")
    site.ok("rulebook", "draft", "harbour")
    book = (site.folder / "rulebooks" / "harbour.toml").read_text()
    assert 'path = "tide.conf"\nformat = "directives"' in book
    assert '[setting.delay]\nfile = "tide"\nkey = "delay"\ntype = "duration"\nstored = "minutes"\ndefault = 5' in book
