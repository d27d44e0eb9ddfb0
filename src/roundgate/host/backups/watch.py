"""A small process beside a backup: where the backup is killed, it tells the server to save again.

    python -m roundgate.host.backups.watch SITE-FOLDER SERVER

It reads its standard input, which the backup holds open: a word means that the server saves again, an end without one
that the backup has died. What it needs to talk to the server is loaded only then.
"""

from __future__ import annotations

import os
import signal
import sys

from roundgate.host.keeper.interpreter import be_private


def main() -> None:
    """Wait for the backup; resume the server's saving where it ends without a word."""
    be_private()
    for sign in (signal.SIGHUP, signal.SIGINT, signal.SIGTERM):
        signal.signal(sign, signal.SIG_IGN)  # whatever ends the backup must not end its watch too
    if not os.read(0, 64):
        _resume(sys.argv[1], sys.argv[2])


def _resume(folder: str, name: str) -> None:
    from pathlib import Path

    from roundgate.core.notices.model import Notice, NoticeEvent
    from roundgate.host.backups.holding import resume_after_death
    from roundgate.host.errors import Trouble
    from roundgate.host.notices.outbox import tell
    from roundgate.host.servers import Server
    from roundgate.host.site import read_site

    server = Server(read_site(Path(folder)), name, lenient=True)
    with open(f"{server.state}/round-errors.log", "a", encoding="utf-8") as sys.stderr:
        try:
            if not resume_after_death(server):
                return
            message = f"The backup of {name} was killed. The server was asked to save again."
        except Trouble as error:
            message = f"The backup of {name} was killed. {error.what} {error.do}"
        print(message, file=sys.stderr)
        tell(server.site, Notice(NoticeEvent.BACKUP_FAILED, message, name))


if __name__ == "__main__":
    main()
