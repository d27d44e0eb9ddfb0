"""A backup put back into its server's folder by a round: unpacked beside its place, swapped in, or swapped back.

Each unit is a folder or a file that is replaced as a whole. What was there is moved aside by renames alone, so a crash
at any instant leaves each unit wholly old or wholly new, and the plan on disk tells which way back there is.
"""

from __future__ import annotations

import errno
from collections.abc import Sequence

from msgspec import DecodeError, Struct, json

from roundgate.core.next_step import typed_command
from roundgate.core.rounds import RoundOutcome, Step
from roundgate.host.backups.aside import aside_of, swap_home
from roundgate.host.backups.manifest import Manifest, backup_numbered
from roundgate.host.errors import Trouble, WrongUsage
from roundgate.host.files import sync_folder, write_durably
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.options import RoundAborted
from roundgate.host.servers import Server

_PLAN = "restore.json"


class SwapPlan(Struct, frozen=True):
    """What a round swaps: each unit by its path in the server's folder, and whether there was one before."""

    backup: int
    what: str
    units: tuple[tuple[str, bool], ...]


def units_of(server: Server, manifest: Manifest, only: Sequence[str]) -> list[str]:
    """Return what a restore replaces as a whole: the files that were asked for, folders of worlds, or all at the top.

    Raises WrongUsage where the backup has none of it, Trouble where a link is in the way.
    """
    paths = [member.path for member in manifest.members] + [path for path, _ in manifest.links]
    if only:
        wanted = [word.rstrip("/") for word in only]
    elif manifest.what == "worlds":
        wanted = [root.rstrip("/") for root in server.book.server.worlds]
    else:
        wanted = list(dict.fromkeys(path.partition("/")[0] for path in paths))
    found = [unit for unit in dict.fromkeys(wanted) if any(_is_in(path, unit) for path in paths)]
    missing = [unit for unit in wanted if unit not in found]
    if only and missing:
        raise WrongUsage(
            f"Backup {manifest.number} has no '{missing[0]}'.", typed_command("backup check", "", manifest.number)
        )
    outermost = [unit for unit in found if not any(_is_in(unit, other) and unit != other for other in found)]
    for unit in outermost:
        for parent in (server.folder / unit).parents:
            if parent != server.folder and parent.is_relative_to(server.folder) and parent.is_symlink():
                raise Trouble(
                    f"{unit} is behind the symbolic link {parent}, so it is not replaced.", "Restore it with --to."
                )
    return outermost


def _is_in(path: str, unit: str) -> bool:
    return path == unit or path.startswith(f"{unit}/")


def unpack(round: Round) -> None:
    """Unpack the backup beside its place, while the server still runs. Raises RoundAborted; then nothing is left."""
    try:
        plan = _unpacked(round)
    except (Trouble, OSError) as error:
        swap_home(round.server).clear(aside_of(round.server, round.number))
        why = error.what if isinstance(error, Trouble) else f"{error.strerror or error}."
        message = f"The backup cannot be unpacked: {why} Nothing was changed."
        raise RoundAborted(RoundOutcome.REFUSED, message, getattr(error, "do", "")) from error
    write_durably(str(round.make_folder() / _PLAN), json.encode(plan))
    sync_folder(str(round.folder))
    names = ", ".join(unit for unit, _ in plan.units)
    round.journal.note(Step.GATHER, f"backup {plan.backup} is unpacked: {names}")


def _unpacked(round: Round) -> SwapPlan:
    from roundgate.host.backups.trees import must_have_room
    from roundgate.host.backups.unpacking import restore_to  # no other round needs its archives

    server = round.server
    manifest = backup_numbered(server.site, round.options.target)
    if manifest.server != server.name:
        raise Trouble(f"Backup {manifest.number} is one of {manifest.server}.", typed_command("backup list"))
    units = units_of(server, manifest, round.options.only)
    must_have_room(server.folder, manifest.size)
    home = swap_home(server)
    home.fill(
        f"{aside_of(round.server, round.number)}/new", lambda folder: restore_to(server.site, manifest, folder, units)
    )
    had = tuple((unit, home.is_there(unit)) for unit in units)
    return SwapPlan(manifest.number, manifest.what, had)


def swap(round: Round) -> None:
    """Put what was unpacked in the place of what is there. Raises OSError; then the round goes back."""
    home, aside = swap_home(round.server), aside_of(round.server, round.number)
    try:
        for unit, _ in _plan(round).units:
            if home.is_there(unit):
                home.move(unit, f"{aside}/old/{unit}")
            home.move(f"{aside}/new/{unit}", unit)
    except Trouble as error:  # a part may have been swapped: it is no refusal any more
        raise OSError(errno.ELOOP, error.what) from error


def swap_back(round: Round) -> None:
    """Put back what was there, from any point at which a swap may have been interrupted. Raises OSError or Trouble."""
    home, aside = swap_home(round.server), aside_of(round.server, round.number)
    if not (round.folder / _PLAN).exists():
        return
    # In reverse, so that each unit goes back through the states that it came by.
    for unit, had in reversed(_plan(round).units):
        old, new = f"{aside}/old/{unit}", f"{aside}/new/{unit}"
        was_moved = home.is_there(old) if had else not home.is_there(new)
        if was_moved and home.is_there(unit):
            home.move(unit, new)
        if was_moved and had:
            home.move(old, unit)


def _plan(round: Round) -> SwapPlan:
    try:
        return json.decode((round.folder / _PLAN).read_bytes(), type=SwapPlan)
    except DecodeError as error:
        raise OSError(f"{round.folder / _PLAN} is damaged") from error


def settle(round: Round, *, is_in_force: bool) -> str:
    """Clear up at the end of a round: what was replaced becomes a backup of its own. Give a remark, or nothing."""
    home, aside = swap_home(round.server), aside_of(round.server, round.number)
    try:
        if not home.is_there(aside):
            return ""
        remark = _keep_replaced(round, f"{aside}/old") if is_in_force and home.is_there(f"{aside}/old") else ""
    except (Trouble, OSError) as error:
        why = getattr(error, "what", None) or str(error)
        return f"What was there before is in {aside}/old; it could not be made a backup: {why}"
    home.clear(aside)
    return remark


def _keep_replaced(round: Round, old: str) -> str:
    """Make a backup of what was replaced. Raises Trouble, OSError."""
    from roundgate.host.backups.making import make_backup, turn  # as in _unpacked

    round.journal.waits(Step.PROVE, "what was there before becomes a backup", None)
    with turn(round.server.site):
        made, _ = make_backup(round.server, _plan(round).what, home=old, prunes=False)
    return f"what was there before is backup {made.number}"
