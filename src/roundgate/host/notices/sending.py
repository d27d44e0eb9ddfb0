"""One try to hand a notice over: a JSON body by HTTP, or a mail by SMTP. What is said of a failure has no secrets."""

from __future__ import annotations

import contextlib
import smtplib
import ssl
import threading
from email.message import EmailMessage
from email.utils import formatdate, make_msgid
from urllib.parse import urlsplit

from msgspec import json

from roundgate.core.notices.model import Notice, fields_of, filled
from roundgate.core.values.units import format_seconds, parse_seconds
from roundgate.host.errors import Trouble
from roundgate.host.notices.secrets import Secrets
from roundgate.host.notices.tables import Mail, Webhook
from roundgate.host.site import Site


class NotTaken(Exception):
    """A notice was not taken. ``again`` tells whether another try may help."""

    def __init__(self, why: str, *, again: bool) -> None:
        """Keep why, in a sentence without secrets."""
        super().__init__(why)
        self.why = why
        self.again = again


def send(site: Site, recipient: Webhook | Mail, notice: Notice) -> None:
    """Try once to hand a notice over, within the recipient's time. Raises NotTaken."""
    within = float(parse_seconds(recipient.within))
    failed: list[BaseException] = []

    def attempt() -> None:
        try:
            _send(site, recipient, notice, within)
        except BaseException as error:  # noqa: BLE001 - it is looked at below
            failed.append(error)

    # A peer that sends a byte now and then would keep each read within its limit, and the whole of it forever.
    thread = threading.Thread(target=attempt, daemon=True)
    thread.start()
    thread.join(within * 1.5 + 0.5)
    if thread.is_alive():
        raise NotTaken(f"no answer within {format_seconds(round(max(1, within)))}", again=True)
    if not failed:
        return
    if isinstance(failed[0], NotTaken):
        raise failed[0]
    if isinstance(failed[0], Trouble):
        raise NotTaken(failed[0].what, again=False) from failed[0]
    raise NotTaken(f"an unexpected error: {type(failed[0]).__name__}", again=True) from failed[0]


def _send(site: Site, recipient: Webhook | Mail, notice: Notice, within: float) -> None:
    if isinstance(recipient, Webhook):
        _post(Secrets(site), recipient, notice, within)
    else:
        _mail(site, recipient, notice, within)


def host_of(recipient: Webhook | Mail) -> str:
    """Return where a recipient is, without what may be secret."""
    if isinstance(recipient, Mail):
        return f"{recipient.host}:{recipient.port}"
    return urlsplit(recipient.url).hostname or "(its secret says where)"


# --- webhooks ---


def _post(secrets: Secrets, webhook: Webhook, notice: Notice, within: float) -> None:
    import httpx  # a fifth of a second to load: only who sends needs it

    url, headers = secrets.fill(webhook.url), secrets.fill(dict(webhook.headers))
    body = json.encode(secrets.fill(webhook.body, fields_of(notice)))
    try:
        with (
            # A redirect could carry the secret in the address or a header to somebody else.
            httpx.Client(timeout=within, follow_redirects=False) as client,
            client.stream("POST", url, content=body, headers={"Content-Type": "application/json", **headers}) as answer,
        ):
            code = answer.status_code
    except httpx.TimeoutException as error:
        raise NotTaken(f"no answer within {format_seconds(round(max(1, within)))}", again=True) from error
    except (httpx.HTTPError, httpx.InvalidURL, ValueError, UnicodeError) as error:
        raise NotTaken(_describe_http_error(error), again=isinstance(error, httpx.TransportError)) from error
    if 300 <= code < 400:
        raise NotTaken(f"it answers {code} and names another address; write that one into the site file", again=False)
    if code >= 400:
        raise NotTaken(f"it answers {code}", again=code >= 500 or code in (408, 425, 429))


def _describe_http_error(error: Exception) -> str:
    """Describe what went wrong by the kind of error: its own message may hold the address, and that a secret."""
    kind = type(error).__name__
    return {
        "ConnectError": "the connection is refused or times out",
        "RemoteProtocolError": "the answer is not HTTP, or the connection was closed",
        "ReadError": "the connection broke",
        "WriteError": "the connection broke",
        "UnsupportedProtocol": "its address begins with neither http:// nor https://",
        "InvalidURL": "the URL is not valid",
    }.get(kind, f"it cannot be sent ({kind})")


# --- mail ---


def message_of(channel: Mail, notice: Notice) -> EmailMessage:
    """Make the mail of a notice. A line break in a field cannot begin another header."""
    fields = fields_of(notice)
    mail = EmailMessage()
    mail["From"], mail["To"] = channel.sender, ", ".join(channel.to)
    mail["Subject"] = " ".join(str(filled(channel.subject, fields)).split())
    mail["Date"] = formatdate(notice.at or None, localtime=True)
    mail["Message-ID"] = make_msgid(domain=channel.sender.rpartition("@")[2] or None)
    mail["Auto-Submitted"] = "auto-generated"
    mail.set_content(str(filled(channel.text, fields)))
    return mail


def _mail(site: Site, mail: Mail, notice: Notice, within: float) -> None:
    password = Secrets(site).fill(mail.password)
    try:
        trusted = ssl.create_default_context(cafile=str(site.folder / mail.ca) if mail.ca else None)
    except (OSError, ssl.SSLError) as error:
        raise NotTaken(f"{mail.ca} holds no certificates", again=False) from error
    try:
        with contextlib.ExitStack() as stack:
            if mail.security == "tls":
                link: smtplib.SMTP = smtplib.SMTP_SSL(mail.host, mail.port, timeout=within, context=trusted)
            else:
                link = smtplib.SMTP(mail.host, mail.port, timeout=within)
            stack.callback(_hang_up, link)
            if mail.security == "starttls":
                link.starttls(context=trusted)
            if mail.user:
                link.login(mail.user, password)
            refused = link.send_message(message_of(mail, notice))
    except smtplib.SMTPRecipientsRefused as error:
        codes = [code for code, _ in error.recipients.values()]
        raise NotTaken(f"it takes no mail for {', '.join(mail.to)}", again=all(code < 500 for code in codes)) from error
    except smtplib.SMTPAuthenticationError as error:
        raise NotTaken(f"it does not know {mail.user} with that password", again=False) from error
    except smtplib.SMTPResponseException as error:
        raise NotTaken(f"it answers {error.smtp_code}", again=error.smtp_code < 500) from error
    except smtplib.SMTPNotSupportedError as error:
        raise NotTaken("it offers no STARTTLS, or no way to sign in", again=False) from error
    except ssl.SSLError as error:
        raise NotTaken("its certificate is not trusted, or the port does not use TLS", again=False) from error
    except TimeoutError as error:
        raise NotTaken(f"no answer within {format_seconds(round(max(1, within)))}", again=True) from error
    except (smtplib.SMTPException, OSError) as error:
        raise NotTaken("the server does not answer, or closed the connection", again=True) from error
    if refused:
        raise NotTaken(f"it takes no mail for {', '.join(refused)}; the others got it", again=False)


def _hang_up(link: smtplib.SMTP) -> None:
    # The mail was taken before; how the connection ends changes nothing of that.
    with contextlib.suppress(smtplib.SMTPException, OSError):
        link.quit()
