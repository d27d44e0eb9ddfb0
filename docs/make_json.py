"""Write docs/json.md and docs/json.schema.json from the types of what the program prints with ``--json``."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

import msgspec

from roundgate.cli.screen.outputs import OUTPUTS

HERE = Path(__file__).parent
HEAD = """# JSON output

Made by `python docs/make_json.py` from the types themselves; `docs/json.schema.json` is the same as JSON Schema
(2020-12), one definition for each command under `commands`. Field names and codes are stable: a release may add some,
and takes none away without a line in the changelog. Values of secrets are never in it: `(set, hidden)` is in their
place. Times are seconds since 1970.

`check --format sarif` prints SARIF 2.1.0 instead, with rules, fixes and, as related locations, where a reader gives up.
"""


def schema() -> dict[str, Any]:
    """Return the JSON Schema of every output."""
    found, parts = msgspec.json.schema_components(OUTPUTS.values(), ref_template="#/$defs/{name}")
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "What roundgate prints with --json",
        "commands": dict(zip(OUTPUTS, found, strict=True)),
        "$defs": {name: parts[name] for name in sorted(parts)},
    }


def page() -> str:
    """Return the page: what each command prints, then every type with its fields."""
    made = schema()
    lines = [HEAD, "| command | prints |", "|---|---|"]
    lines += [f"| `{command} --json` | {_type(spec)} |" for command, spec in made["commands"].items()]
    for name, spec in made["$defs"].items():
        about = " ".join(spec.get("description", "").replace("``", "`").split())
        lines += ["", f"## {name}", "", about, ""]
        if "enum" in spec:
            lines.append("One of " + ", ".join(f"`{one}`" for one in spec["enum"]) + ".")
        elif "properties" in spec:
            lines += ["| field | type | what it is |", "|---|---|---|"]
            lines += [_row(field, one) for field, one in spec["properties"].items()]
    return "\n".join(lines) + "\n"


def _row(field: str, spec: dict[str, Any]) -> str:
    about = spec.get("description", "")
    return f"| `{field}` | {_type(spec)} | {about} |"


def _type(spec: dict[str, Any]) -> str:
    if "$ref" in spec:
        name = spec["$ref"].rpartition("/")[2]
        return f"[{name}](#{re.sub('[^a-z0-9]', '', name.lower())})"
    if "allOf" in spec:
        return _type(spec["allOf"][0])
    if "enum" in spec:
        return "one of " + ", ".join(f"`{one}`" for one in spec["enum"])
    if "anyOf" in spec:
        return " or ".join(_type(one) for one in spec["anyOf"])
    if spec.get("type") == "array":
        return f"list of {_type(spec['items'])}"
    if spec.get("type") == "object" and "additionalProperties" in spec:
        return f"object: name to {_type(spec['additionalProperties'])}"
    return str(spec.get("type", "any"))


if __name__ == "__main__":
    (HERE / "json.md").write_text(page(), "utf-8")
    (HERE / "json.schema.json").write_text(json.dumps(schema(), indent=2) + "\n", "utf-8")
