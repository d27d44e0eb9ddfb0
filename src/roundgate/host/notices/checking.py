"""What can be wrong in the tables ``[notices]``; looked for when the site file is read and has some."""

from __future__ import annotations

from roundgate.core.notices.model import FIELDS, unknown_fields
from roundgate.core.values import ValueProblem
from roundgate.core.values.units import parse_seconds
from roundgate.host.errors import Trouble
from roundgate.host.notices.tables import EVENTS, Mail, NoticesTable, Webhook


def seconds_of(text: str) -> float:
    """Return a time such as ``10s`` in seconds; it has been read before."""
    return float(parse_seconds(text))


def check_notices(table: NoticesTable) -> None:
    """See that the tables make sense. Raises Trouble."""
    both = set(table.webhook) & set(table.mail)
    if both:
        raise Trouble(f"[notices] has '{both.pop()}' as a webhook and as a mail.", "Give one of them another name.")
    for name, recipient in table.recipients.items():
        _check_recipient(f"[notices] {name}", recipient)


def _check_recipient(where: str, recipient: Webhook | Mail) -> None:
    odd = next((word for word in recipient.on if word not in EVENTS), None)
    if odd is not None:
        raise Trouble(
            f"{where}: '{odd}' is not an event that notices are sent for.", f"Write some of {', '.join(EVENTS)}."
        )
    templates = [recipient.body] if isinstance(recipient, Webhook) else [recipient.subject, recipient.text]
    unknown = [name for template in templates for name in unknown_fields(template)]
    if unknown:
        raise Trouble(f"{where}: no notice has a field '{unknown[0]}'.", f"Fields: {', '.join(FIELDS)}.")
    for key, text in (("within", recipient.within), ("pause", recipient.pause)):
        try:
            parse_seconds(text)
        except ValueProblem as error:
            raise Trouble(f"{where}: '{text}' as '{key}' is not a time.", 'Write one such as "10s".') from error
    if not 1 <= recipient.tries <= 20:
        raise Trouble(f"{where}: there can be 1 to 20 tries.")
    if isinstance(recipient, Webhook):
        if not recipient.url.startswith(("http://", "https://", "{secret.")):
            raise Trouble(f"{where}: the url begins with neither http:// nor https://.")
    else:
        _check_mail(where, recipient)


def _check_mail(where: str, mail: Mail) -> None:
    if mail.security not in ("starttls", "tls", "none"):
        raise Trouble(f"{where}: '{mail.security}' is not a kind of security.", "Write starttls, tls or none.")
    if mail.password and not mail.password.startswith("{secret."):
        raise Trouble(f"{where}: a password is never in the site file itself.", 'Write password = "{secret.NAME}".')
    if mail.password and mail.security == "none" and mail.host not in ("localhost", "127.0.0.1", "::1"):
        raise Trouble(f"{where}: a password would be sent in the clear.", 'Write security = "starttls".')
    odd = next((text for text in (mail.sender, *mail.to) if "@" not in text or not text.isprintable()), None)
    if odd is not None or not mail.to:
        raise Trouble(f"{where}: '{odd or ''}' is not an address.", 'Write addresses such as "board@club.example".')
