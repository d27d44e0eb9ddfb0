"""Write docs/findings.md from the pages that stand beside the checks."""

from __future__ import annotations

from pathlib import Path

from roundgate.core.checks import CODES
from roundgate.core.findings import FindingCode

HEAD = """# Findings

Made by `python docs/make_findings.py` from the pages beside the checks. `roundgate explain CODE` shows the same.
"""


def page(code: FindingCode) -> str:
    """Return one code's section."""
    lines = [f"\n## {code.name}\n", f"{code.title} ({code.level}).\n", f"{code.page}\n"]
    for label, example in (("wrong", code.bad), ("right", code.good)):
        if example:
            shown = example.replace("\r", "\N{SYMBOL FOR CARRIAGE RETURN}")
            lines.append(f"{label}:\n\n```\n{shown}\n```\n")
    return "\n".join(lines)


def findings() -> str:
    """Return the whole page."""
    return HEAD + "".join(page(CODES[name]) for name in sorted(CODES))


if __name__ == "__main__":
    Path(__file__).with_name("findings.md").write_text(findings(), "utf-8")
