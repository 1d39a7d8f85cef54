"""How each table is."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta
from typing import TYPE_CHECKING

from rich.text import Text

from brenvik.cli.render import paper
from brenvik.ledger.entries import now

if TYPE_CHECKING:
    from brenvik.project.project import Project
    from brenvik.project.status import TableStatus


def show_status(project: Project, found: Sequence[TableStatus], code: int, *, json: bool) -> None:
    if json:
        paper.print_json(
            project,
            exit=code,
            tables=[{**vars(each), "needs_attention": each.needs_attention, "is_well": each.is_well} for each in found],
        )
        return
    out = paper.console()
    paper.heading(out, project, dated=True)
    counts = {
        "open rejects": [each.open_rejects for each in found],
        "held deletes": [each.held_deletes for each in found],
        "protected": [each.protected for each in found],
        **{state: [each.since[state] for each in found] for state in ("failed", "refused", "lost")},
    }
    used = [name for name, numbers in counts.items() if any(numbers)]
    table = paper.table_of("table", "last good run", "ago", "behind", "waiting", *used, "", right=used)
    for index, each in enumerate(found):
        ago = now() - each.last_at if each.last_at else None
        table.add_row(
            each.table,
            f"{each.last_run} · {each.last_at:%Y-%m-%d %H:%M}" if each.last_at else "none",
            paper.span(ago) if ago is not None else "–",
            "unknown"
            if each.errors
            else "–"
            if each.behind_s is None
            else paper.span(timedelta(seconds=each.behind_s)),
            ", ".join(paper.many(number, unit) for unit, number in each.waiting.items()) or "–",
            *(paper.count(counts[name][index]) for name in used),
            Text("overdue", style="red")
            if each.overdue
            else Text("source down", style="yellow")
            if each.errors
            else "",
        )
    paper.indented(out, table)
    out.print()
    for each in found:
        if each.overdue and each.expected_every:
            out.print(
                Text(
                    f"  {each.table}  overdue: a good run is expected every {paper.span(each.expected_every)}",
                    style="red",
                )
            )
        for told_line in (*each.errors, *each.attention):
            out.print(Text(f"  {each.table}  {told_line}", style="yellow"))
    if any(each.overdue or each.errors or each.attention for each in found):
        out.print()
    unwell = [each for each in found if not each.is_well]
    looks = "brenvik runs" if any(any(each.since.values()) for each in found) else ""
    rejects = "brenvik rejects" if any(counts["open rejects"]) else ""
    holds = "brenvik held" if any(counts["held deletes"]) else ""
    looks = ", ".join(filter(None, [looks, rejects, holds]))
    look = f"    look: {looks}" if looks else ""
    told_well = "all is well" if not unwell else f"{len(found) - len(unwell)} well, {len(unwell)} to look at"
    out.print(Text(f"  {told_well}{look}    exit {code}"))
