"""Write docs/rulebook_reference.md, every key of a rulebook with its meaning, and docs/rulebook.schema.json."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from roundgate.core.facts import FACTS
from roundgate.core.rulebook.schema import rulebook_schema

HERE = Path(__file__).parent
HEAD = """# Rulebook reference

Made by `python docs/make_rulebook.py` from the model itself. [The guide](rulebook.md) tells what they are for.
`roundgate rulebook schema` prints the same as JSON Schema (2020-12): name it in a rulebook's first line,
`#:schema PATH/rulebook.schema.json`, and an editor that knows TOML schemas completes and checks what you type.
"""
TABLES = {
    "About": "[rulebook]",
    "Version": "[rulebook] version = { ... }",
    "File": "[file.NAME]",
    "Dialect": "dialect = { ... } of a file",
    "Setting": '[setting."NAME"]',
    "Live": "live = { ... } of a setting",
    "OtherPlace": "also = [{ ... }] of a setting",
    "Blocked": "blocked = { ... } of a setting",
    "ListOf": "[list.NAME]",
    "ItemKind": "[kind.NAME]",
    "RecordSet": "[records.NAME]",
    "RecordField": "[records.NAME.field] FIELD = { ... }",
    "Roster": "[roster.NAME]",
    "RosterLive": "live = { ... } of a roster",
    "Ranks": "[ranks.NAME]",
    "RankFlags": "[ranks.NAME.flags]",
    "RankStep": "[[ranks.NAME.ladder]]",
    "Rule": "[[rule]]",
    "Loot": "[loot.NAME]",
    "LootTable": "[loot.NAME.table.SET]",
    "Curve": "[curve.NAME]",
    "AdviceTable": "[table.NAME]",
    "Preset": "[preset.NAME]",
    "Mods": "[mods]",
    "ServerSpec": "[server]",
    "Port": "[[server.port]]",
    "Probe": "probe = { ... } of a port",
    "RemoteConsole": "[server.console]",
    "ConsoleStep": "[[server.before-stop]]",
    "Query": "[query.NAME]",
    "Action": "[action.NAME]",
    "Lobby": "[server.lobby]",
}


def page() -> str:
    """Return the page."""
    parts = rulebook_schema()["$defs"]
    assert {*TABLES, "Rulebook"} == set(parts), "a part of the rulebook has no heading"
    lines = [HEAD]
    for name, title in TABLES.items():
        spec = parts[name]
        lines += [f"## `{title}`", "", " ".join(spec.get("description", "").split()).replace("``", "`"), ""]
        lines += ["| key | type | meaning |", "|---|---|---|"]
        lines += [f"| `{key}` | {_type(part)} | {_plain(part)} |" for key, part in spec["properties"].items()]
        lines.append("")
    lines += ["## Names of facts in expressions", "", "| name | what it is |", "|---|---|"]
    lines += [f"| `{name}` | {about} |" for name, about in FACTS.items()]
    return "\n".join(lines) + "\n"


def _plain(spec: dict[str, Any]) -> str:
    return str(spec.get("description", "")).replace("|", "\\|")


def _type(spec: dict[str, Any]) -> str:
    if "enum" in spec:
        return ", ".join(f"`{one}`" for one in spec["enum"])
    if "$ref" in spec:
        return "a table"
    kinds = {"string": "text", "integer": "number", "number": "number", "boolean": "true or false", "array": "list"}
    if "anyOf" in spec:
        return " or ".join(dict.fromkeys(_type(one) for one in spec["anyOf"] if one.get("type") != "null"))
    return kinds.get(spec.get("type", ""), "a table")


if __name__ == "__main__":
    (HERE / "rulebook_reference.md").write_text(page(), "utf-8")
    (HERE / "rulebook.schema.json").write_text(json.dumps(rulebook_schema(), indent=2) + "\n", "utf-8")
