"""Who sits at the keyboard."""

from __future__ import annotations

import os

from roundgate.host.ownership import name_of_user

_USER = os.getuid()
"""The user who called; root may go on as the owner of the site."""


def who() -> str:
    """Name the person, as the system knows them."""
    return name_of_user(_USER)
