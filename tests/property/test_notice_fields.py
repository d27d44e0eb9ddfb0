"""Notices to a real HTTP server: no text of a player or an administrator is read as the name of a secret."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from peers import Hook
from roundgate.core.notices.model import FIELDS, Notice, NoticeEvent, fields_of
from roundgate.host.notices.secrets import Secrets
from roundgate.host.notices.sending import send
from roundgate.host.notices.tables import Webhook
from roundgate.host.site import Site, read_site

SECRET = "lee-shore-77"
TEXTS = st.text("{}secrt.mail -", max_size=40) | st.sampled_from(
    ["{secret.mail}", "{secret.{secret.mail}}", "{{secret.mail}}", "{message}", "{reason}", "{secret.", "mail}", "}{"]
)
TEMPLATES = (
    st.lists(
        st.sampled_from(["{message}", "{reason}", "{server}", "{secret.mail}", "{{reason}}", "{", "}", "secret.mail"]),
        max_size=5,
    )
    .map("".join)
    .filter(lambda template: "{secret.mailsecret" not in template)
)  # there is no such secret


@pytest.fixture(scope="module")
def hook() -> Iterator[Hook]:
    hook = Hook()
    yield hook
    hook.close()


@pytest.fixture(scope="module")
def site(tmp_path_factory: pytest.TempPathFactory) -> Site:
    folder: Path = tmp_path_factory.mktemp("site")
    (folder / "secrets.toml").write_text(f'mail = "{SECRET}"\n')
    os.chmod(folder / "secrets.toml", 0o600)
    (folder / "roundgate.toml").write_text('[notices]\nsecrets = "secrets.toml"\n')
    return read_site(folder)


def by_hand(template: str, fields: dict[str, str]) -> str:
    """Fill a template from left to right, by its own signs alone."""
    known = {**fields, "secret.mail": SECRET}
    out = ""
    while template:
        name = next((name for name in known if template.startswith(f"{{{name}}}")), None)
        out += template[0] if name is None else known[name]
        template = template[1 if name is None else len(name) + 2 :]
    return out


@settings(max_examples=300)
@given(message=TEXTS, reason=TEXTS, server=TEXTS, template=TEMPLATES)
def test_a_field_never_names_a_secret(site: Site, message: str, reason: str, server: str, template: str) -> None:
    notice = Notice(NoticeEvent.TEST, message, server, reason=reason)
    given = {"text": f"- {template}", "all": "{message}"}
    fields = dict.fromkeys(FIELDS, "") | {"message": message, "reason": reason, "server": server, "event": "test"}
    fields |= {"round": "0", "took-seconds": "0", "expected-seconds": "0"}
    found = Secrets(site).fill(given, fields_of(notice))
    assert found == {"text": by_hand(f"- {template}", fields), "all": message}
    assert json.dumps(found).count(SECRET) == template.count("{secret.mail}"), "only the template names a secret"


@pytest.mark.parametrize("text", ["{secret.mail}", "{secret.{secret.mail}}", "{{secret.mail}}", "{reason}"])
def test_what_a_player_has_said_goes_out_as_it_is(hook: Hook, site: Site, text: str) -> None:
    notice = Notice(NoticeEvent.FAILED, f"its log says: {text}", reason=text)
    send(
        site,
        Webhook(url=hook.url, headers={"X-Key": "{secret.mail}"}, body={"{message}": "{message} {reason}"}),
        notice,
    )
    _, headers, body = hook.got[-1]
    assert body == {"{message}": f"its log says: {text} {text}"} and headers["x-key"] == SECRET
