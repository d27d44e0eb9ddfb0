"""``status`` of many servers, worked out on every core: each has the row that it would have by itself."""

from __future__ import annotations

import json
from typing import Any

from conftest import SiteUnderTest


def rows(site: SiteUnderTest, *words: str) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = json.loads(site.ok("status", *words, "--json"))["servers"]
    return found


def test_each_of_many_servers_has_the_row_that_it_has_by_itself(site: SiteUnderTest) -> None:
    for number in range(26):
        site.add(f"mooring{number:02}", f"boat.slots={8 + number % 5}\n")
    site.ok("start", "mooring03,mooring07")
    site.ok("set", "mooring03,mooring11", "race.slots=20")
    (site.folder / "mooring05" / "gullwind.properties").write_bytes(b"\xff\xfe\x00")
    (site.folder / "mooring09" / "gullwind.properties").rename(site.folder / "elsewhere")
    (site.folder / "mooring07" / "courses.txt").write_text("The Narrows\nHarbour Mile\n")
    many = rows(site)
    assert [row["server"] for row in many] == [f"mooring{number:02}" for number in range(26)], "in the site's order"
    for row in many:
        [alone] = rows(site, row["server"])
        for each in (row, alone):
            each.pop("since"), [remark.pop("text") for remark in each["remarks"]]
        assert row == alone
    states = {row["server"]: row["state"] for row in many}
    assert [name for name, state in states.items() if state == "up"] == ["mooring03", "mooring07"]
    assert [row["server"] for row in many if row["on-slate"]] == ["mooring03", "mooring11"]
    output = site.ok("status")
    assert len([line for line in output.splitlines() if line.startswith("mooring")]) == 26
