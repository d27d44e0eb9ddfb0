"""Handing over what waits for a recipient, in order, with a few tries each."""

from __future__ import annotations

import time

from filelock import FileLock, Timeout

from roundgate.core.notices.model import Notice
from roundgate.core.values.units import parse_seconds
from roundgate.host.notices.outbox import Delivery, folder_of, note, waiting
from roundgate.host.notices.sending import NotTaken, send
from roundgate.host.notices.tables import Mail, Webhook
from roundgate.host.site import Site

_TOO_OLD = 6 * 3600.0
"""Seconds after which a notice that waits, such as through a power cut, would only confuse."""
_LONGEST_PAUSE = 300.0


def deliver_all(site: Site, name: str) -> None:
    """Hand over all that waits for a recipient, unless another process is doing so, which then takes this too."""
    lock = FileLock(str(folder_of(site, name) / ".lock"), timeout=0, thread_local=False)
    while waiting(site, name):  # again, for what came between the last look and the release of the lock
        try:
            with lock:
                _deliver_waiting(site, name)
        except Timeout:
            return


def _deliver_waiting(site: Site, name: str) -> None:
    while found := waiting(site, name):
        for path, notice in found:
            if notice is not None:
                note(site, deliver(site, name, notice))
            # After the try: a crash in between sends it twice, and never loses it.
            path.unlink(missing_ok=True)


def deliver(site: Site, name: str, notice: Notice) -> Delivery:
    """Hand one notice over, with as many tries as its recipient is given; return what became of it."""
    recipient = site.file.notices.recipients[name]
    began = time.time()
    if notice.at < began - _TOO_OLD:
        return Delivery(began, name, str(notice.event), notice.server, done=False, detail="too old to be of use")
    detail, done = _tried(site, recipient, notice)
    return Delivery(time.time(), name, str(notice.event), notice.server, done=done, detail=detail)


def _tried(site: Site, recipient: Webhook | Mail, notice: Notice) -> tuple[str, bool]:
    pause, why = float(parse_seconds(recipient.pause)), ""
    for number in range(1, recipient.tries + 1):
        try:
            send(site, recipient, notice)
        except NotTaken as error:
            why = error.why
            if not error.again:
                return why, False
        else:
            return ("" if number == 1 else f"taken at try {number}"), True
        if number < recipient.tries:
            time.sleep(min(pause, _LONGEST_PAUSE))
            pause *= 3
    return f"{why}; tried {recipient.tries} times" if recipient.tries > 1 else why, False
