"""What a check found."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.text import Text

from brenvik.cli.render import paper
from brenvik.model.addresses import without_secrets

if TYPE_CHECKING:
    from brenvik.project.check import Finding
    from brenvik.project.project import Project


def show_findings(project: Project, findings: Sequence[Finding], *, json: bool) -> None:
    if json:
        paper.print_json(project, store=without_secrets(project.store), tables=findings)
        return
    out = paper.console()
    paper.heading(out, project, dated=True)
    for finding in findings:
        news = "new, created by the first load" if finding.is_new else "exists"
        if finding.foreign:
            news = f"exists, not in the ledger, {paper.many(finding.rows, 'rows')}"
        out.print(Text(f"  {finding.table}: {news}", style="bold"))
        for feed in finding.feeds:
            out.print(
                Text(
                    f"    feed {feed.feed}: {feed.kind} from {feed.reads}, {paper.many(feed.waiting, feed.unit)} waiting"
                )
            )
        if finding.columns:
            table = paper.table_of("column", "type", "", "what")
            for column in finding.columns:
                table.add_row(column["column"], column["type"], column["given"], column["what"])
            paper.indented(out, table, by=6)
        for fault in finding.faults:
            text = fault.replace("\n", "\n    ")
            out.print(Text(f"    error: {text}", style="red"))
        for text in finding.attention:
            out.print(Text(f"    needs attention: {text}", style="yellow"))
        for note in finding.notes:
            out.print(Text(f"    {note}"))
        if finding.foreign and not finding.faults:
            out.print(Text(f"    It matches its rules. To take it over: brenvik adopt {finding.table} --preview"))
        out.print()
    bad = [finding for finding in findings if finding.faults]
    if bad:
        out.print(Text(f"  {len(bad)} of {len(findings)} tables cannot be loaded as declared.    exit 2"))
    elif any(finding.attention for finding in findings):
        out.print(Text("  Every table can be loaded; something needs attention first.    exit 4"))
    else:
        out.print(Text("  OK    next: brenvik preview"))


def show_rights(project: Project, address: str, missing: Sequence[str], *, json: bool) -> None:
    if json:
        paper.print_json(project, store=address, missing=list(missing))
        return
    out = paper.console()
    paper.heading(out, project, address, "rights")
    if not missing:
        out.print(Text("  The user has all the rights that a load needs."))
        return
    out.print(Text(f"  {paper.many(len(missing), 'rights')} must be granted before a load can write:"))
    out.print()
    for each in missing:
        out.print(Text(f"    {each}"))
    out.print()
    out.print(Text("  Then check again: brenvik check --rights    exit 2"))
