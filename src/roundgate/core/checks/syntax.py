"""Is the file a text, and is it written as its format wants it?"""

from __future__ import annotations

from collections.abc import Collection, Iterator

from roundgate.core.checks.context import CheckContext
from roundgate.core.checks.standalone import finding_of, hide_secrets, problems_here
from roundgate.core.findings import Finding, FindingCode, Place

CODES = (
    FindingCode(
        "file-not-text",
        "error",
        "A file that is not text",
        "It holds bytes that no text has, or says one encoding and uses another. It was damaged, or is not text. "
        "Restore it from a backup; Round Gate does not guess.",
    ),
    FindingCode(
        "file-missing",
        "warning",
        "A file that does not exist",
        "The rulebook expects it. Where the server makes it itself, start the server once. "
        "Without it, the server uses its defaults.",
    ),
    FindingCode(
        "file-name-near",
        "warning",
        "A file whose name is nearly the one that the server reads",
        "Capitals, an ending too many or a letter off: the server does not find it, and uses its defaults.",
        "GuestList.txt",
        "guestlist.txt",
    ),
    FindingCode(
        "file-unreadable",
        "error",
        "A file that cannot be read",
        "The system refuses it to this user. Ask the owner, or change its permissions.",
    ),
    FindingCode(
        "server-unreadable",
        "error",
        "A server that cannot be inspected",
        "Its folder is not there, or its rulebook is broken, so none of its files could be checked. "
        "The other servers of the site were.",
    ),
)


def check_files(context: CheckContext) -> Iterator[Finding]:
    """Find files that are missing, cannot be read, or are no text."""
    for path, unread in context.unreadable.items():
        do = "Fix or restore the file, then check again."
        yield context.finding(unread.code, "error", Place(path), f"{unread.cause}.", do)
    for file in context.book.file.values():
        if file.path in context.files.texts or file.path in context.unreadable or file.made == "by-hand":
            continue  # what a person makes by hand is not missing where nobody has made it
        step = context.command("start") if file.made == "first-run" else "Restore it, or write a new one."
        why = "the server makes it at its first start" if file.made == "first-run" else "the server needs it"
        yield context.finding("file-missing", "warning", Place(file.path), f"{file.path} is not there; {why}.", step)


def check_syntax(context: CheckContext, written: Collection[str] | None = None) -> Iterator[Finding]:
    """Yield what the formats' readers noticed, in all files or in those that were written."""
    for path in context.files.texts if written is None else [text for text in context.files.texts if text in written]:
        document = context.files.document(path)
        if document is None:
            continue
        given = context.files.format_name(path)
        for problem in problems_here(path, document, given):
            place = context.place(path, problem.start, problem.end, is_broken=True)
            finding = finding_of(problem, place, document.text, context.server)
            yield hide_secrets(finding, context.secrets_on_line(path, problem.start, is_broken=True))
