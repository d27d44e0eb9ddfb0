"""Write docs/site.md and docs/site.schema.json from the model of the site file."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import msgspec

from roundgate.host.site import ServerEntry, SiteFile

HERE = Path(__file__).parent
KEYS: dict[str, tuple[str, str]] = {
    "folder": ("The server's folder, from the site file's own.", '"regatta"'),
    "start": ("The command that starts it, a list of words; it is run in the folder.", '["./launch.sh"]'),
    "rulebook": (
        "The name of the rulebook: one that comes with Round Gate, or one in `rulebooks/` beside the site file, or a "
        "path. Without one, files are still addressed by `FILE:KEY`, checked and edited.",
        '"gullwind"',
    ),
    "tags": ("Words for `@TAG`, which means all servers that have it.", '["ranked"]'),
    "console": (
        'How Round Gate talks to the server: `"stdin"` (its standard input, which the keeper holds) or `"tcp"` (the '
        "rulebook's `[server.console]`). Left out: by TCP where the rulebook has such a console and the server's files "
        "open it, else by standard input.",
        '"tcp"',
    ),
    "driver": ('What starts and stops it: `"keeper"`, a process of Round Gate\'s own.', '"keeper"'),
    "environment": ("Variables for the server's process, beside those that the keeper has.", '{ TZ = "UTC" }'),
    "outside": (
        "Folders outside the server's own that links in it may lead to. What leads anywhere else is never written.",
        '["/srv/shared"]',
    ),
    "grace": ("How long a stop may take, before the rulebook's word: `30s`, `2m`.", '"30s"'),
    "start-within": ("How long a start may take until the ready sign.", '"90s"'),
    "watch": ("How long a server that is ready is watched before the round calls it up.", '"10s"'),
    "kill": ("Whether a stop may end in SIGKILL; the rulebook decides where this is left out.", "false"),
    "restart": ("Whether the keeper starts the server again after a crash.", "true"),
}
"""What each key of a ``[server.NAME]`` table means, and an example."""
HEAD = """# The site file

Made by `python docs/make_site.py`. `roundgate.toml` is in the site's folder; `roundgate init` makes it, `roundgate
adopt FOLDER` adds a server, `roundgate unadopt SERVER` takes one out (its files stay). What Round Gate remembers of
the site is in `.roundgate/` beside it. An editor that knows TOML schemas completes the keys with
`docs/site.schema.json`; name it in the file's first line: `#:schema PATH/site.schema.json`.

```toml
[site]
name = "Saltmarsh Sailing Club"   # shown in messages and reports

[server.regatta]
folder = "regatta"
start = ["./launch.sh"]
rulebook = "gullwind"
```

| key of `[server.NAME]` | type | what it means | example |
|---|---|---|---|
"""


def schema() -> dict[str, Any]:
    """Give the JSON Schema of the site file, each key with what it means."""
    made: dict[str, Any] = msgspec.json.schema(SiteFile)
    made["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    made["title"] = "roundgate.toml"
    for name, spec in made["$defs"]["ServerEntry"]["properties"].items():
        spec["description"] = KEYS[name][0]
    made["$defs"]["SiteTable"]["properties"]["name"]["description"] = "The site's name, such as the club's."
    return made


def page() -> str:
    """Give the page."""
    kinds = {"folder": "text", "start": "list of texts", "tags": "list of texts", "outside": "list of texts"}
    kinds |= {"environment": "table of texts", "kill": "true or false", "restart": "true or false"}
    names = [field.encode_name for field in msgspec.structs.fields(ServerEntry)]
    rows = [f"| `{name}` | {kinds.get(name, 'text')} | {KEYS[name][0]} | `{KEYS[name][1]}` |\n" for name in names]
    return HEAD + "".join(rows)


if __name__ == "__main__":
    (HERE / "site.md").write_text(page(), "utf-8")
    (HERE / "site.schema.json").write_text(json.dumps(schema(), indent=2) + "\n", "utf-8")
