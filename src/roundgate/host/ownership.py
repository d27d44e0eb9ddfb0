"""Whose a site is: its state folder is trusted only where it belongs to the user that works with it, and is private.

What lies there says which commands are run. Whoever could write to it could have them run by somebody else.
"""

from __future__ import annotations

import os
import pwd
import stat
import sys
from pathlib import Path

from roundgate.host.errors import Trouble


def claim(site: Path, state: Path) -> None:
    """See that the state folder is this user's own and private, before anything in it is believed.

    Root works with a site as the user to whom it belongs: what root makes would lock that user out, and what that
    user wrote must not run as root. Raises Trouble for somebody else's folder.
    """
    me = os.geteuid()
    found = _stat(state)
    owner = site.stat().st_uid if found is None else found.st_uid
    if found is not None and not stat.S_ISDIR(found.st_mode):
        raise Trouble(f"{state} was not made by Round Gate, so nothing in it is trusted.", f"ls -ld {state}")
    if owner == me:
        if found is not None and stat.S_IMODE(found.st_mode) & 0o077:
            _make_private(state, found)
        return
    if me == 0 and owner == site.stat().st_uid:
        if not _could_run_as(owner):
            name = name_of_user(owner)
            raise Trouble(
                f"The site {site} belongs to {name}, who cannot read where this Round Gate is installed.",
                f"Install it for {name} too, then: sudo -u {name} roundgate ...",
            )
        _become(owner)
        return
    if found is None:  # a site of somebody else's whose folder we may write to
        return
    name = name_of_user(owner)
    raise Trouble(
        f"The site {site} belongs to {name}: only {name} can use what Round Gate keeps in {state}.",
        f"sudo -u {name} roundgate ...",
    )


def _stat(path: Path) -> os.stat_result | None:
    try:
        return path.lstat()
    except FileNotFoundError:
        return None
    except OSError as error:
        raise Trouble(
            f"{path} cannot be inspected: {(error.strerror or str(error)).lower()}.", "ls -ld on it"
        ) from error


def _make_private(state: Path, found: os.stat_result) -> None:
    """Close a folder that others could write to or read. Where they could write, its configuration may be theirs."""
    if stat.S_IMODE(found.st_mode) & 0o022:
        raise Trouble(
            f"Others can write to {state}, so nothing in it is trusted.",
            f"Check what is in it, then: chmod 700 {state}",
        )
    state.chmod(0o700)


def _become(user: int) -> None:
    """Go on as another user, for good."""
    entry = pwd.getpwuid(user) if _is_known(user) else None
    group = entry.pw_gid if entry else user
    os.initgroups(entry.pw_name, group) if entry else os.setgroups([])
    os.setresgid(group, group, group)
    os.setresuid(user, user, user)
    if entry:
        os.environ["HOME"] = entry.pw_dir


def _could_run_as(user: int) -> bool:
    """Return whether another user could run this program; asked in a process of its own, for there is no way back."""
    process = os.fork()
    if process == 0:
        try:
            _become(user)
            os._exit(0 if os.access(__file__, os.R_OK) and os.access(sys.executable, os.X_OK) else 1)
        finally:
            os._exit(1)
    _, status = os.waitpid(process, 0)
    return os.waitstatus_to_exitcode(status) == 0


def _is_known(user: int) -> bool:
    try:
        pwd.getpwuid(user)
    except KeyError:
        return False
    return True


def name_of_user(user: int) -> str:
    """Name a user, as the system knows them."""
    return pwd.getpwuid(user).pw_name if _is_known(user) else f"user {user}"
