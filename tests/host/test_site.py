"""The site file: found, read, or told what is wrong; and which servers a word means."""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import BOOK, SiteUnderTest
from roundgate.host.errors import NoSite, Trouble, UnknownName, WrongUsage
from roundgate.host.site import choose_one, choose_servers, find_site, is_server_word, read_site

THREE = """
[site]
name = "Saltmarsh Sailing Club"
[server.harbour]
folder = "harbour"
start = ["./launch.sh"]
tags = ["casual"]
[server.regatta]
folder = "regatta"
start = ["./launch.sh"]
[server.nightwatch]
folder = "regatta/night"
start = ["./launch.sh"]
tags = ["casual", "late"]
"""


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "roundgate.toml").write_text(THREE)
    for name in ("harbour", "regatta/night", "elsewhere"):
        (tmp_path / name).mkdir(parents=True)
    return tmp_path


@pytest.mark.parametrize(
    ("word", "chosen"),
    [
        ("regatta", ["regatta"]),
        ("regatta,harbour", ["regatta", "harbour"]),
        ("harbour,harbour", ["harbour"]),
        ("@all", ["harbour", "regatta", "nightwatch"]),
        ("@casual", ["harbour", "nightwatch"]),
        ("@late,regatta,@casual", ["nightwatch", "regatta", "harbour"]),
    ],
)
def test_words_that_mean_servers(folder: Path, word: str, chosen: list[str]) -> None:
    site = read_site(folder)
    assert is_server_word(site, word)
    assert choose_servers(site, word, folder) == chosen


@pytest.mark.parametrize(
    ("word", "kind", "words"),
    [
        ("regata", UnknownName, "no server 'regata'"),
        ("@fast", UnknownName, "No server has the tag fast"),
        ("harbour,", UnknownName, "no server ''"),
        (None, WrongUsage, "Which server"),
    ],
)
def test_words_that_mean_none(folder: Path, word: str | None, kind: type[Trouble], words: str) -> None:
    with pytest.raises(kind, match=words):
        choose_servers(read_site(folder), word, folder / "elsewhere")


def test_the_server_in_whose_folder_one_stands_is_meant_the_innermost_first(folder: Path) -> None:
    site = read_site(folder)
    assert choose_servers(site, None, folder / "harbour") == ["harbour"]
    assert choose_servers(site, None, folder / "regatta") == ["regatta"]
    assert choose_servers(site, None, folder / "regatta" / "night") == ["nightwatch"]
    with pytest.raises(WrongUsage, match="one server at a time"):
        choose_one(site, "@all", folder)


def test_a_site_is_found_upward_by_name_or_by_the_environment(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    assert find_site(None, folder / "regatta" / "night").folder == folder
    assert find_site(str(folder / "roundgate.toml"), Path("/")).folder == folder
    monkeypatch.setenv("ROUNDGATE_SITE", str(folder))
    assert find_site(None, Path("/")).folder == folder
    with pytest.raises(NoSite, match=r"There is no roundgate\.toml"):
        find_site(str(folder / "harbour"), folder)
    monkeypatch.delenv("ROUNDGATE_SITE")
    with pytest.raises(NoSite, match="no site here"):
        find_site(None, Path("/"))


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("[site\n", "roundgate.toml:1:"),
        ("[server.a]\nfolder = 3\nstart = []\n", "Expected `str`"),
        ("[server.a]\nfolder = 'a'\n", "start"),
        ("[server.a]\nfolder = 'a'\nstart = ['x']\nrulebok = 'y'\n", "rulebok"),
        ('[server."../up"]\nfolder = "a"\nstart = ["x"]\n', "cannot be a server's name"),
        ("\x00", "roundgate.toml:1:"),
    ],
)
def test_a_site_file_with_a_mistake_is_told_with_what_is_wrong(tmp_path: Path, text: str, words: str) -> None:
    (tmp_path / "roundgate.toml").write_text(text)
    with pytest.raises(Trouble, match=r"(?s).*" + words.replace("[", r"\[")):
        read_site(tmp_path)


def test_a_site_file_that_is_no_text_is_told(tmp_path: Path) -> None:
    (tmp_path / "roundgate.toml").write_bytes(b"\xff\xfe\x00")
    with pytest.raises(Trouble, match="cannot be read"):
        read_site(tmp_path)


def test_a_rulebook_that_has_changed_is_read_anew(regatta: SiteUnderTest) -> None:
    """What was parsed is kept from call to call, by the file's time, size and number."""
    folder = regatta.folder / "rulebooks"
    folder.mkdir()
    book = folder / "gullwind.toml"
    book.write_text(BOOK.replace("range = [1, 32]", "range = [1, 30]"))
    assert "1 to 30" in regatta.ok("explain", "race.slots")
    book.write_text(BOOK.replace("range = [1, 32]", "range = [1, 31]"))
    assert "1 to 31" in regatta.ok("explain", "race.slots")


@pytest.mark.parametrize("key", ["console", "driver"])
def test_a_kind_that_there_is_not_is_told_with_those_that_there_are(site: SiteUnderTest, key: str) -> None:
    site.add("regatta", extra=f'{key} = "pigeon"')
    output = site.fails(1, "status")
    assert f"'pigeon' of regatta is not a kind of {key}" in output
    assert ("stdin, tcp" if key == "console" else "keeper") in output


def test_the_site_file_knows_every_console_and_driver_of_the_registries() -> None:
    from roundgate.host.consoles import CONSOLES
    from roundgate.host.drivers import DRIVERS
    from roundgate.host.site_file.checking import CONSOLE_KINDS, DRIVER_KINDS

    assert tuple(CONSOLES) == CONSOLE_KINDS and tuple(DRIVERS) == DRIVER_KINDS
