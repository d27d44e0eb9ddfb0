"""What the program prints with ``--json`` is exactly what its types, and so the documents, say."""

from __future__ import annotations

import json

import msgspec
from tests.conftest import SiteUnderTest

from roundgate.cli.screen.outputs import OUTPUTS


def printed(site: SiteUnderTest, command: str, *words: str, code: int = 0, kind: str = "") -> object:
    """Run a command with --json; see that it prints all fields of its type and no others; return what it prints."""
    done = site.run(*command.split(), *words, "--json")
    assert done.returncode == code, done.stdout + done.stderr
    raw = json.loads(done.stdout)
    typed = msgspec.convert(raw, OUTPUTS[kind or command])
    assert json.loads(msgspec.json.encode(typed)) == raw, command
    return raw


def test_every_command_prints_what_its_type_says(site: SiteUnderTest) -> None:
    home = site.add("regatta", "boat.slots=16\ngust.limit=20\n")
    site.add("quay")
    (home / "weather.ini").write_text("[gusts]\nstrength=1.0\n")
    site.ok("start", "regatta")
    site.ok("set", "regatta", "race.slots=24", "weather.ini:gusts.strength=2.0")
    site.ok("send", "regatta", "value gust.limit 30")
    printed(site, "status")
    printed(site, "show", "regatta", "--all")
    printed(site, "explain", "regatta", "race.slots", "courses", "weather.ini:gusts.strength")
    printed(site, "explain", "value-range")
    printed(site, "slate", "@all")
    assert printed(site, "rulebook list") == ["gullwind", "lanterns", "minetest", "openttd", "teeworlds"]
    site.ok("apply", "regatta", "--yes")
    printed(site, "rounds list")
    shown = printed(site, "rounds show", "2")
    assert isinstance(shown, dict)
    facts = [line["fact"]["fact"] for line in shown["journal"] if line["mark"] == "fact"]
    assert facts[0] == "port-owned" and "value-in-force" in facts and facts[-1] == "stayed-up"
    (home / "ranks.yml").write_text("ranks:\n  mate:\n    may: [a\n")
    printed(site, "check", "regatta", code=1)
    (home / "ranks.yml").unlink()
    (home / "guestlist.txt").write_text("GW-7K3M-Q2XD\n")
    printed(site, "show", "regatta", "guests", "officers")
    printed(site, "explain", "regatta", "officers")
    site.ok("people", "add", "Wren", "GW-7K3M-Q2XD")
    printed(site, "people list")
    site.ok("send", "regatta", "muster 2")
    printed(site, "people seen", "regatta")
    printed(site, "people show", "Wren")
    printed(site, "roster show")
    printed(site, "roster show", "regatta", "guests", kind="roster show SERVER ROSTER")
    printed(site, "check", str(home / "ranks.yml"), code=1)


def test_several_names_make_one_document(regatta: SiteUnderTest) -> None:
    found = json.loads(regatta.ok("explain", "race.slots", "idle.drop", "--json"))
    assert [(item["what"], item["name"]) for item in found] == [("setting", "race.slots"), ("setting", "idle.drop")]
