"""Backups: ``backup list``, ``check``, ``make`` and ``restore``."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from roundgate.cli.apply import Countdown, Reason, Yes
from roundgate.cli.complete import after_server, complete_server
from roundgate.cli.opening import open_call
from roundgate.cli.screen.output import echo, echo_json, echo_table, is_terminal, plain, warn
from roundgate.core.next_step import typed_command
from roundgate.core.rounds import RoundKind
from roundgate.core.values.units import format_ahead, format_elapsed
from roundgate.host.errors import Trouble, WrongUsage
from roundgate.host.rounds.options import Options

if TYPE_CHECKING:
    from collections.abc import Callable

    from roundgate.cli.call import CallContext
    from roundgate.host.backups.manifest import Manifest

_READ = 3
"""How often each byte is read: for its digest, into the archive, and out of it again."""


def make(
    server: Annotated[
        str | None, typer.Argument(metavar="[SERVER]", help="Which servers.", autocompletion=complete_server)
    ] = None,
    whole: Annotated[bool, typer.Option("--whole", help="The whole folder, not only the worlds.")] = False,
    as_zip: Annotated[bool, typer.Option("--zip", help="A .zip in place of a .tar.zst.")] = False,
    as_it_runs: Annotated[
        bool, typer.Option("--as-it-runs", help="Back up a running server even if it cannot pause its saving.")
    ] = False,
) -> None:
    """Save a server's worlds, or its whole folder, and verify the archive by reading it again.

    A running server pauses its saving meanwhile, where its rulebook says how.
    """
    context = open_call()
    for opened in context.servers(server):
        _make(
            context,
            opened.name,
            "whole" if whole else "worlds",
            "zip" if as_zip else "tar.zst",
            as_it_runs=as_it_runs,
        )


def _make(context: CallContext, name: str, what: str, kind: str, *, as_it_runs: bool) -> None:
    from roundgate.host.backups.holding import held_still
    from roundgate.host.backups.making import make_backup, size_of, turn
    from roundgate.host.backups.manifest import archive_of

    server = context.opened(name).server
    began = time.monotonic()
    with (
        turn(context.site, lambda: warn("Another backup is being made; this one waits for it.")),
        held_still(server, despite=as_it_runs) as held,
    ):
        if not held:
            warn(f"warning  {name} runs and goes on saving: its files may not fit together.")
        size = size_of(server, what) if is_terminal() else 0
        told, incoming = _progress(f"{name}: saving", _READ * size), _progress(f"{name}: fetching", size)
        manifest, gone = make_backup(server, what, kind, held=held, told=told, incoming=incoming)
    archive = archive_of(context.site, manifest)
    took = format_elapsed(time.monotonic() - began)
    packed = _size(archive.stat().st_size)
    echo(f"Backup {manifest.number} of {name}: {_files(manifest)}, {_size(manifest.size)} in {packed}, in {took}")
    echo("  verified by reading it again")
    for path in manifest.left_out:
        echo(f"  left out: {plain(path)}")
    if gone:
        echo(f"  deleted as the site file says: backup {', '.join(map(str, gone))}")
    echo(f"  {archive}")


def _files(manifest: Manifest) -> str:
    many = len(manifest.members)
    return f"{many} {'file' if many == 1 else 'files'}"


def _size(size: int) -> str:
    for unit, amount in (("GB", 2**30), ("MB", 2**20), ("kB", 2**10)):
        if size >= amount:
            return f"{size / amount:.1f} {unit}"
    return f"{size} bytes"


def _progress(what: str, whole: int = 0) -> Callable[[int], None] | None:
    """Show at a terminal how much is done, how fast, and how long it will take where ``whole``, in bytes, is known."""
    if not is_terminal():
        return None
    began, done, last = 0.0, 0, 0.0

    def told(more: int) -> None:
        nonlocal began, done, last
        now = time.monotonic()
        began = began or now
        done += more
        if now - last > 0.2:
            last = now
            rate = done / max(now - began, 0.001)
            left = f", {format_ahead((whole - done) / rate)} left" if whole > done and rate else ""
            print(f"\r  {what}: {_size(done)} read, {_size(int(rate))}/s{left}   ", end="", flush=True)

    return told


def check(
    number: Annotated[int, typer.Argument(min=1, max=10**9, metavar="NUMBER", help="Which backup; see 'backup list'.")],
) -> None:
    """Verify a backup by reading all of it again. The exit code is 1 where it is damaged."""
    from roundgate.host.backups.archives import verify
    from roundgate.host.backups.manifest import archive_of, backup_numbered

    context = open_call()
    manifest = backup_numbered(context.site, number)
    path = archive_of(context.site, manifest)
    if not path.is_file():
        raise Trouble(f"The archive of backup {number} is not there: {path}.", typed_command("backup list"))
    wrong = verify(path, manifest, _progress("reading", manifest.size))
    for mistake in wrong:
        echo(f"  {plain(mistake)}")
    if wrong:
        echo(f"Backup {number} is damaged: {len(wrong)} of {_files(manifest)}.")
        raise typer.Exit(1)
    echo(f"Backup {number} of {manifest.server} is intact: {_files(manifest)}, {_size(manifest.size)}.")


def restore(
    arguments: Annotated[
        list[str],
        after_server("NUMBER [FILE]...", "Which backup, and which files of it; default: all."),
    ],
    to: Annotated[str, typer.Option("--to", metavar="FOLDER", help="Into this new folder, not the server's.")] = "",
    countdown: Countdown = "0s",
    reason: Reason = "",
    yes: Yes = False,
) -> None:
    """Restore a backup, or some of its files, by a round: the server stops, and starts again.

    What was there before becomes a backup. With --to the server is left alone.
    """
    from roundgate.cli.rounding import seconds
    from roundgate.host.backups.manifest import backup_numbered
    from roundgate.host.backups.unpacking import restore_to

    context = open_call()
    word, given = context.after_server("backup restore", arguments, "NUMBER", "[FILE]...")
    if not given[0].isdecimal():
        raise WrongUsage(f"'{given[0]}' is not the number of a backup.", typed_command("backup list"))
    number, only = int(given[0]), given[1:]
    manifest = backup_numbered(context.site, number)
    if word is not None and manifest.server not in [opened.name for opened in context.servers(word)]:
        raise WrongUsage(
            f"Backup {number} is one of {manifest.server}, not of {word}.", typed_command("backup list", "", word)
        )
    if not to:
        how = Options(
            kind=RoundKind.RESTORE, countdown=seconds(countdown), reason=reason, target=number, only=tuple(only)
        )
        code = _restore_in_place(context, manifest, how, yes=yes)
        if code:
            raise typer.Exit(code)
        return
    folder = Path(to).absolute()
    came = restore_to(context.site, manifest, folder, only, _progress("restoring", manifest.size))
    echo(f"Backup {number} of {manifest.server}: {len(came)} files, each compared with its digest, are in {folder}")


def _restore_in_place(context: CallContext, manifest: Manifest, options: Options, *, yes: bool) -> int:
    """Describe what is replaced, ask, and have a round do it. Give the exit code."""
    from roundgate.cli.rounding import agreed, run_round
    from roundgate.host.backups.aside import swap_home
    from roundgate.host.backups.in_place import units_of
    from roundgate.host.rounds.locking import refuse_broken_off

    server = context.opened(manifest.server).server
    refuse_broken_off(server, context.store)
    made = time.strftime("%Y-%m-%d %H:%M", time.localtime(manifest.made))
    echo(f"Backup {manifest.number} of {server.name}, made {made}: {_files(manifest)}, {_size(manifest.size)}")
    home = swap_home(server)
    for unit in units_of(server, manifest, options.only):
        there = "replaces what is there" if home.is_there(unit) else "is not there now"
        echo(f"  {plain(unit)}  {there}")
    echo("  What is replaced is kept as another backup.")
    if not agreed(f"Put this back into {server.name}?", yes=yes):
        return 1
    return run_round(context, server, options)


def list_backups(
    server: Annotated[
        str | None,
        typer.Argument(metavar="[SERVER]", help="Which servers; default: all.", autocompletion=complete_server),
    ] = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print JSON.")] = False,
) -> None:
    """List the backups, the newest first."""
    from roundgate.cli.screen.outputs import BackupOutput
    from roundgate.host.backups.manifest import all_backups, archive_of

    context = open_call()
    names = {chosen.name for chosen in context.servers(server)} if server else set()
    found = [manifest for manifest in all_backups(context.site) if not names or manifest.server in names]
    rows = []
    for backup in found:
        path = archive_of(context.site, backup)
        rows.append((backup, path, path.stat().st_size if path.is_file() else None))
    if as_json:
        output = []
        for backup, path, packed in rows:
            many = len(backup.members)
            output.append(
                BackupOutput(
                    backup.number,
                    backup.server,
                    backup.made,
                    backup.what,
                    many,
                    backup.size,
                    packed,
                    str(path),
                    backup.held,
                )
            )
        echo_json(output)
        return
    if not rows:
        echo("There are no backups.")
        echo("  to make one of each server: roundgate backup make @all")
        return
    echo_table(
        ("backup", "server", "made", "what", "files", "size", "packed", ""),
        [
            (
                str(manifest.number),
                manifest.server,
                time.strftime("%Y-%m-%d %H:%M", time.localtime(manifest.made)),
                manifest.what,
                str(len(manifest.members)),
                _size(manifest.size),
                "missing" if packed is None else _size(packed),
                "" if manifest.held else "of a running server",
            )
            for manifest, _, packed in rows
        ],
    )
