"""The process that sends notices.

python -m roundgate.host.notices send SITE-FOLDER
python -m roundgate.host.notices life SITE-FOLDER SERVER EVENT EXIT-CODE back|down

The first sends what waits. The second is started by a keeper, which knows no more than what happened.
"""

from __future__ import annotations

import os
import signal
import sys
import threading
from pathlib import Path

from roundgate.core.notices.model import Notice, NoticeEvent
from roundgate.host.drivers.protocol import describe_exit
from roundgate.host.keeper.interpreter import be_private
from roundgate.host.notices.delivering import deliver_all
from roundgate.host.notices.outbox import put, recipients_of
from roundgate.host.site import Site, read_site


def main() -> None:
    """Do what the arguments say."""
    verb, folder, *more = sys.argv[1:]
    be_private()
    for sign in (signal.SIGINT, signal.SIGHUP, signal.SIGPIPE):
        signal.signal(sign, signal.SIG_IGN)
    site = read_site(Path(folder))
    if verb == "life":
        notice = _life(*more)
        if not put(site, notice, recipients_of(site, notice)):
            return
    _deliver(site)


def _life(server: str, what: str, code: str, comes_back: str) -> Notice:
    ended = describe_exit(int(code) if code.lstrip("-").isdigit() else None)
    back = "It is started again." if comes_back == "back" else "It is down."
    event, text = {
        "crash": (NoticeEvent.CRASHED, f"{server} crashed: it ended{ended}. {back}"),
        "late-stop": (NoticeEvent.CRASHED, f"{server} ended{ended}, long after it was asked to stop. {back}"),
        "gave-up": (NoticeEvent.GAVE_UP, f"{server} crashed too often and is down. See roundgate log {server}."),
    }.get(what, (NoticeEvent.UP_AGAIN, f"{server} is up again after it had crashed."))
    return Notice(event, text, server)


def _deliver(site: Site) -> None:
    """Send to every recipient at once: one that hangs keeps no other waiting."""
    threads = [threading.Thread(target=deliver_all, args=(site, name)) for name in site.file.notices.recipients]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    sys.stdout.flush()
    os._exit(0)  # a try that hangs must not keep the process


if __name__ == "__main__":
    main()
