"""What can be wrong in the tables ``[notices]``; looked for when the site file is read and has some."""

from __future__ import annotations

from roundgate.core.notices.model import FIELDS, unknown_fields
from roundgate.core.values import ValueProblem
from roundgate.core.values.units import parse_seconds
from roundgate.host.errors import Trouble
from roundgate.host.notices.tables import EVENTS, Mail, NoticesTable, Webhook


def seconds_of(text: str) -> float:
    """Give a time such as ``10s`` in seconds; it has been read before."""
    return float(parse_seconds(text))


def check_notices(table: NoticesTable) -> None:
    """See that the tables make sense. Raises Trouble."""
    both = set(table.webhook) & set(table.mail)
    if both:
        raise Trouble(f"[notices] has '{both.pop()}' as a webhook and as a mail.", "Give one of them another name.")
    for name, one in table.recipients.items():
        _check_recipient(f"[notices] {name}", one)


def _check_recipient(where: str, one: Webhook | Mail) -> None:
    odd = next((word for word in one.on if word not in EVENTS), None)
    if odd is not None:
        raise Trouble(f"{where}: '{odd}' is nothing that notices are about.", f"Write some of {', '.join(EVENTS)}.")
    templates = [one.body] if isinstance(one, Webhook) else [one.subject, one.text]
    unknown = [name for template in templates for name in unknown_fields(template)]
    if unknown:
        raise Trouble(f"{where}: no notice has a field '{unknown[0]}'.", f"Fields: {', '.join(FIELDS)}.")
    for key, text in (("within", one.within), ("pause", one.pause)):
        try:
            parse_seconds(text)
        except ValueProblem as error:
            raise Trouble(f"{where}: '{text}' as '{key}' is no time.", 'Write one such as "10s".') from error
    if not 1 <= one.tries <= 20:
        raise Trouble(f"{where}: there can be 1 to 20 tries.")
    if isinstance(one, Webhook):
        if not one.url.startswith(("http://", "https://", "{secret.")):
            raise Trouble(f"{where}: the url begins with neither http:// nor https://.")
    else:
        _check_mail(where, one)


def _check_mail(where: str, one: Mail) -> None:
    if one.security not in ("starttls", "tls", "none"):
        raise Trouble(f"{where}: '{one.security}' is no kind of security.", "Write starttls, tls or none.")
    if one.password and not one.password.startswith("{secret."):
        raise Trouble(f"{where}: a password is never in the site file itself.", 'Write password = "{secret.NAME}".')
    if one.password and one.security == "none" and one.host not in ("localhost", "127.0.0.1", "::1"):
        raise Trouble(f"{where}: a password would be sent in the clear.", 'Write security = "starttls".')
    odd = next((text for text in (one.sender, *one.to) if "@" not in text or not text.isprintable()), None)
    if odd is not None or not one.to:
        raise Trouble(f"{where}: '{odd or ''}' is no address.", 'Write addresses such as "board@club.example".')
