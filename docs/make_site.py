"""Write docs/site.md and docs/site.schema.json from the model of the site file."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from roundgate.host.site import site_schema

HERE = Path(__file__).parent
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
CLUSTERS = """
## `[cluster.NAME]`
Servers that share settings. `@NAME` means all of them, as a tag does: `roundgate set @NAME tick.rate=30`. `check` finds
what is not the same on all of them.

| key of `[cluster.NAME]` | type | what it means | example |
|---|---|---|---|
"""
BACKUPS = """
## `[backup]`
Which backups stay.

| key of `[backup]` | type | what it means | example |
|---|---|---|---|
"""
ROUNDS = """
## `[rounds]`
How long what rounds saved stays. Older rounds keep their entry in `rounds`, and the copies of others' edits
(`kept-...`).

| key of `[rounds]` | type | what it means | example |
|---|---|---|---|
"""
COUNTDOWN = """
## `[countdown]`
What players are told on the server's console before it goes down, and when.

| key of `[countdown]` | type | what it means | example |
|---|---|---|---|
"""
NOTICES = """
## `[notices]`
Who is told outward, and of what: [notices](fleet.md#notices).

| key of `[notices]` | type | what it means | example |
|---|---|---|---|
"""
WEBHOOK = """
## `[notices.webhook.NAME]`
| key | type | what it means | example |
|---|---|---|---|
"""
MAIL = """
## `[notices.mail.NAME]`
| key | type | what it means | example |
|---|---|---|---|
"""
TIMETABLE = """
## `[timetable.NAME]`
What is done by itself, and when: [the timetable](fleet.md#the-timetable).

| key of `[timetable.NAME]` | type | what it means | example |
|---|---|---|---|
"""
COMMANDS = """
## `commands`
What starts and stops a server with `driver = "commands"`. Each is run in the server's folder.

| key of `commands` | type | what it means | example |
|---|---|---|---|
"""


def page() -> str:
    """Return the page."""
    kinds = {"folder": "text", "start": "list of texts", "tags": "list of texts", "outside": "list of texts"}
    kinds |= {"environment": "table of texts", "kill": "true or false", "restart": "true or false"}
    kinds |= {"terminal": "true or false", "user-unit": "true or false", "commands": "a table"}
    parts = site_schema()["$defs"]
    commands = {name: "list of texts" for name in parts["OwnCommands"]["properties"] if name != "within"}
    lists = {"servers": "list of texts", "shares": "list of texts"}
    backups = BACKUPS + _rows(parts["BackupTable"], {"keep": "number", "days": "number"})
    clusters = CLUSTERS + _rows(parts["ClusterTable"], lists)
    return (
        HEAD
        + _rows(parts["ServerEntry"], kinds)
        + COMMANDS
        + _rows(parts["OwnCommands"], commands)
        + clusters
        + backups
        + ROUNDS
        + _rows(parts["RoundsTable"], {"keep": "number"})
        + COUNTDOWN
        + _rows(parts["CountdownTable"], {"marks": "list of texts"})
        + _outward(parts)
    )


def _outward(parts: dict[str, Any]) -> str:
    told = dict.fromkeys(("on", "servers", "to", "at", "days"), "list of texts") | {"tries": "number"}
    told |= {"headers": "table of texts", "body": "a table", "port": "number", "when-empty": "true or false"}
    told |= {"silent": "true or false", "whole": "true or false"}
    return (
        NOTICES
        + _rows(parts["NoticesTable"], {})
        + WEBHOOK
        + _rows(parts["Webhook"], told)
        + MAIL
        + _rows(parts["Mail"], told)
        + TIMETABLE
        + _rows(parts["TimetableEntry"], told)
    )


def _rows(part: dict[str, Any], kinds: dict[str, str]) -> str:
    return "".join(
        f"| `{name}` | {kinds.get(name, 'text')} | {key['description']} | `{key['examples'][0]}` |\n"
        for name, key in part["properties"].items()
        if "examples" in key
    )


if __name__ == "__main__":
    (HERE / "site.md").write_text(page(), "utf-8")
    (HERE / "site.schema.json").write_text(json.dumps(site_schema(), indent=2) + "\n", "utf-8")
