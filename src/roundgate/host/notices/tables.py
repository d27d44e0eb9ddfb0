"""The tables ``[notices]`` of the site file: who is told what, and where."""

from typing import Any

from msgspec import Struct, field

from roundgate.core.notices.model import NoticeEvent

EVENTS = [str(event) for event in NoticeEvent if event is not NoticeEvent.TEST]


class _Recipient(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    on: list[str] = field(default_factory=list)
    """What it is told: planned, called-off, going-down, up-again, rewound, failed, crashed, gave-up, backup-failed,
    missed, findings. Left out: all.

    Example: ["going-down", "up-again"]
    """
    servers: list[str] = field(default_factory=list)
    """Of which servers, by name or by `@TAG`; left out: all.

    Example: ["regatta", "@ranked"]
    """
    tries: int = 4
    """How often one notice is tried.

    Example: 4
    """
    pause: str = "2s"
    """The pause before the second try; each later one is three times as long.

    Example: "2s"
    """
    within: str = "10s"
    """How long one try may take.

    Example: "10s"
    """


class Webhook(_Recipient, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One ``[notices.webhook.NAME]``: a JSON body by HTTP POST."""

    url: str
    """Where the body is sent. `{secret.NAME}` stands for a secret, here and in `headers`.

    Example: "https://hooks.saltmarsh.example/{secret.hook}"
    """
    headers: dict[str, str] = field(default_factory=dict)
    """More headers.

    Example: { X-Key = "{secret.key}" }
    """
    body: dict[str, Any] = field(
        default_factory=lambda: {
            "event": "{event}",
            "server": "{server}",
            "site": "{site}",
            "when": "{when}",
            "message": "{message}",
        }
    )
    """The body; texts in it may name fields in braces: event, message, server, site, when, reason, expected,
    expected-seconds, took, took-seconds, round.

    Example: { text = "{message}", seconds = "{took-seconds}" }
    """


class Mail(_Recipient, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One ``[notices.mail.NAME]``: a mail by SMTP."""

    host: str
    """The mail server.

    Example: "mail.saltmarsh.example"
    """
    port: int = 587
    """Its port.

    Example: 587
    """
    security: str = "starttls"
    """`"starttls"`, `"tls"` from the beginning, or `"none"` on a network of your own.

    Example: "starttls"
    """
    ca: str = ""
    """A file with the certificates to trust in place of the system's.

    Example: "mail-ca.pem"
    """
    user: str = ""
    """Who signs in; left out: nobody.

    Example: "roundgate"
    """
    password: str = ""
    """The password: `{secret.NAME}`, never the word itself.

    Example: "{secret.mail}"
    """
    sender: str = field(name="from")
    """The address that it comes from.

    Example: "roundgate@saltmarsh.example"
    """
    to: list[str]
    """The addresses that it goes to.

    Example: ["committee@saltmarsh.example"]
    """
    subject: str = "{server}: {event}"
    """The subject, with fields as in `body`.

    Example: "{server}: {event}"
    """
    text: str = "{message}\n\n{when}, {site}"
    """The text, with fields as in `body`.

    Example: "{message}"
    """


class NoticesTable(Struct, frozen=True, forbid_unknown_fields=True):
    """The ``[notices]`` table."""

    secrets: str = ""
    """A TOML file with secrets by name, readable by its owner alone, from the site's folder. The environment
    variable `ROUNDGATE_SECRET_NAME` counts before it.

    Example: "secrets.toml"
    """
    webhook: dict[str, Webhook] = field(default_factory=dict)
    """Webhooks, by name."""
    mail: dict[str, Mail] = field(default_factory=dict)
    """Mails, by name."""

    @property
    def recipients(self) -> dict[str, Webhook | Mail]:
        """All of them, by name."""
        return {**self.webhook, **self.mail}
