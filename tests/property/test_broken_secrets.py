"""Files with a secret, damaged at random: no finding shows the secret where its name is still there to be seen."""

from __future__ import annotations

import random
import re
from collections.abc import Iterator

import pytest
from msgspec import json

from roundgate.core.checks.standalone import check_standalone
from sampling import NUMBER

SECRET = "Hunt3rTwo"
FORMS = {
    "a.json": '{{"slots": 4,\n "{name}": "{value}",\n "deep": {{"boats": [1, 2], "text": "x y"}}\n}}\n',
    "a.yml": "slots: 4\n{name}: {value}\ndeep:\n  boats: [1, 2]\n  text: x y\n",
    "a.toml": 'slots = 4\n"{name}" = "{value}"\n[deep]\nboats = [1, 2]\ntext = "x y"\n',
    "a.ini": "[a]\nslots=4\n{name}={value}\ntext = x y\n[b]\nboats=1\n",
    "b.ini": '; top\n[a]\nslots = 4\n{name} = "{value}"   ; note\n\n[b]\nboats = 1\n',
    "a.properties": "slots=4\n{name}={value}\ntext=x y\n",
    "a.cfg": 'set slots 4\nset {name} "{value}"\ntext "x y"\n',
    "a.lua": 'settings = {{ slots = 4,\n {name} = "{value}",\n deep = {{ boats = {{1, 2}} }} }}\n',
    "a.xml": '<a>\n<slots>4</slots>\n<{name}>{value}</{name}>\n<deep x="1"/>\n</a>\n',
    "b.xml": '<a>\n<slots v="4"/>\n<opt {name}="{value}" b="2"/>\n</a>\n',
    "a.sh": "#!/bin/sh\nPORT=4\nexec ./server --port $PORT --{name} {value} -x\n",
}
SIGNS = "\"'{}[]()<>=:,;#\\\t $&|`-"
DAMAGES = 400


def damaged(path: str, name: str, dice: random.Random) -> Iterator[str]:
    """Yield texts that one to three strokes have damaged: a sign deleted, put in, or in another one's place."""
    for _ in range(DAMAGES):
        text = FORMS[path].format(name=name, value=SECRET)
        for _ in range(dice.randrange(1, 4)):
            at, sign = dice.randrange(len(text)), dice.choice(["", *SIGNS])
            text = text[:at] + sign + text[at + dice.randrange(2) :]
        # The name is whole, and before the secret on its line; else nothing tells that it is one.
        if re.search(rf"(?<![\w.-]){re.escape(name)}(?![\w.-]).*{SECRET}", text):
            yield text


@pytest.mark.parametrize("name", ["password", "login_token", "motd.key"])
@pytest.mark.parametrize("path", sorted(FORMS))
def test_no_finding_of_a_broken_file_shows_its_secret(path: str, name: str) -> None:
    seen = 0
    for text in damaged(path, name, random.Random(f"{path}{name}{NUMBER}")):
        found = json.encode(check_standalone(path, text.encode())).decode()
        seen += len(found) > 2
        assert SECRET not in found, f"{text}\n{found}"
    assert seen or path == "a.sh", "some of them have findings; a shell takes most of it"
