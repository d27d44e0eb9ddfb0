"""Who sits at the keyboard."""

from __future__ import annotations

import os
import pwd


def who() -> str:
    """Name the person, as the system knows them."""
    try:
        return pwd.getpwuid(os.getuid()).pw_name
    except KeyError:
        return f"user {os.getuid()}"
