"""The words of a command are never turned into something else: what is not what it looks like is refused."""

from __future__ import annotations

import json
import shlex
import shutil
import subprocess
import tomllib
from pathlib import Path

import pytest
import yaml

import roundgate
from conftest import SiteUnderTest
from sampling import sampled

DEMO = Path(roundgate.__file__).parent / "demo" / "site" / "regatta"
CREW = {
    "json": '{\n  "Start": {\n    "Items": [\n      {"id": "rope", "count": 1},\n      {"id": "torch", "count": 2}\n'
    '    ],\n    "Tags": ["calm"],\n    "Name": "Quay"\n  }\n}\n',
    "yaml": "Start:\n  Items:\n    - id: rope\n      count: 1\n    - id: torch\n      count: 2\n  Tags: [calm]\n"
    "  Name: Quay\n",
    "toml": '[Start]\nTags = ["calm"]\nName = "Quay"\n\n[[Start.Items]]\nid = "rope"\ncount = 1\n\n[[Start.Items]]\n'
    'id = "torch"\ncount = 2\n',
    "lua": 'Start = {\n  Items = {\n    { id = "rope", count = 1 },\n    { id = "torch", count = 2 },\n  },\n'
    '  Tags = { "calm" },\n  Name = "Quay",\n}\n',
}
"""One small file in each format that holds lists and records."""
READERS = {"json": json.loads, "yaml": yaml.safe_load, "toml": tomllib.loads}


@pytest.fixture(params=sorted(CREW))
def crew(request: pytest.FixtureRequest, site: SiteUnderTest) -> tuple[SiteUnderTest, Path]:
    path = site.folder / f"crew.{request.param}"
    path.write_text(CREW[request.param])
    return site, path


def start_of(path: Path) -> dict[str, object]:
    reader = READERS.get(path.suffix[1:])
    assert reader is not None
    return dict(reader(path.read_text())["Start"])


def test_a_list_and_a_record_have_one_way_in_in_every_format(crew: tuple[SiteUnderTest, Path]) -> None:
    site, path = crew
    site.ok("set", f'{path}:Start.Tags=["calm", "late"]')
    site.ok("add", f"{path}:Start.Items", '{"id": "net", "count": 3}', '{"id": "oar", "count": 4}', "--at", "0")
    site.ok("set", f"{path}:Start.Items[id=torch].count=7")
    if path.suffix != ".toml":  # an array of tables cannot be given over to another writing
        site.ok("set", f"{path}:Start.Empty=[]", "--new")
        site.ok("add", f"{path}:Start.Empty", "first")
    site.ok("add", f"{path}:Start.Marks", "buoy")
    if path.suffix == ".lua":
        assert '{ id = "torch", count = 7 }' in path.read_text()
        assert 'Marks = { "buoy" }' in path.read_text()
        return
    found = start_of(path)
    assert found["Items"] == [
        {"id": "net", "count": 3},
        {"id": "oar", "count": 4},
        {"id": "rope", "count": 1},
        {"id": "torch", "count": 7},
    ]
    assert found["Tags"] == ["calm", "late"]
    assert found["Marks"] == ["buoy"]
    assert found.get("Empty", ["first"]) == ["first"]


REFUSED = [
    ("set", "Start.Tags=['*']", '["*"]'),
    ("set", "Start.Tags={a: 1}", '{"a": 1}'),
    ("set", 'Start.Tags=["a"', "--kind text"),
    ("set", "Start.Name=[EU]", "--kind text"),
    ("set", "Start.Name=a\\nb", "--kind json"),
    ("set", "Start.Items[0].count=10m", "a number without a unit"),
    ("set", "Name=x", "Start.Name"),
    ("set", "Start.Nmae=x", "Start.Name"),
    ("set", "Start.Items[id=lamp].count=1", "no item of Start.Items has id=lamp"),
    ("set", "Start.Items[id=lamp=1", "Start.Items[id"),
    ("add", "Start.Items|lamp", "are records"),
    ("add", 'Start.Items|{"id": "lamp"', "not valid JSON"),
    ("add", 'Start.Items|{"id": "lamp", "id": "oar"}', "'id' more than once"),
    ("add", 'Start.Tags|{"id": "lamp"}', "are single values"),
    ("add", "Start.Tgas|late", "Start.Tags"),
]


SAMPLE = sampled(sorted(CREW), 2)


@pytest.mark.parametrize("kind", SAMPLE)
def test_what_looks_like_something_else_is_refused_with_the_right_words(site: SiteUnderTest, kind: str) -> None:
    path = site.folder / f"crew.{kind}"
    path.write_text(CREW[kind])
    for verb, words, told in REFUSED:
        done = site.run(verb, *(f"{path}:{words}".split("|")))
        heard = done.stdout + done.stderr
        assert done.returncode in (1, 2), f"{verb} {words}: {heard}"
        assert told in heard, f"{verb} {words}: {heard}"
        assert path.read_text() == CREW[kind], f"{verb} {words}"


def test_the_advice_of_a_refusal_can_be_run_as_it_stands(site: SiteUnderTest) -> None:
    path = site.folder / "crew.json"
    for verb, words, _ in REFUSED:
        path.write_text(CREW["json"])
        done = site.run(verb, *(f"{path}:{words}".split("|")))
        advice = [line.partition("do: ")[2] for line in (done.stdout + done.stderr).splitlines() if "do: " in line]
        for line in advice:
            program, *call = shlex.split(line)
            assert program == "roundgate"
            again = site.run(*call)
            assert again.returncode == 0, f"{line}\n{again.stdout}{again.stderr}"
            json.loads(path.read_text())


def test_keys_that_are_not_there_need_a_word_in_files_of_keys_too(regatta: SiteUnderTest) -> None:
    home = regatta.folder / "regatta"
    shutil.copy(DEMO / "weather.ini", home)
    output = regatta.fails(2, "set", "regatta", "gullwind.properties:mod.sail=red")
    assert "--new" in output
    regatta.ok("set", "regatta", "gullwind.properties:mod.sail=red", "--new")
    regatta.ok("set", "regatta", "gullwind.properties:mod.sail=blue")
    (home / "squalls.ini").write_text("[wind]\nGusts=4\n")
    assert "a number without a unit" in regatta.fails(1, "set", "regatta", "squalls.ini:wind.Gusts=10m")
    assert "line break" in regatta.fails(1, "set", "regatta", "gullwind.properties:mod.sail=a\\nb")
    regatta.ok("set", "regatta", 'gullwind.properties:mod.sail="a\\nb"', "--kind", "json")
    assert "+mod.sail=a\\nb" in regatta.ok("slate", "regatta")
    regatta.ok("set", "regatta", "gullwind.properties:mod.sail=a\\nb", "--kind", "text")
    assert "+mod.sail=a\\\\nb" in regatta.ok("slate", "regatta")


def test_a_file_is_made_under_its_exact_name_and_only_where_asked(regatta: SiteUnderTest) -> None:
    home = regatta.folder / "regatta"
    shutil.copy(DEMO / "guestlist.txt", home)
    assert "--new-file" in regatta.fails(2, "set", "regatta", "spare.json:a.b=3")
    assert "differs from it by capitals only" in regatta.fails(2, "add", "regatta", "Guestlist.txt", "x", "--new-file")
    assert "not in the folder" in regatta.fails(2, "set", "regatta", "../spare.json:a=3", "--new-file")
    regatta.ok("set", "regatta", "spare.json:a.b=3", "--new-file")
    regatta.ok("set", "regatta", "spare.yml:a.b=3", "--new-file")
    regatta.ok("add", "regatta", "spare.txt", "one", "two", "--new-file")
    regatta.ok("add", "regatta", "guestlist.txt", "GW-9Z9Z-Z9Z9")
    regatta.ok("apply", "regatta", "--yes")
    assert json.loads((home / "spare.json").read_text()) == {"a": {"b": 3}}
    assert (home / "spare.yml").read_text() == "a:\n  b: 3\n"
    assert (home / "spare.txt").read_text() == "one\ntwo\n"
    assert (home / "guestlist.txt").read_text().endswith("GW-9Z9Z-Z9Z9\n")


def test_a_rank_file_is_built_up_from_nothing_by_commands_alone(regatta: SiteUnderTest) -> None:
    ranks = regatta.folder / "regatta" / "ranks.yml"
    ranks.write_text("{}\n")
    regatta.ok("set", "regatta", "ranks.yml:newcomers=deckhand", "--new")
    regatta.ok("set", "regatta", 'ranks.yml:ranks.deckhand={"may": ["sail.start"]}', "--new")
    regatta.ok("set", "regatta", "ranks.yml:ranks.coxswain={}", "--new")
    regatta.ok("add", "regatta", "ranks.yml:ranks.coxswain.also", "deckhand")
    regatta.ok("add", "regatta", "ranks.yml:ranks.coxswain.may", "crew.call", "crew.swap")
    regatta.ok("add", "regatta", "ranks.yml:ranks.coxswain.may", "race.*", "--at", "0")
    regatta.ok("set", "regatta", "ranks.yml:ranks.coxswain.colour=#c0392b", "--new")
    regatta.ok("apply", "regatta", "--yes")
    assert yaml.safe_load(ranks.read_text()) == {
        "newcomers": "deckhand",
        "ranks": {
            "deckhand": {"may": ["sail.start"]},
            "coxswain": {"also": ["deckhand"], "may": ["race.*", "crew.call", "crew.swap"], "colour": "#c0392b"},
        },
    }


def test_a_file_of_no_server_is_written_at_once_byte_for_byte(site: SiteUnderTest) -> None:
    path = site.folder / "berths.json"
    path.write_bytes(b'\xef\xbb\xbf{\r\n\t"a" : [1,2],\r\n\t"b":"x"\r\n}')
    output = site.ok("set", f"{path}:b=y")
    assert '"b":"y"' in output
    assert path.read_bytes() == b'\xef\xbb\xbf{\r\n\t"a" : [1,2],\r\n\t"b":"y"\r\n}'
    assert "it has these values already" in site.ok("set", f"{path}:b=y")
    site.ok("add", f"{path}:a", "3")
    site.ok("remove", f"{path}:a", "1")
    site.ok("move", f"{path}:a", "3", "--to", "0")
    site.ok("rename", f"{path}:b", "c")
    site.ok("reset", f"{path}:c")
    assert json.loads(path.read_bytes().decode("utf-8-sig")) == {"a": [3, 2]}
    alone = site.run("set", "berths.json:a[0]=9", cwd=site.folder, env={"ROUNDGATE_SITE": ""})
    assert alone.returncode == 0, alone.stderr
    assert json.loads(path.read_bytes().decode("utf-8-sig")) == {"a": [9, 2]}


def test_a_name_that_is_nearly_the_one_that_the_server_reads_is_a_finding(regatta: SiteUnderTest) -> None:
    home = regatta.folder / "regatta"
    shutil.copy(DEMO / "guestlist.txt", home / "GuestList.txt")
    output = regatta.run("check", "regatta").stdout
    assert "file-name-near" in output
    advice = next(line.partition("do: ")[2] for line in output.splitlines() if "do: mv" in line)
    subprocess.run(shlex.split(advice), check=True)
    assert "file-name-near" not in regatta.run("check", "regatta").stdout
    assert (home / "guestlist.txt").is_file()


def test_a_file_of_statements_takes_lists_and_changes_of_their_items(site: SiteUnderTest) -> None:
    path = site.folder / "harbour.cfg"
    path.write_text('name = "Quay";\nports[] = {1, 2};\nfog = 1;\n')
    site.ok("set", f"{path}:ports=[3, 4]")
    site.ok("add", f"{path}:ports", "5", "--at", "0")
    site.ok("move", f"{path}:ports", "4", "--to", "0")
    site.ok("remove", f"{path}:ports", "3")
    for way in ("--off", "--on"):
        site.ok("switch", f"{path}:ports", way)
    assert path.read_text() == 'name = "Quay";\nports[] = {4, 5};\nfog = 1;\n'
    assert "single values" in site.fails(1, "add", f"{path}:ports", "[1, 2]")


@pytest.mark.parametrize("kind", sorted(CREW))
def test_a_set_that_no_rulebook_describes_is_found_by_its_looks(site: SiteUnderTest, kind: str) -> None:
    """FILE:PATH of a list of records has all the addresses that a set of the rulebook has."""
    path = site.folder / f"crew.{kind}"
    path.write_text(CREW[kind])
    items = f"{path}:Start.Items"
    site.ok("add", items, "id=lamp", "count=3")
    site.ok("set", f"{items}/torch.count=9")
    site.ok("move", f"{items}/lamp", "--to", "0")
    site.ok("rename", f"{items}/rope", "line")
    assert "id: lamp" in path.read_text() or "lamp" in path.read_text()
    reader = {"json": json.loads, "yaml": yaml.safe_load, "toml": tomllib.loads}.get(kind)
    if reader is not None:
        found = reader(path.read_text())["Start"]["Items"]
        assert [(item["id"], item["count"]) for item in found] == [("lamp", 3), ("line", 1), ("torch", 9)]
    site.ok("remove", f"{items}/lamp")
    assert "lamp" not in path.read_text()
    assert "has no" in site.fails(2, "set", f"{items}/anchor.count=9")


def test_a_set_of_a_server_is_meant_by_its_place_too(regatta: SiteUnderTest) -> None:
    home = regatta.folder / "regatta"
    (home / "officers.json").write_text('{"officers": [{"id": "GW-7K3M-Q2XD", "name": "Wren", "rank": "marshal"}]}\n')
    (home / "berths.json").write_text('{"berths": [{"name": "bow", "most": 2}, {"name": "mast", "most": 1}]}\n')
    output = regatta.ok("set", "regatta", "officers.json:officers/Wren.rank=coxswain")
    assert "officers/GW-7K3M-Q2XD.rank: marshal -> coxswain" in output, "by the name that the rulebook has for it"
    assert "mast" in regatta.ok("show", "regatta", "berths.json:berths")
    regatta.ok("set", "regatta", "berths.json:berths/bow.most=3")
    assert "berths.json:berths/bow.most: 2 -> 3" in regatta.ok("slate", "regatta")
    regatta.ok("add", "regatta", "berths.json:berths", "--like", "mast", "name=stern")
    regatta.ok("apply", "regatta", "--yes")
    assert json.loads((home / "berths.json").read_text())["berths"] == [
        {"name": "bow", "most": 3},
        {"name": "mast", "most": 1},
        {"name": "stern", "most": 1},
    ]
    assert regatta.ok("show", "regatta", "berths.json:berths", "--csv").splitlines() == [
        "key,name,most",
        "bow,bow,3",
        "mast,mast,1",
        "stern,stern,1",
    ]


def test_fields_for_records_that_have_none_in_common_are_refused_with_the_record_that_they_make(
    regatta: SiteUnderTest,
) -> None:
    file = regatta.folder / "regatta" / "odd.json"
    file.write_text('{"list": [{"a": 1}, {"b": {"c": 2}}]}\n')
    output = regatta.fails(2, "add", "regatta", "odd.json:list", "a=5")
    assert "one is given whole, as JSON" in output and """odd.json:list '{"a": "5"}'""" in output
    regatta.ok("add", "regatta", "odd.json:list", '{"a": 5}')
    assert '{"a": 5}' in regatta.ok("slate")
