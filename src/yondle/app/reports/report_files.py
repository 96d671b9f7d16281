"""Writes a logbook's report as a file; the libraries for each kind load when it is asked for."""

from __future__ import annotations

from pathlib import Path

from yondle.app.reports.reporting import report_of
from yondle.formats.whole_files import write_whole
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.marks import NIGHT, PAPER
from yondle.reports.content import Report
from yondle.views.shared.snapshot import Snapshot

__all__ = ["KINDS", "Report", "report_bytes", "report_preview", "write_report"]
KINDS = (".html", ".pdf", ".md")


def report_bytes(report: Report, kind: str) -> bytes:
    """Write a report as HTML, PDF or Markdown; raises KnownError for another kind."""
    if kind in (".html", ".htm"):
        from yondle.reports.html import html

        return html(report).encode()
    if kind == ".pdf":
        from yondle.reports.pdf import pdf

        return pdf(report)
    if kind in (".md", ".markdown"):
        from yondle.reports.markdown import markdown

        return markdown(report).encode()
    raise KnownError(
        say("A report isn't written as '{kind}'.", kind=kind),
        say("End the name in {kinds} or {last}.", kinds=", ".join(KINDS[:-1]), last=KINDS[-1]),
    )


def report_preview(report: Report, night: bool) -> tuple[str, dict[str, str]]:
    """Give a report as plain HTML for a text view, with its pictures as SVG by name."""
    from yondle.reports.preview import preview

    return preview(report, NIGHT if night else PAPER)


def write_report(book: Snapshot, path: Path) -> int:
    """Write the report of a logbook; gives its size in bytes. Raises KnownError where it can't be written."""
    made = report_bytes(report_of(book), path.suffix.lower())
    write_whole(path, made)
    return len(made)
