"""Notices by webhook and mail: ``notices list`` and ``test``."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from typing import TYPE_CHECKING, Annotated

import typer

from roundgate.cli.opening import open_call
from roundgate.cli.screen.output import echo, echo_json, echo_table
from roundgate.host.errors import UnknownName, WrongUsage

if TYPE_CHECKING:
    from roundgate.cli.screen.outputs import DeliveryOutput, RecipientOutput
    from roundgate.host.notices.outbox import Delivery

_EXAMPLE = """  [notices.webhook.club]
  url = "https://hooks.club.example/{secret.hook}"
  on = ["going-down", "up-again", "crashed"]"""


Json = Annotated[bool, typer.Option("--json", help="Print JSON.")]


def listed(as_json: Json = False) -> None:
    """List who is notified when a server goes down, comes up or crashes, and whether the last notice was delivered.

    A notice that is not delivered is tried again, and never holds up a round.
    """
    from roundgate.cli.screen.outputs import RecipientOutput
    from roundgate.host.notices.outbox import deliveries, waiting
    from roundgate.host.notices.sending import host_of
    from roundgate.host.notices.tables import Mail

    site = open_call().site
    last = {delivery.to: delivery for delivery in deliveries(site)}
    rows = [
        RecipientOutput(
            name,
            "mail" if isinstance(recipient, Mail) else "webhook",
            host_of(recipient),
            recipient.on,
            recipient.servers,
            len(waiting(site, name)),
            _output(last[name]) if name in last else None,
        )
        for name, recipient in site.file.notices.recipients.items()
    ]
    if as_json:
        echo_json(rows)
        return
    if not rows:
        echo(f"Nobody is notified yet. In roundgate.toml, for example:\n{_EXAMPLE}")
        return
    table = [
        (
            row.name,
            f"{row.kind}, {row.host}",
            ", ".join(row.on) or "all",
            ", ".join(row.servers) or "all",
            str(row.waiting) if row.waiting else "",
            _describe_last(row),
        )
        for row in rows
    ]
    echo_table(("who", "how", "events", "servers", "waiting", "last"), table)
    echo("Send one to each now: roundgate notices test")


def _output(delivery: Delivery) -> DeliveryOutput:
    from roundgate.cli.screen.outputs import DeliveryOutput

    return DeliveryOutput(delivery.at, delivery.to, delivery.event, delivery.server, delivery.done, delivery.detail)


def _describe_last(row: RecipientOutput) -> str:
    from time import localtime, strftime

    if row.last is None:
        return "nothing sent yet"
    last = row.last
    what = f"{last.event} of {last.server}" if last.server else last.event
    how = "delivered" if last.done else "NOT DELIVERED"
    return f"{strftime('%Y-%m-%d %H:%M', localtime(last.at))} {what}: {how}{f' ({last.detail})' if last.detail else ''}"


def test(
    recipients: Annotated[
        list[str] | None, typer.Argument(metavar="[RECIPIENT]...", help="Of [notices]; default: all.")
    ] = None,
    as_json: Json = False,
) -> None:
    """Send a test to some recipients, or to all. The exit code is 1 where one was not delivered."""
    from roundgate.core.notices.model import Notice, NoticeEvent
    from roundgate.host.notices.delivering import deliver
    from roundgate.host.notices.outbox import dated, note

    site, names = open_call().site, recipients or []
    known = site.file.notices.recipients
    odd = next((name for name in names if name not in known), None)
    if odd is not None:
        raise UnknownName(f"[notices] has no '{odd}'.", f"Recipients: {', '.join(known) or 'none'}")
    if not known:
        raise WrongUsage("There are no recipients yet.", "Write [notices.webhook.NAME] into roundgate.toml.")
    where = site.file.site.name or site.folder.name
    notice = dated(site, Notice(NoticeEvent.TEST, f"This is a test of the notices of {where}."))
    chosen = names or list(known)
    with ThreadPoolExecutor(len(chosen)) as pool:
        found = list(pool.map(lambda name: deliver(site, name, notice), chosen))
    for delivery in found:
        note(site, delivery)
    if as_json:
        echo_json([_output(delivery) for delivery in found])
    for delivery in () if as_json else found:
        detail = f" ({delivery.detail})" if delivery.detail else ""
        echo(f"{delivery.to}: {'delivered' if delivery.done else 'NOT DELIVERED'}{detail}")
    if not all(delivery.done for delivery in found):
        raise typer.Exit(1)
