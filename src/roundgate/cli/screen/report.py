"""What a check found, as text, JSON or SARIF."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

from roundgate.cli.screen.output import echo, echo_json

if TYPE_CHECKING:
    from roundgate.core.findings import Finding


class Report:
    """What a check says, in the form asked for. As text it is said at once; so memory stays flat over many files."""

    def __init__(self, form: str) -> None:
        """Begin with nothing found."""
        self.form = form
        self.kept: list[Finding] = []
        self.counts: dict[str, int] = {}

    def add(self, finding: Finding) -> None:
        """Print one finding, or keep it for the end."""
        self.counts[finding.level] = self.counts.get(finding.level, 0) + 1
        if self.form == "text":
            from roundgate.cli.screen.findings import echo_findings

            echo_findings([finding])
        else:
            self.kept.append(finding)

    def end(self, names: str) -> str:
        """Print the rest; return the worst level."""
        if self.form == "json":
            from roundgate.cli.screen.outputs import CheckOutput, finding_output

            echo_json(CheckOutput([finding_output(finding) for finding in self.kept]))
        elif self.form == "sarif":
            from roundgate.cli.screen.sarif import sarif_of

            echo_json(sarif_of(self.kept))
        else:
            from roundgate.cli.screen.findings import describe_counts

            echo(f"{names}: {describe_counts(self.counts)}.")
        sys.stdout.flush()
        return next((level for level in ("error", "warning", "note") if self.counts.get(level)), "")
