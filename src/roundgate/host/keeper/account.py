"""The user that a server runs as, where that is not the keeper's own."""

from __future__ import annotations

import os
import pwd
from collections.abc import Mapping
from types import MappingProxyType
from typing import NamedTuple


class Account(NamedTuple):
    """What a process of another user gets; None and nothing where it keeps what the keeper has."""

    user: int | None = None
    group: int | None = None
    groups: list[int] | None = None
    environment: Mapping[str, str] = MappingProxyType({})


def account_of(name: str) -> Account:
    """Return the account of a user; nothing changes where that is who runs the keeper. Raises ValueError.

    Only root can start a process of somebody else's.
    """
    if not name:
        return Account()
    try:
        entry = pwd.getpwnam(name)
    except KeyError:
        raise ValueError(f"this machine has no user {name}") from None
    home = {"HOME": entry.pw_dir, "USER": name, "LOGNAME": name}
    if entry.pw_uid == os.geteuid():
        return Account(environment=home)
    if os.geteuid():
        me = pwd.getpwuid(os.geteuid()).pw_name
        raise ValueError(f"it is to run as {name}, and only root can do that; Round Gate runs as {me}")
    return Account(entry.pw_uid, entry.pw_gid, os.getgrouplist(name, entry.pw_gid), home)
