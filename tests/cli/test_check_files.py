"""``check FILE`` and ``check --fix``: any files, standard input, folders; for people, programs, hooks and editors."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from conftest import SiteUnderTest
from corpus_files import expected, files, format_of, name_of

BROKEN = '{\n  "officers": [\n    {"id": "GW-7K3M-Q2XD"}\n    {"id": "GW-8P2C-W4TN"},\n  ]\n}\n'
MENDED = '{\n  "officers": [\n    {"id": "GW-7K3M-Q2XD"},\n    {"id": "GW-8P2C-W4TN"}\n  ]\n}\n'


def run(folder: Path, *words: str, given: bytes = b"") -> subprocess.CompletedProcess[bytes]:
    command = [sys.executable, "-m", "roundgate", "check", *words]
    return subprocess.run(command, cwd=folder, input=given, capture_output=True, timeout=100, check=False)


def output(done: subprocess.CompletedProcess[bytes]) -> str:
    assert b"Traceback" not in done.stderr + done.stdout
    return done.stdout.decode()


def findings(done: subprocess.CompletedProcess[bytes]) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = json.loads(output(done))["findings"]
    return found


def test_a_file_is_checked_without_a_site(tmp_path: Path) -> None:
    (tmp_path / "officers.json").write_text(BROKEN)
    done = run(tmp_path, "officers.json")
    assert done.returncode == 1
    text = output(done)
    assert "error  comma-missing  officers.json:3:27" in text
    assert "a reader only gives up at 4:5" in text
    assert "do: roundgate check officers.json --fix" in text and "hint: Write a comma." in text
    assert "officers.json: 2 errors." in text
    assert (tmp_path / "officers.json").read_text() == BROKEN


def test_what_is_right_ends_with_nothing_wrong(tmp_path: Path) -> None:
    (tmp_path / "ranks.yml").write_text("ranks:\n  deckhand: 1\n")
    done = run(tmp_path, "ranks.yml")
    assert (done.returncode, output(done)) == (0, "ranks.yml: nothing wrong.\n")


def test_standard_input_is_checked_by_its_format_or_by_its_looks(tmp_path: Path) -> None:
    done = run(tmp_path, "-", "--as", "json", "--json", given=BROKEN.encode())
    assert [finding["code"] for finding in findings(done)] == ["comma-missing", "comma-last"]
    assert done.returncode == 1
    assert run(tmp_path, "-", given=BROKEN.encode()).returncode == 1
    assert run(tmp_path, "-", "--as", "toml", given=b"slots = 2\n").returncode == 0


def test_a_warning_ends_with_0_and_with_strict_with_1(tmp_path: Path) -> None:
    (tmp_path / "a.properties").write_text("gusts=true \n")
    assert run(tmp_path, "a.properties").returncode == 0
    assert run(tmp_path, "a.properties", "--strict").returncode == 1


@pytest.mark.parametrize(
    ("words", "hint"),
    [
        (["x.json", "--as", "jsn"], "There is no format 'jsn'"),
        (["x.json", "--format", "xml"], "There is no format 'xml'"),
        (["-", "x.json"], "Standard input is checked by itself"),
        (["-", "--fix"], "cannot be fixed in place"),
    ],
)
def test_wrong_words_end_with_2(tmp_path: Path, words: list[str], hint: str) -> None:
    (tmp_path / "x.json").write_text("{}")
    done = run(tmp_path, *words)
    assert done.returncode == 2
    assert hint in done.stderr.decode()


def test_what_is_not_there_or_no_text_is_one_finding(tmp_path: Path) -> None:
    (tmp_path / "dump.json").write_bytes(b"{\0}")
    (tmp_path / "half.xml").write_bytes(b"\xff\xfea")
    done = run(tmp_path, "dump.json", "half.xml", "gone.json", "--json")
    assert done.returncode == 1
    assert [finding["code"] for finding in findings(done)] == ["file-not-text", "file-not-text", "file-unreadable"]


def test_sarif_has_rules_results_places_and_fixes(tmp_path: Path) -> None:
    (tmp_path / "my officers.json").write_text(BROKEN)
    log = json.loads(output(run(tmp_path, "my officers.json", "--format", "sarif")))
    assert log["version"] == "2.1.0"
    one = log["runs"][0]
    results = one["results"]
    assert [rule["id"] for rule in one["tool"]["driver"]["rules"]] == ["comma-last", "comma-missing"]
    assert results[0]["ruleId"] == "comma-missing"
    assert one["tool"]["driver"]["rules"][results[0]["ruleIndex"]]["id"] == "comma-missing"
    place = results[0]["locations"][0]["physicalLocation"]
    assert place["artifactLocation"]["uri"] == "my%20officers.json"
    assert (place["region"]["startLine"], place["region"]["startColumn"]) == (3, 27)
    fix = results[0]["fixes"][0]["artifactChanges"][0]["replacements"][0]
    assert fix["insertedContent"]["text"] == ","
    assert fix["deletedRegion"] == {"startLine": 3, "startColumn": 27, "endLine": 3, "endColumn": 27}


def test_secrets_stay_out_of_every_form_of_a_report(tmp_path: Path) -> None:
    bodies = {
        "a.json": '{"entry_code": "4711-hush" "x": True}\n',
        "b.yaml": "server:\n  password:4711-hush\n  x: 1\n",
        "c.toml": "password = 4711-hush\n",
        "d.ini": '[a]\npassword="4711-hush\n',
        "e.cfg": 'rcon_password "4711-hush\n',
        "f.xml": "<a password=4711-hush>\n</b>\n",
        "g.lua": 'a = { password = "4711-hush }\n',
        "h.sh": '#!/bin/sh\nexec ./s --password "4711-hush\n',
        "i.properties": "entry.code=4711-hush \n",
    }
    for name, body in bodies.items():
        (tmp_path / name).write_text(body)
    for form in ("text", "json", "sarif"):
        done = run(tmp_path, *bodies, "--format", form)
        assert done.returncode == 1
        assert "4711-hush" not in output(done) + done.stderr.decode()


@pytest.mark.parametrize("path", files("bad")[::24], ids=name_of)
def test_the_program_says_what_the_corpus_wants(path: Path, tmp_path: Path) -> None:
    done = run(tmp_path, str(path), "--as", format_of(path), "--json")
    assert [(finding["code"], finding["line"], finding["column"]) for finding in findings(done)] == [
        row[:3] for row in expected(path)
    ]
    worst = {finding["level"] for finding in findings(done)}
    assert done.returncode == (1 if "error" in worst else 0)


def test_a_folder_of_many_files_is_checked_in_order_on_all_cores(tmp_path: Path) -> None:
    for number in range(450):
        body = BROKEN if number % 100 == 7 else "{}\n"
        (tmp_path / f"boat{number:03}.json").write_text(body)
    (tmp_path / ".hidden.json").write_text("{")
    (tmp_path / "notes.doc").write_text("{")
    done = run(tmp_path, ".", "--json")
    assert [finding["file"] for finding in findings(done)] == [
        f"./boat{number:03}.json" for number in (7, 107, 207, 307, 407) for _ in range(2)
    ]
    assert "450 files: 10 errors." in output(run(tmp_path, "."))


def test_fix_mends_a_file_of_no_server_and_shows_the_difference(tmp_path: Path) -> None:
    path = tmp_path / "officers.json"
    path.write_text(BROKEN)
    path.chmod(0o640)
    done = run(tmp_path, "officers.json", "--fix")
    assert done.returncode == 0
    assert path.read_text() == MENDED
    assert path.stat().st_mode & 0o777 == 0o640
    text = output(done)
    assert '\n  -    {"id": "GW-7K3M-Q2XD"}\n' in text
    assert '\n  +    {"id": "GW-7K3M-Q2XD"},\n' in text
    assert "officers.json: fixed." in text
    assert [one.name for one in tmp_path.iterdir()] == ["officers.json"]
    assert output(run(tmp_path, "officers.json", "--fix")) == "officers.json: nothing wrong.\n"


def test_fix_leaves_what_could_change_a_meaning(tmp_path: Path) -> None:
    body = "gusts: yes\nboats: [Gull, Tern\n"
    (tmp_path / "a.yaml").write_text(body)
    done = run(tmp_path, "a.yaml", "--fix")
    assert done.returncode == 1
    assert (tmp_path / "a.yaml").read_text() == body


def test_fix_keeps_encoding_byte_order_mark_and_line_ends(tmp_path: Path) -> None:
    path = tmp_path / "a.json"
    path.write_bytes('{"n": "Möwe",\r\n "b": True}'.encode("utf-16"))
    assert run(tmp_path, "a.json", "--fix").returncode == 0
    assert path.read_bytes() == '{"n": "Möwe",\r\n "b": true}'.encode("utf-16")


def test_fix_of_a_server_goes_onto_the_slate_and_into_force_by_a_round(running: SiteUnderTest) -> None:
    home = running.folder / "regatta"
    (home / "officers.json").write_text(BROKEN)
    out = running.run("check", str(home / "officers.json"), "--fix").stdout
    assert "the repair is on its slate, not in force yet" in out
    assert '  +    {"id": "GW-7K3M-Q2XD"},' in out
    assert (home / "officers.json").read_text() == BROKEN
    assert "officers.json: 2 findings -> 2 fixed" in " ".join(running.ok("slate", "regatta").split())
    running.ok("apply", "regatta", "--yes", "--countdown", "0s")
    assert (home / "officers.json").read_text() == MENDED


def test_fix_of_all_servers_says_where_there_is_nothing_to_mend(regatta: SiteUnderTest) -> None:
    assert "regatta: nothing that can be fixed safely." in regatta.ok("check", "--fix")


def test_a_hook_for_commits_is_shipped() -> None:
    hooks = (Path(__file__).parents[2] / ".pre-commit-hooks.yaml").read_text()
    assert "entry: roundgate check" in hooks
    assert "roundgate check --strict" not in hooks


def test_many_servers_are_checked_in_their_order_on_all_cores(site: SiteUnderTest) -> None:
    """More than one process has: findings come in the order of the servers, and trouble is said as it is with one."""
    names = [f"berth{number:02}" for number in range(20)]
    for name in names:
        site.add(name)
    assert site.ok("check", "@all") == "20 servers: nothing wrong.\n"
    for name in ("berth03", "berth17"):
        (site.folder / name / "officers.json").write_text('{"officers": [1 2]}\n')
    output = site.fails(1, "check", "@all")
    assert 0 < output.index("berth03") < output.index("berth17")
    assert output.count("comma-missing") == 2
    (site.folder / "berth09").rename(site.folder / "elsewhere")
    assert "is not there" in site.fails(1, "check", "@all")
    (site.folder / "elsewhere").rename(site.folder / "berth09")
    (site.folder / "rulebooks").mkdir()
    (site.folder / "rulebooks" / "gullwind.toml").write_text("[rulebook]\nname = 3\n")
    assert "rulebook-value" in site.fails(1, "check", "@all")
