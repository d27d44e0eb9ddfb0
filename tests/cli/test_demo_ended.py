"""The demo, and a command that has hardly begun, ended from outside."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from pathlib import Path

import psutil
import pytest

from conftest import wait_for, words_of


def at_work(folder: Path) -> list[psutil.Process]:
    found = []
    for process in psutil.process_iter():
        try:
            if str(folder) in " ".join([*words_of(process), process.cwd()]):
                found.append(process)
        except psutil.Error:
            continue
    return found


@pytest.mark.parametrize(
    ("sign", "more"), [(signal.SIGTERM, []), (signal.SIGHUP, ["--keep"]), (signal.SIGTERM, ["--rented", "--keep"])]
)
def test_a_demo_that_is_ended_leaves_nothing_running(tmp_path: Path, sign: signal.Signals, more: list[str]) -> None:
    folder = tmp_path / "demo"
    with subprocess.Popen(
        [sys.executable, "-m", "roundgate", "demo", str(folder), *more],
        cwd=tmp_path,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        start_new_session=True,
        preexec_fn=lambda: signal.signal(signal.SIGHUP, signal.SIG_DFL),
    ) as demo:
        begun = ".roundgate/servers/*/keeper.sock", "rented-machine/files/regatta/logs/latest.log"
        wait_for(lambda: any(map(list, map(folder.glob, begun))) or demo.poll() is not None, 60)
        demo.send_signal(sign)
        _, told = demo.communicate(timeout=60)
    assert demo.returncode == 128 + sign and b"Traceback" not in told
    wait_for(lambda: not at_work(folder), 10)


def test_ctrl_c_while_the_program_loads_prints_no_traceback(tmp_path: Path) -> None:
    """A module that it loads waits to be interrupted, so that the moment is sure."""
    (tmp_path / "modules").mkdir()
    (tmp_path / "modules" / "typer.py").write_text("import os, signal\nos.kill(os.getpid(), signal.SIGINT)\n")
    done = subprocess.run(
        [sys.executable, "-m", "roundgate", "status"],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        env={**os.environ, "PYTHONPATH": str(tmp_path / "modules")},
        check=False,
    )
    assert (done.returncode, done.stdout) == (130, "") and done.stderr.strip() == "Stopped; nothing was done."
