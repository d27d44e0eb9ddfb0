"""The keeper's process, and the guard that starts another one where it dies.

    python -m roundgate.host.keeper STATE-FOLDER [READY-HANDLE]

The guard does nothing but wait: it stays small, and nothing but a signal to itself ends it. The keeper begins by
listening, then closes READY-HANDLE, and ends when it is told to leave.
"""

from __future__ import annotations

import os
import signal
import sys
import time

from roundgate.host.keeper.interpreter import be_private

_PAUSES = (0.0, 0.2, 1.0, 5.0, 15.0)
"""Seconds before a new keeper is started, for one death after another; the last one counts for all that follow."""
_STEADY = 60.0
"""Seconds that a keeper must have lived for earlier deaths to be forgotten."""


def main() -> None:
    """Guard a keeper of the state folder that the arguments name."""
    umask = be_private()
    os.chdir("/")
    for sign in (signal.SIGHUP, signal.SIGINT):
        signal.signal(sign, signal.SIG_IGN)
    ready = int(sys.argv[2]) if len(sys.argv) > 2 else None
    deaths = 0
    while True:
        began = time.monotonic()
        # Forked before the keeper's modules are loaded: the guard stays small.
        process = os.fork()
        if process == 0:
            _keep(umask, ready)
        if ready is not None:
            os.close(ready)
            ready = None
        _, status = os.waitpid(process, 0)
        if os.WIFEXITED(status) and os.WEXITSTATUS(status) in (0, 1):
            return
        deaths = deaths + 1 if time.monotonic() - began < _STEADY else 0
        time.sleep(_PAUSES[min(deaths, len(_PAUSES) - 1)])


def _keep(umask: int, ready: int | None) -> None:
    """Be the keeper, and end with it: 0 when told to leave, 1 where there is another one, 2 for a mistake of ours."""
    code = 2
    try:
        from roundgate.host.keeper.loop import keep

        code = keep(sys.argv[1], umask, ready)
    except BaseException:  # noqa: BLE001 - the guard starts a new keeper, which takes the server over
        import traceback

        with open(os.path.join(sys.argv[1], "keeper-errors.log"), "a", encoding="utf-8") as file:
            traceback.print_exc(file=file)
    finally:
        # Not sys.exit: the guard's own clean-up code must not run in its child.
        os._exit(code)


if __name__ == "__main__":
    main()
