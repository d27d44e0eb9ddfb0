"""``check FILE...``: any files, with no site and no rulebook."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path

from roundgate.cli.screen.report import Report
from roundgate.core.checks.standalone import WITH_COMMENTS
from roundgate.core.findings import STANDARD_INPUT, Finding
from roundgate.core.formats import ENDINGS
from roundgate.core.next_step import typed_command
from roundgate.host.errors import WrongUsage


def check_the_files(arguments: Sequence[str], given: str, form: str, *, fix: bool) -> str:
    """Check files, folders and standard input; return the worst level. Raises WrongUsage."""
    if given and given not in (*ENDINGS, WITH_COMMENTS):
        raise WrongUsage(f"There is no format '{given}'.", f"--as one of {', '.join((*ENDINGS, WITH_COMMENTS))}")
    if "-" in arguments:
        return _check_input(arguments, given, form, fix=fix)
    from roundgate.host.checking import check_files, files_below

    found_in = [
        (path, word if Path(word).is_dir() else "")
        for word in arguments
        for path in (files_below(word) if Path(word).is_dir() else [word])
    ]
    paths = [path for path, _ in found_in]
    if fix:
        from roundgate.cli.changes.repairs import mend_files

        mend_files(found_in, given)
    report = Report(form)
    for _, found in check_files(found_in, given):
        for finding in found:
            report.add(finding)
    return report.end(paths[0] if len(paths) == 1 else f"{len(paths)} files")


def _check_input(arguments: Sequence[str], given: str, form: str, *, fix: bool) -> str:
    if len(arguments) > 1 or fix:
        raise WrongUsage(
            "Standard input is checked by itself, and cannot be fixed in place.", typed_command("check", "", "-")
        )
    from roundgate.core.checks.standalone import check_standalone

    data = sys.stdin.buffer.read()
    found: list[Finding] = check_standalone(STANDARD_INPUT, data, given)
    report = Report(form)
    for finding in found:
        report.add(finding)
    return report.end("standard input")
