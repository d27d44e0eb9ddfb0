"""Completion in real shells, each in a terminal of its own: what a tab puts after the words that were typed."""

from __future__ import annotations

import os
import pty
import select
import shutil
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import SiteUnderTest
from sampling import sampled

WITHIN = 30.0
"""Seconds until a shell must have shown what is waited for."""
SETUPS = {
    "bash": ("--norc --noprofile -i", "PS1='ready> '", 'eval "$(roundgate --show-completion bash)"'),
    "zsh": (
        "-f -i",
        "PS1='ready> '",
        'autoload -U compinit; compinit -u -d $HOME/zdump; eval "$(roundgate --show-completion zsh)"',
    ),
    "fish": (
        "--no-config -i",
        "function fish_prompt; echo -n 'ready> '; end",
        "roundgate --show-completion fish | source",
    ),
}


class Shell:
    """A shell in a pseudo-terminal. What it shows is searched as it comes."""

    def __init__(self, name: str, folder: Path) -> None:
        options, prompt, completion = SETUPS[name]
        self.name = name
        program = shutil.which(name)
        assert program is not None
        self.process, self.terminal = pty.fork()
        if self.process == 0:  # pragma: no cover - it becomes the shell
            os.chdir(folder)
            environment = {
                "PATH": f"{folder / 'bin'}:{os.environ['PATH']}",
                "HOME": str(folder / "home"),
                "TERM": "dumb",
                "LC_ALL": "C.UTF-8",
                "_TYPER_COMPLETE_TEST_DISABLE_SHELL_DETECTION": "1",
            }
            os.execve(program, [program, *options.split()], environment)
        self.shown = ""
        self.type(f"{prompt}\n")
        self.type(f"{completion}\n")
        self.type("echo set''up\n")
        self.until("setup")

    def type(self, keys: str) -> None:
        os.write(self.terminal, keys.encode())

    def until(self, words: str) -> str:
        """Wait until words are shown; return all that was shown up to them."""
        end = time.monotonic() + WITHIN
        while words not in self.shown:
            left = end - time.monotonic()
            assert left > 0, f"{words!r} is not in {self.shown!r}"
            if select.select([self.terminal], [], [], left)[0]:
                self.shown += os.read(self.terminal, 65536).decode("utf-8", "replace")
        before, _, self.shown = self.shown.partition(words)
        return before + words

    def close(self) -> None:
        os.write(self.terminal, b"\x03\x04")
        os.close(self.terminal)
        os.kill(self.process, 9)
        os.waitpid(self.process, 0)


SAMPLE = sampled(sorted(SETUPS), len(SETUPS))


@pytest.fixture(params=SAMPLE)
def shell(request: pytest.FixtureRequest, site: SiteUnderTest) -> Iterator[Shell]:
    if shutil.which(request.param) is None:
        pytest.skip(f"{request.param} is not installed")
    home = site.add("regatta", "tide.mode=spring\n")
    (home / "mods" / "lanterns").mkdir(parents=True)
    for folder in ("bin", "home"):
        (site.folder / folder).mkdir()
    program = site.folder / "bin" / "roundgate"
    program.write_text(f'#!/bin/sh\nexec "{sys.executable}" -m roundgate "$@"\n')
    program.chmod(0o755)
    found = Shell(request.param, site.folder)
    yield found
    found.close()


TYPED = [
    ("roundgate exp", "lain"),
    ("roundgate show rega", "tta"),
    ("roundgate show regatta welc", "ome"),
    ("roundgate set regatta tide.mode=stor", "m"),
    ("roundgate set regatta horn.every=of", "f"),
    ("roundgate add regatta launch.mods lan", "terns"),
    ("roundgate preset use regatta spri", "nt"),
    ("roundgate rou", "nds"),
    ("roundgate ranks imp", "act"),
    ("roundgate ranks why rega", "tta"),
    ("roundgate rounds rega", "tta"),
    ("roundgate compare regatta defa", "ults"),
    ("roundgate rulebook show gull", "wind"),
    ("roundgate edit regatta seaman", "ship.toml"),
]
"""What is typed before the tab, and what the tab puts after it."""


def test_a_tab_completes_what_was_begun(shell: Shell) -> None:
    for typed, completed in TYPED:
        shell.type(f"{typed}\t")
        shell.until(typed.rpartition(" ")[2].rpartition("=")[2] + completed)
        shell.type("\x15echo cl''ear\n")  # the line is given up
        shell.until("clear")


def test_right_behind_the_sign_all_values_are_shown(shell: Shell) -> None:
    if shell.name == "fish":
        pytest.skip("on a plain terminal fish draws no list")
    shell.type("roundgate set regatta tide.mode=\t\t")
    shell.until("maelstrom")


def test_an_entry_of_a_list_with_a_blank_in_it_is_completed(shell: Shell) -> None:
    shell.type("roundgate remove regatta courses 'The Nar\t")
    shell.until("The Narrows")


def test_without_a_site_and_with_a_broken_one_nothing_is_said(shell: Shell) -> None:
    shell.type("echo '[server' > roundgate.toml\n")
    shell.type("roundgate show rega\t")
    shell.type("\x15echo ali''ve\n")
    output = shell.until("alive")
    assert "Traceback" not in output and "rror" not in output.partition("show rega")[2]
