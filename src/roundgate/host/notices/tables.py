"""The tables ``[notices]`` of the site file: who is told what, and where."""

from __future__ import annotations

from typing import Annotated, Any

from msgspec import Meta, Struct, field

from roundgate.core.notices.model import FIELDS, Event

EVENTS = [str(event) for event in Event if event is not Event.TEST]


def _about(words: str, example: str) -> Meta:
    return Meta(description=words, extra_json_schema={"examples": [example]})


class _Recipient(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    on: Annotated[
        list[str], _about(f"What it is told: {', '.join(EVENTS)}. Left out: all.", '["going-down", "up-again"]')
    ] = field(default_factory=list)
    servers: Annotated[
        list[str], _about("Of which servers, by name or by `@TAG`; left out: all.", '["regatta", "@ranked"]')
    ] = field(default_factory=list)
    tries: Annotated[int, _about("How often one notice is tried.", "4")] = 4
    pause: Annotated[str, _about("The pause before the second try; each later one is three times as long.", '"2s"')] = (
        "2s"
    )
    within: Annotated[str, _about("How long one try may take.", '"10s"')] = "10s"


class Webhook(_Recipient, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One ``[notices.webhook.NAME]``: a JSON body by HTTP POST."""

    url: Annotated[
        str,
        _about(
            "Where the body is sent. `{secret.NAME}` stands for a secret, here and in `headers`.",
            '"https://hooks.saltmarsh.example/{secret.hook}"',
        ),
    ]
    headers: Annotated[dict[str, str], _about("More headers.", '{ X-Key = "{secret.key}" }')] = field(
        default_factory=dict
    )
    body: Annotated[
        dict[str, Any],
        _about(
            f"The body; texts in it may name fields in braces: {', '.join(FIELDS)}.",
            '{ text = "{message}", seconds = "{took-seconds}" }',
        ),
    ] = field(
        default_factory=lambda: {
            "event": "{event}",
            "server": "{server}",
            "site": "{site}",
            "when": "{when}",
            "message": "{message}",
        }
    )


class Mail(_Recipient, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One ``[notices.mail.NAME]``: a mail by SMTP."""

    host: Annotated[str, _about("The mail server.", '"mail.saltmarsh.example"')]
    port: Annotated[int, _about("Its port.", "587")] = 587
    security: Annotated[
        str, _about('`"starttls"`, `"tls"` from the beginning, or `"none"` on a network of your own.', '"starttls"')
    ] = "starttls"
    ca: Annotated[str, _about("A file with the certificates to trust in place of the system's.", '"mail-ca.pem"')] = ""
    user: Annotated[str, _about("Who signs in; left out: nobody.", '"roundgate"')] = ""
    password: Annotated[str, _about("The password: `{secret.NAME}`, never the word itself.", '"{secret.mail}"')] = ""
    sender: Annotated[str, _about("The address that it comes from.", '"roundgate@saltmarsh.example"')] = field(
        name="from"
    )
    to: Annotated[list[str], _about("The addresses that it goes to.", '["committee@saltmarsh.example"]')]
    subject: Annotated[str, _about("The subject, with fields as in `body`.", '"{server}: {event}"')] = (
        "{server}: {event}"
    )
    text: Annotated[str, _about("The text, with fields as in `body`.", '"{message}"')] = "{message}\n\n{when}, {site}"


class NoticesTable(Struct, frozen=True, forbid_unknown_fields=True):
    """The ``[notices]`` table."""

    secrets: Annotated[
        str,
        _about(
            "A TOML file with secrets by name, readable by its owner alone, from the site's folder. The environment "
            "variable `ROUNDGATE_SECRET_NAME` counts before it.",
            '"secrets.toml"',
        ),
    ] = ""
    webhook: dict[str, Webhook] = field(default_factory=dict)
    mail: dict[str, Mail] = field(default_factory=dict)

    @property
    def recipients(self) -> dict[str, Webhook | Mail]:
        """All of them, by name."""
        return {**self.webhook, **self.mail}
