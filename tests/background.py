"""Commands that go on while a test does something else."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from typing import Any

from conftest import SiteUnderTest, wait_for


class Background:
    """One command of the program, running beside the test."""

    def __init__(self, site: SiteUnderTest, *words: str, **environment: str) -> None:
        self.site = site
        self.process = subprocess.Popen(
            [sys.executable, "-m", "roundgate", *words],
            cwd=site.folder,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            env={**os.environ, "XDG_CONFIG_HOME": str(site.folder / "config"), **environment},
        )

    def end(self) -> tuple[int, str]:
        """Wait for the end; return the exit code and all that was printed."""
        output, _ = self.process.communicate(timeout=90)
        return self.process.returncode, output


def rounds(site: SiteUnderTest) -> list[dict[str, Any]]:
    """Return the rounds so far, the newest first."""
    found: list[dict[str, Any]] = json.loads(site.ok("rounds", "--json"))
    return found


def journal(site: SiteUnderTest, number: int) -> list[tuple[str, str, str]]:
    """Return step, mark and words of each line of a round's journal."""
    found = json.loads(site.ok("rounds", "show", str(number), "--json"))["journal"]
    return [(line["step"], line["mark"], line["message"]) for line in found]


def wait_for_step(site: SiteUnderTest, step: str, mark: str = "begin", words: str = "", kind: str = "") -> int:
    """Wait until the newest round, of a kind where one is given, has come to a step; return its number."""

    def has_come() -> bool:
        newest = rounds(site)
        return (
            bool(newest)
            and kind in ("", newest[0]["kind"])
            and any(
                (one, other) == (step, mark) and words in output
                for one, other, output in journal(site, newest[0]["round"])
            )
        )

    wait_for(has_come)
    return int(rounds(site)[0]["round"])


def status(site: SiteUnderTest, name: str = "regatta") -> dict[str, Any]:
    """Return what ``status`` says of a server."""
    found = json.loads(site.ok("status", name, "--json"))["servers"][0]
    return dict(found)
