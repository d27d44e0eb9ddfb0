"""Opens the site of a call. A command's module is loaded for its options alone by ``--help`` and by every tab in the
shell; what it works with is only loaded here, when it runs."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from roundgate.cli.call import CallContext


def open_call(*, quiet: bool = False) -> CallContext:
    """Find the site of this call and open it.

    Says on standard error where a round was interrupted, unless ``quiet``. Raises NoSite.
    """
    from roundgate.cli.call import CallContext

    return CallContext(quiet=quiet)
